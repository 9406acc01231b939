"""The demo's messages as files, built from the HTML beside this module."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from email.message import EmailMessage
from email.policy import SMTP
from pathlib import Path
from typing import Any

from jetwind.apps.demo import pictures

_FILES = Path(__file__).parent / "files"
_DOMAIN = "saltmarsh-kiln.example"
_NAME = "Saltmarsh Kiln Works"


def _mail(html: str, text: str | None, images: dict[str, bytes], **headers: str) -> bytes:
    mail = EmailMessage(policy=SMTP)
    for name, value in headers.items():
        mail[name.replace("_", "-")] = value
    body: EmailMessage = mail
    if text is not None:
        mail.set_content(text, charset="utf-8")
        mail.add_alternative(html, subtype="html", charset="utf-8")
        body = mail.get_payload()[-1]  # type: ignore[index, assignment]
    else:
        mail.set_content(html, subtype="html", charset="utf-8")
    for name, data in images.items():
        kind, ending = ("png", "png") if data.startswith(b"\x89PNG") else ("jpeg", "jpg")
        body.add_related(data, "image", kind, cid=f"<{name}@{_DOMAIN}>", filename=f"{name}.{ending}", disposition="inline")
    # Boundaries are drawn by chance otherwise, and the demo's bytes should be the same on every machine.
    for number, part in enumerate(part for part in mail.walk() if part.is_multipart()):
        part.set_boundary(f"=_saltmarsh_{number}")
    return mail.as_bytes()


def clean_sale() -> bytes:
    """The spring glaze sale: nothing wrong with it."""
    images = {
        "wordmark": pictures.wordmark(),
        "shelf": pictures.shelf(),
        "tidepool": pictures.glaze("tidepool"),
        "ember": pictures.glaze("ember"),
    }
    return _mail(
        (_FILES / "spring-glaze-sale.html").read_text("utf-8"),
        (_FILES / "spring-glaze-sale.txt").read_text("utf-8"),
        images,
        Subject="Twelve glazes, a fifth off until Sunday",
        From=f"Saltmarsh Kiln Works <glaze@{_DOMAIN}>",
        Reply_To=f"Saltmarsh Kiln Works <studio@{_DOMAIN}>",
        List_Unsubscribe=f"<https://www.{_DOMAIN}/leave?m={{{{ member_number }}}}>, <mailto:leave@{_DOMAIN}?subject=unsubscribe>",
        List_Unsubscribe_Post="List-Unsubscribe=One-Click",
    )


def autumn_sale() -> bytes:
    """The autumn glaze sale, made from the spring one by somebody in a hurry: its dates, prices and campaign need a second look."""
    changes = [
        ("until Sunday 14 March every litre", "until Sunday 11 October every litre"),
        ("the new Tidepool and Ember among them.", "the the new Tidepool and Ember among them, now £18 a litre."),
        ("Twelve glazes, a fifth off", "Autumn glazes, a fifth off"),
    ]
    html = (_FILES / "spring-glaze-sale.html").read_text("utf-8")
    text = " ".join((_FILES / "spring-glaze-sale.txt").read_text("utf-8").split(" "))
    for before, after in changes:
        html = html.replace(before, after)
    text = text.replace(
        "until Sunday 14 March every litre of glaze at the works costs a fifth less,",
        "until Sunday 11 October every litre of glaze at the works costs a fifth less,",
    )
    text = text.replace("the new Tidepool and Ember among them. Bring", "the new Tidepool and Ember among them, now £16 a litre. Bring")
    images = {
        "wordmark": pictures.wordmark(),
        "shelf": pictures.shelf(),
        "tidepool": pictures.glaze("tidepool"),
        "ember": pictures.glaze("ember"),
    }
    return _mail(
        html,
        text,
        images,
        Subject="Autumn glazes, a fifth off until Sunday",
        From=f"Saltmarsh Kiln Works <glaze@{_DOMAIN}>",
        Reply_To=f"Saltmarsh Kiln Works <studio@{_DOMAIN}>",
        List_Unsubscribe=f"<https://www.{_DOMAIN}/leave?m={{{{ member_number }}}}>, <mailto:leave@{_DOMAIN}?subject=unsubscribe>",
        List_Unsubscribe_Post="List-Unsubscribe=One-Click",
    )


def faulty_weekend() -> bytes:
    """The open-studio weekend: something wrong at every station."""
    html = (_FILES / "open-studio-weekend.html").read_text("utf-8")
    # Styles that every campaign since 2019 left behind: this is how real messages grow past the point where they are cut off.
    left_over = "\n".join(
        f"    .season-{year}-{number:03d} td.panel {{ padding: {number % 24}px 12px; border-color: #d9d5ca; }}"
        for year in range(2019, 2027)
        for number in range(180)
    )
    images = {"wordmark": pictures.wordmark(), "studio": pictures.grainy_studio()}
    return _mail(
        html.replace("/* left-over styles */", left_over),
        None,
        images,
        Subject="OPEN STUDIO WEEKEND AT SALTMARSH KILN WORKS!! THROW, GLAZE, FIRE, TAKE HOME",
        From=f"studio@{_DOMAIN}",
        To=f"members@{_DOMAIN}, friends@{_DOMAIN}",
    )


def courses_letter() -> bytes:
    """Courses in spring: its pictures lie on a server, and its links lead to every kind of answer."""
    return _mail(
        (_FILES / "courses-in-spring.html").read_text("utf-8"),
        (_FILES / "courses-in-spring.txt").read_text("utf-8"),
        {},
        Subject="Wheels, raku and lustre: courses in spring",
        From=f"Saltmarsh Kiln Works <courses@{_DOMAIN}>",
        Reply_To=f"Saltmarsh Kiln Works <studio@{_DOMAIN}>",
        List_Unsubscribe=f"<https://www.{_DOMAIN}/leave?m={{{{ member_number }}}}>, <mailto:leave@{_DOMAIN}?subject=unsubscribe>",
        List_Unsubscribe_Post="List-Unsubscribe=One-Click",
    )


@dataclass(frozen=True, slots=True)
class LetterAbroad:
    """The course letter in another language: its working title, the country of its readers, and the message."""

    working_title: str
    country: str
    raw: bytes


def letters_abroad() -> dict[str, LetterAbroad]:
    """The course letter to readers abroad, by language: one in order, three with a fault in their footer."""
    given = tomllib.loads((_FILES / "letters-abroad.toml").read_text("utf-8"))
    return {language: LetterAbroad(words["working_title"], words["country"], _abroad(language, words)) for language, words in given.items()}


def _abroad(language: str, words: dict[str, str]) -> bytes:
    return _letter({**words, "language": language, "copy": [words["copy"]], "page": "courses"})


def _letter(words: Mapping[str, Any]) -> bytes:
    """A letter of a few paragraphs with one button, and a footer."""
    home = f"https://www.{_DOMAIN}"
    leave, choose = (f"{home}/{page}?m={{{{ member_number }}}}" for page in ("leave", "choose"))
    before = words.get("out_before", "")
    link = '<a href="{}" style="color:#1f5f8b">{}</a>'
    ways = [f"{before}{link.format(leave, words['out'])}", link.format(choose, words["choose"]) if words["choose"] else ""]
    lines = [words["reason"], words["address"], " · ".join(way for way in ways if way)]
    html = (_FILES / "letter-abroad.html").read_text("utf-8")
    given = {**words, "footer": "<br>\n              ".join(line for line in lines if line)}
    given["copy"] = '</p>\n              <p style="margin:0 0 12px">'.join(words["copy"])
    for name, value in given.items():
        html = html.replace(f"{{{name}}}", value)
    copy = "\n\n".join(words["copy"])
    text = [words["title"], f"{words['greeting']}\n{copy}", f"{words['action']}: {home}/{words['page']}"]
    text += [line for line in (words["reason"], words["address"]) if line]
    text.append(f"{before or words['out'] + ': '}{leave}" + (f"\n{words['choose']}: {choose}" if words["choose"] else ""))
    return _mail(
        html,
        "\n\n".join(text) + "\n",
        {},
        Subject=words["subject"],
        From=f"Saltmarsh Kiln Works <courses@{_DOMAIN}>",
        List_Unsubscribe=f"<{leave}>",
        List_Unsubscribe_Post="List-Unsubscribe=One-Click",
    )


def letters_of_the_past() -> dict[str, list[bytes]]:
    """The letters that went through several hands before the demo begins: by name, revision after revision."""
    found: dict[str, list[bytes]] = {}
    for name, revisions in tomllib.loads((_FILES / "past.toml").read_text("utf-8")).items():
        words: dict[str, Any] = {"language": "en"}
        for changed in revisions:
            words |= changed
            found.setdefault(name, []).append(_letter(words))
    return found


@dataclass(frozen=True, slots=True)
class SlotPaper:
    """One automatic message about a firing slot: its name in the set, working title, file name, the message, and a later revision, if any."""

    member: str
    working_title: str
    file_name: str
    raw: bytes
    later: bytes = b""


def slot_papers() -> dict[str, SlotPaper]:
    """The automatic messages about a firing slot, by name. They share their head and foot, but for one that somebody made elsewhere."""
    found = {}
    for name, words in tomllib.loads((_FILES / "slot-papers.toml").read_text("utf-8")).items():
        given = {"address": f"{_NAME}, 12 Kiln Quay, Saltmarsh SM4 7KW", "sender": _NAME, "scheme": "https", **words}
        later = _slot_paper({**given, "address": words["later_address"]}) if "later_address" in words else b""
        found[name] = SlotPaper(words["member"], words["working_title"], words["file"], _slot_paper(given), later)
    return found


def _slot_paper(words: Mapping[str, str]) -> bytes:
    html = (_FILES / "slot-paper.html").read_text("utf-8")
    for placeholder, value in words.items():
        html = html.replace(f"{{{placeholder}}}", value)
    link = f"{words['action']}:\n{words['scheme']}://www.{_DOMAIN}/{words['page']}?m={{{{ member_number }}}}"
    text = [words["title"], 'Hello {{ first_name | default: "there" }},', words["copy"], link, words["address"]]
    return _mail(
        html,
        "\n\n".join(text) + "\n",
        {"wordmark": pictures.wordmark()},
        Subject=words["subject"],
        From=f"{words['sender']} <studio@{_DOMAIN}>",
        To="{{ email }}",
    )


def pick_up_notice() -> bytes:
    """The notice that a firing can be collected: transactional."""
    return slot_papers()["ready"].raw
