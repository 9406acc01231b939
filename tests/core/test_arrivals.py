"""A copy and its arrival: harmless changes of the transport are none, every other change is told once, by its kind and at its place."""

from __future__ import annotations

import email
import io
import random
import re
from collections import Counter
from collections.abc import Iterator
from email.message import EmailMessage
from email.policy import SMTP
from functools import lru_cache
from typing import ClassVar

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from jetwind.core.arrivals import Difference, compare
from jetwind.core.arrivals.differences import Compared
from jetwind.core.arrivals.leading import to_follow, with_ends
from jetwind.core.links import links
from jetwind.core.links.answers import Answer, Hop, Page
from jetwind.core.links.opening import DoorKeeping
from jetwind.core.message import Message, read_bytes
from jetwind.core.prose.reading import reading_of
from tests.factories import GOOD_HTML, GOOD_TEXT, mail, picture
from tests.references import newsletters

HTML = GOOD_HTML.replace('{{ first_name | default: "there" }}', "Tove")
TEXT = GOOD_TEXT.replace('{{ first_name | default: "there" }}', "Tove")


def read(raw: bytes) -> Message:
    """The message of a mail."""
    return read_bytes(raw, "a.eml")


def kinds(before: bytes, after: bytes) -> list[str]:
    """The kinds of what differs."""
    return [one.kind for one in compare(read(before), read(after))]


def told(before: bytes, after: bytes) -> Difference:
    """The only difference."""
    (one,) = compare(read(before), read(after))
    return one


def answer(end: str, status: int = 200, title: str = "Glazes", problem: str = "") -> Answer:
    """An answer to an address that leads to another one."""
    page = Page(title=title, heading=title)
    return Answer("", "", (Hop(end, "GET", status, 0, 0),) if not problem else (), problem=problem, page=page)  # type: ignore[arg-type]


class TestRewrittenLinks:
    """Whether a link that was rewritten on the way still ends at the page that was reviewed."""

    COMPARED = Compared(
        "rosa@kiln.org",
        1,
        (
            Difference("link-rewritten", "HTML", "Rewritten.", before="https://kiln.org/s", after="https://guard.org/?to=s"),
            Difference("link-rewritten", "HTML", "Leave.", before="https://kiln.org/leave", after="https://guard.org/?to=l"),
            Difference("text-changed", "HTML", "Words.", before="https://kiln.org/s", after="https://guard.org/?to=s"),
        ),
    )
    KNOWN: ClassVar = {"https://kiln.org/s": answer("https://kiln.org/glazes?visit=1")}

    @pytest.mark.parametrize(
        ("came", "said", "is_stop"),
        [
            (answer("https://kiln.org/glazes?visit=1"), "It still ends at the same page.", False),
            (answer("https://kiln.org/glazes?visit=1#top"), "It still ends at the same page.", False),
            (answer("https://kiln.org/glazes?visit=2"), "It still ends at the same page.", False),
            (answer("https://kiln.org/glazes?visit=2", title="Clay"), "It ends at another page: https://kiln.org/glazes?visit=2", True),
            (answer("https://kiln.org/clay"), "It ends at another page: https://kiln.org/clay", True),
            (answer("https://guard.org/warning"), "It ends at another page: https://guard.org/warning", True),
            (answer("https://kiln.org/glazes?visit=1", 404), "Its page is not there: status 404.", True),
            (answer("", problem="no-connection"), "It could not be followed: no-connection.", False),
        ],
    )
    def test_where_it_ends(self, came: Answer, said: str, is_stop: bool) -> None:
        """The end alone counts; servers count visits in queries; a server that does not answer Jetwind may answer a reader."""
        told = with_ends(self.COMPARED, self.KNOWN, {"https://guard.org/?to=s": came})
        assert (told.differences[0].sentence, told.differences[0].is_stop) == (f"Rewritten. {said}", is_stop)
        assert told.differences[1:] == self.COMPARED.differences[1:]

    def test_what_is_followed(self) -> None:
        """Only links whose old address was opened: no way out, no link that somebody shut, none that says that it unsubscribes."""
        keeping = DoorKeeping()
        assert to_follow(self.COMPARED, self.KNOWN, keeping) == ["https://guard.org/?to=s"]
        assert to_follow(self.COMPARED, self.KNOWN, DoorKeeping(shut=("guard.org",))) == []
        assert to_follow(self.COMPARED, {"https://kiln.org/s": answer("", problem="timed-out")}, keeping) == []
        for after in (
            "https://mail.org/unsubscribe?u=1",
            "https://mail.org/?do=%75nsubscribe",
            "mailto:a@kiln.org",
            "javascript:alert(1)",
            "",
        ):
            leads = Difference("link-rewritten", "HTML", "x", before="https://kiln.org/s", after=after)
            assert to_follow(Compared("", 1, (leads,)), self.KNOWN, keeping) == []
        many = tuple(Difference("link-rewritten", "HTML", "x", before="https://kiln.org/s", after=f"https://g.org/{n}") for n in range(90))
        assert len(to_follow(Compared("", 1, many), self.KNOWN, keeping)) == 40


# What transport does to a mail.


def carried(raw: bytes, seed: int) -> bytes:
    """The same mail as a chain of servers hands it on: written anew with other encodings, boundaries, folds, line ends and order of headers."""
    chance = random.Random(seed)
    parsed = email.message_from_bytes(raw, policy=email.policy.compat32)
    for part in parsed.walk():
        if part.is_multipart():
            part.set_boundary(f"=_{chance.getrandbits(64):x}")
            continue
        data = part.get_payload(decode=True)
        if not isinstance(data, bytes) or part.get("Content-Transfer-Encoding", "").lower() not in (
            "quoted-printable",
            "base64",
            "7bit",
            "8bit",
            "",
        ):
            continue
        encoding = chance.choice(("quoted-printable", "base64"))
        del part["Content-Transfer-Encoding"]
        part["Content-Transfer-Encoding"] = encoding
        encoded = _quoted(data) if encoding == "quoted-printable" and part.get_content_maintype() == "text" else _base64(data)
        if encoding == "quoted-printable" and part.get_content_maintype() != "text":
            part.replace_header("Content-Transfer-Encoding", "base64")
        part.set_payload(encoded)
    headers = [(name, value) for name, value in parsed.raw_items()]
    structure = [pair for pair in headers if pair[0].lower().startswith("content-") or pair[0].lower() == "mime-version"]
    others = [pair for pair in headers if pair not in structure]
    chance.shuffle(others)
    for name, _ in headers:
        del parsed[name]
    for name, value in [*_traces(chance), *others, *structure]:
        parsed[name] = re.sub(r"\r?\n[ \t]+", " \n " if chance.random() < 0.5 else " ", str(value))
    return parsed.as_bytes(policy=email.policy.compat32.clone(linesep=chance.choice(("\r\n", "\n"))))


def _traces(chance: random.Random) -> list[tuple[str, str]]:
    return [
        ("Return-Path", "<bounce@kiln.org>"),
        ("Received", "from a.kiln.org by mx.saltmarsh.example with ESMTPS id 7; Tue, 1 Dec 2026 09:00:03 +0000"),
        ("Authentication-Results", "mx.saltmarsh.example; spf=pass smtp.mailfrom=kiln.org"),
        ("X-Spam-Score", str(chance.randint(0, 9))),
    ]


def _quoted(data: bytes) -> str:
    import quopri

    return quopri.encodestring(data.replace(b"\r\n", b"\n")).decode("ascii")


def _base64(data: bytes) -> str:
    import base64

    return base64.encodebytes(data).decode("ascii")


@lru_cache(maxsize=1)
def real() -> list[tuple[str, bytes]]:
    """Twenty real newsletters with HTML that are written by the book, so that a program that writes them anew loses nothing.

    Source: the corpus named in ``tests/references.py``.
    """
    found = []
    for name, raw in newsletters():
        message = read(raw)
        parsed = email.message_from_bytes(raw)
        if message.html is None or message.defects or parsed.defects or any(part.defects for part in parsed.walk()):
            continue
        if b"\n\n" in raw and len(raw) < 120_000:
            found.append((name, raw))
    return found[:20]


class TestHarmless:
    """No false alarm: what servers do to every mail is no difference."""

    @settings(deadline=None, max_examples=60)
    @given(st.integers(0, 2**32))
    def test_a_composed_mail(self, seed: int) -> None:
        """With pictures, an attachment, letters beyond ASCII in headers and copy."""
        html = HTML.replace("</h1>", "</h1><img src='cid:pot.png' width='40' height='20' alt='A pot'><p>Für £24, «grün»</p>")
        raw = mail(
            html, TEXT + "\nFür £24\n", images={"pot.png": picture()}, attachments={"plan.pdf": b"%PDF-1.4 x"}, Subject="Grüße, £24 €"
        )
        assert kinds(raw, carried(raw, seed)) == []

    @pytest.mark.parametrize("number", range(20))
    def test_real_mail(self, number: int) -> None:
        """Five ways for each of twenty newsletters that nobody here wrote."""
        name, raw = real()[number]
        for seed in range(5):
            assert kinds(raw, carried(raw, seed)) == [], (name, seed)

    def test_a_mail_with_itself(self) -> None:
        """Nothing differs, whatever is wrong with it."""
        for name, raw in newsletters()[::3]:
            assert compare(read(raw), read(raw)) == (), name

    def test_the_mark_of_a_test_is_apart(self) -> None:
        """A copy is sent with a mark before its subject."""
        assert kinds(mail(HTML, TEXT), mail(HTML, TEXT, Subject="[Test r3] Twelve glazes, a fifth off")) == []


# What boxes do to mails that change them: each function makes one harmful change, and says its kind.


HARMED = HTML.replace("</head>", "<style>p { color: #222222; margin: 0 }</style></head>").replace("<h1>", "<h1 style='color:#222'>")


def harmed(old: str = "", new: str = "", sender: str = "Kiln Works <hello@kiln.org>", leave: str = "<https://www.kiln.org/leave>") -> bytes:
    """The mail whose HTML was changed, or that has another sender or way out."""
    assert old in HARMED
    html = HARMED.replace(old, new) if old else HARMED
    return mail(html, TEXT, attachments={"plan.pdf": b"%PDF-1.4 x"}, From=sender, List_Unsubscribe=leave)


_LINK = ('href="https://www.kiln.org/sale"', 'href="https://guard.example/?u=https%3A%2F%2Fwww.kiln.org%2Fsale"')


class TestHarmful:
    """Each change is told once, by its kind, with both sides."""

    RAW = harmed()

    @pytest.mark.parametrize(
        ("after", "kind", "words"),
        [
            (harmed("</body>", "<p>Checked for viruses by the gateway.</p></body>"), "added-content", "Checked for viruses"),
            (harmed("</body>", "<img src='https://count.example/p.gif' width='1' height='1'></body>"), "added-content", "counts openings"),
            (harmed(*_LINK), "link-rewritten", "guard.example"),
            (harmed("signed up.</p>", "asked.</p>"), "text-changed", "“signed up.” became “asked.”"),
            (harmed("<style>p { color: #222222; margin: 0 }</style>"), "style-lost", "A style sheet of"),
            (harmed(" style='color:#222'"), "style-lost", "1 of 2 style attributes"),
            (harmed(sender="Kiln Works <relay@guard.example>"), "header-lost", "relay@guard.example"),
            (harmed(leave="<https://guard.example/leave>"), "header-lost", "List-Unsubscribe was"),
        ],
    )
    def test_one_change(self, after: bytes, kind: str, words: str) -> None:
        """A single one."""
        one = told(self.RAW, after)
        assert (one.kind, words in one.sentence) == (kind, True), one.sentence

    def test_heavy_headers(self) -> None:
        """Without the way out of the list or with another sender, a mail must not go out so."""
        without = mail(HTML, TEXT, without=("List-Unsubscribe",))
        assert (told(mail(HTML, TEXT), without).is_stop, "is gone" in told(mail(HTML, TEXT), without).sentence) == (True, True)
        assert told(self.RAW, harmed(sender="Kiln Works <relay@guard.example>")).is_stop
        assert not told(mail(HTML, TEXT, X_Note="a", Organization="Kiln"), mail(HTML, TEXT)).is_stop

    def test_places(self) -> None:
        """Where it stands on both sides, in characters of the decoded part."""
        after = harmed(*_LINK)
        one = told(self.RAW, after)
        copy, arrival = read(self.RAW), read(after)
        assert copy.html is not None and arrival.html is not None and one.copy_at is not None and one.arrival_at is not None
        assert copy.html.text[slice(*one.copy_at)] == one.before == "https://www.kiln.org/sale"
        assert arrival.html.text[slice(*one.arrival_at)] == one.after

    def test_the_html_is_dropped(self) -> None:
        """One difference, and none for each word, link and style of it."""
        one = told(mail(HTML, TEXT), mail(None, TEXT))
        assert (one.kind, one.sentence) == ("part-lost", "The HTML part is gone.")

    def test_the_order_of_parts(self) -> None:
        """The last one is what programs show."""
        raw = mail(HTML, TEXT)
        parsed = email.message_from_bytes(raw)
        parsed.set_payload(list(parsed.walk())[:0:-1])  # type: ignore[arg-type]
        assert told(raw, parsed.as_bytes()).sentence == "The parts stand in another order, so that programs show the plain text."

    def test_letters_that_a_charset_lacks(self) -> None:
        """They are told as lost characters."""
        raw = mail(HTML.replace("See the glazes", "See the glazes for £24 – grün"), TEXT)
        one = told(raw, mail(HTML.replace("See the glazes", "See the glazes for ?24 ? gr?n"), TEXT))
        assert one.kind == "text-changed" and one.sentence.startswith("Characters of the HTML were lost: £ – ü in")

    def test_an_attachment_with_other_content(self) -> None:
        """Its name alone is not enough."""
        after = mail(HARMED, TEXT, attachments={"plan.pdf.removed": b"removed"})
        one, other = compare(read(self.RAW), read(after))
        assert (one.kind, one.sentence) == ("part-lost", "The attachment plan.pdf is gone.")
        assert other.sentence == "An attachment was added: plan.pdf.removed."

    def test_links_that_are_none_any_more(self) -> None:
        """The words stay, and lead nowhere."""
        after = mail(HTML.replace('<a href="https://www.kiln.org/sale">See the glazes</a>', "See the glazes"), TEXT)
        one = told(mail(HTML, TEXT), after)
        assert (one.kind, one.is_stop, "no link any more" in one.sentence) == ("link-rewritten", True, True)

    def test_addresses_of_the_plain_text(self) -> None:
        """They are compared by themselves, so that the words around them are not told."""
        one = told(mail(HTML, TEXT), mail(HTML, TEXT.replace("https://www.kiln.org/sale", "https://guard.example/s?u=1")))
        assert (one.kind, one.part) == ("link-rewritten", "plain text")


def with_html(raw: bytes, html: str) -> bytes:
    """The mail with other HTML, in UTF-8 and base64."""
    parsed = email.message_from_bytes(raw, policy=email.policy.compat32)
    part = next(part for part in parsed.walk() if part.get_content_type() == "text/html" and part.get_content_disposition() != "attachment")
    del part["Content-Transfer-Encoding"]
    part["Content-Transfer-Encoding"] = "base64"
    part.set_param("charset", "utf-8")
    part.set_payload(_base64(html.encode("utf-8", "surrogatepass")))
    return parsed.as_bytes()


Harm = tuple[str, str, tuple[int, int] | None]


def harms(message: Message, chance: random.Random) -> Iterator[Harm]:
    """Harmful changes of a message's HTML, by chance: the kind, the changed HTML, and the place in the copy where there is one."""
    assert message.html is not None and message.document is not None
    html = message.html.text
    leads = [
        link
        for link in links(message)
        if link.span is not None
        and link.element is not None
        and link.scheme in ("http", "https")
        and not message.cascade.is_hidden(link.element)
    ]
    if leads:
        span = chance.choice(leads).span
        assert span is not None
        yield "link-rewritten", f"{html[: span.start]}https://guard.example/to?x=1{html[span.end :]}", (span.start, span.end)
    at = html.lower().rfind("</body>") if "</body>" in html.lower() else len(html)
    for added in ('<img src="https://count.example/p.gif" width="1" height="1" alt="">', "<p>Checked for viruses by the gateway.</p>"):
        yield "added-content", html[:at] + added + html[at:], None
    word = re.compile(r"(?<![\w@.:/-])[A-Za-z]{5,}(?![\w@.:/-])")
    words = [(passage, match) for passage in reading_of(message).passages for match in word.finditer(passage.text)]
    passage, match = chance.choice(words)
    place, _ = passage.span(message.document.source, match.start(), match.end())
    if place is not None and html[place.start : place.end] == match[0]:
        yield "text-changed", f"{html[: place.start]}Gatewayed{html[place.end :]}", (place.start, place.end)
    if sheet := re.search(r"(?is)<style\b[^>]*>(?=.*\{).*?</style\s*>", html):
        yield "style-lost", html[: sheet.start()] + html[sheet.end() :], None


class TestHarmedRealMail:
    """Messages that nobody here wrote, harmed by a seeded script and carried by servers: one difference, of its kind, at its place."""

    def test_each_is_told_once(self) -> None:
        """Thirty messages, each harmed in every way that its HTML allows."""
        tried: Counter[str] = Counter()
        whole = [(name, raw) for name, raw in newsletters() if (html := read(raw).html) is not None and len(html.text) > 500]
        # A program that writes them anew must not change them by itself.
        ready = [(name, raw) for name, raw in whole if (html := read(raw).html) and kinds(raw, with_html(raw, html.text)) == []][:30]
        for number, (name, raw) in enumerate(ready):
            message = read(raw)
            for kind, harmed_html, place in harms(message, random.Random(name)):
                tried[kind] += 1
                found = compare(message, read(carried(with_html(raw, harmed_html), number)))
                assert [one.kind for one in found] == [kind], (name, kind, [one.sentence for one in found])
                at = found[0].copy_at
                assert place is None or (at is not None and at[0] <= place[0] and place[1] <= at[1]), (name, kind, place, at)
        assert len(ready) >= 20 and min(tried[kind] for kind in ("link-rewritten", "text-changed", "added-content")) >= 20, tried
        assert tried["style-lost"] >= 5

    @pytest.mark.parametrize("number", range(20))
    def test_headers_and_parts(self, number: int) -> None:
        """The sender is another, the way out is gone, and the HTML is gone."""
        name, raw = real()[number]
        parsed = email.message_from_bytes(raw, policy=email.policy.compat32)
        del parsed["From"]
        parsed["From"] = "Relay <relay@guard.example>"
        (one,) = compare(read(raw), read(carried(parsed.as_bytes(), number)))
        assert (one.kind, one.is_stop) == ("header-lost", True), name
        parsed = email.message_from_bytes(raw, policy=email.policy.compat32)
        if parsed["List-Unsubscribe"]:
            del parsed["List-Unsubscribe"]
            del parsed["List-Unsubscribe-Post"]
            assert {one.kind for one in compare(read(raw), read(carried(parsed.as_bytes(), number)))} == {"header-lost"}, name


class TestPictures:
    """The same picture saved anew is the same; another one is not."""

    @staticmethod
    def drawing(seed: int, size: tuple[int, int] = (240, 160)) -> Image.Image:
        """Boxes in colours by chance: something to see."""
        chance = random.Random(seed)
        made = Image.new("RGB", size, "#f4efe6")
        for _ in range(14):
            x, y = chance.randrange(size[0]), chance.randrange(size[1])
            made.paste(tuple(chance.randrange(256) for _ in range(3)), (x, y, x + chance.randint(10, 80), y + chance.randint(10, 60)))
        return made

    def sent(self, data: bytes, name: str = "pot.png") -> bytes:
        """A mail with one picture."""
        return mail(HTML.replace("</h1>", f"</h1><img src='cid:{name}' alt='A pot'>"), TEXT, images={name: data})

    @staticmethod
    def saved(made: Image.Image, form: str, **more: int) -> bytes:
        """A file of it."""
        out = io.BytesIO()
        made.save(out, form, **more)
        return out.getvalue()

    def test_saved_anew(self) -> None:
        """As JPEG of a gateway's quality, and smaller."""
        made = self.drawing(1)
        before = self.sent(self.saved(made, "PNG"))
        assert kinds(before, self.sent(self.saved(made, "JPEG", quality=75))) == []
        assert kinds(before, self.sent(self.saved(made.resize((200, 133)), "PNG"))) == []

    @pytest.mark.parametrize("seed", range(2, 8))
    def test_another_one(self, seed: int) -> None:
        """Told with how alike the two look."""
        one = told(self.sent(self.saved(self.drawing(1), "PNG")), self.sent(self.saved(self.drawing(seed), "PNG")))
        assert one.kind == "picture-lost" and "% alike" in one.sentence

    def test_gone(self) -> None:
        """The part, or the element that shows it."""
        before = self.sent(self.saved(self.drawing(1), "PNG"))
        without_part = mail(HTML.replace("</h1>", "</h1><img src='cid:pot.png' alt='A pot'>"), TEXT)
        assert told(before, without_part).kind == "picture-lost"
        assert (
            told(before, mail(HTML, TEXT, images={"pot.png": self.saved(self.drawing(1), "PNG")})).sentence == "The picture A pot is gone."
        )

    def test_loaded_from_elsewhere(self) -> None:
        """A proxy's address in the place of the server's."""
        before = mail(HTML.replace("</h1>", "</h1><img src='https://pictures.kiln.org/pot.png' alt='A pot'>"), TEXT)
        after = mail(HTML.replace("</h1>", "</h1><img src='https://proxy.example/x?u=pot' alt='A pot'>"), TEXT)
        assert told(before, after).sentence == "The picture A pot comes from https://proxy.example/x?u=pot now."


class TestBounds:
    """A hostile arrival is compared within bounds, and what is kept is read back."""

    RAW = harmed()

    def test_many_differences(self) -> None:
        """Of each kind the first are told."""
        many = "".join(f"<p>Strange sentence number {number} about zebras.</p>" for number in range(2_000))
        found = compare(read(mail(HTML, TEXT)), read(mail(HTML.replace("</body>", f"{many}</body>"), TEXT)))
        assert len(found) == 200

    @pytest.mark.parametrize(
        "raw", [b"", b"From: a@b.org\n\n" + b"<" * 20_000, b"Content-Type: multipart/mixed; boundary=x\n\n--x\n--x--\n"]
    )
    def test_nonsense(self, raw: bytes) -> None:
        """Nothing raises."""
        compare(read(mail(HTML, TEXT)), read(raw or b"From: x"))
        compare(read(raw or b"From: x"), read(mail(HTML, TEXT)))

    def test_kept_and_read(self) -> None:
        """The comparison as a table of plain values."""
        found = compare(read(self.RAW), read(harmed(*_LINK)))
        compared = Compared("rosa@saltmarsh-kiln.example", 1, found)
        assert Compared.from_json(compared.as_json()) == compared


def test_a_mail_from_an_independent_writer() -> None:
    """The standard library writes the same mail anew by its modern policy, and nothing differs."""
    raw = mail(HTML, TEXT, images={"pot.png": picture()})
    again = email.message_from_bytes(raw, policy=SMTP)
    assert isinstance(again, EmailMessage)
    assert kinds(raw, again.as_bytes()) == []
