"""Letters beyond ASCII arrive as they were written."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from jetwind.core.checking import Context, DoesNotApply, Finding, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.message import Message, TextPart
from jetwind.core.message.charsets import decode_octets, encode_octets, encoding_of
from jetwind.core.message.mime import document_charset
from jetwind.core.source import Span

_MAIL = "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: text/html{}\nContent-Transfer-Encoding: 8bit\n\n{}\n"
_UTF8 = '<meta charset="utf-8"><p>Grüße</p>'
_LATIN = '<meta charset="iso-8859-1"><p>Grüße</p>'


@check(
    id="appearance.charset",
    name="Character set missing or contradicted",
    level=Level.STOP,
    why="Accents, quotes and symbols turn into wrong letters for some readers.",
    fix="Save the HTML as UTF-8 and declare utf-8 in the part's header and in its meta element.",
    basis="RFC 2045 §5; HTML §4.2.5.4 (from memory)",
    samples=[
        clear('<meta charset="utf-8"><p>Grüße aus dem Ofen</p>'),
        clear("<p>Plain ASCII needs no declaration: &uuml;</p>"),
        clear('<meta http-equiv="Content-Type" content="text/html; charset=windows-1252"><p>Grüße</p>', encoding="cp1252"),
        clear(_MAIL.format("; charset=utf-8", "<p>Grüße</p>")),
        clear(_MAIL.format('; charset="UTF-8"', _UTF8)),
        clear(_MAIL.format("; charset=us-ascii", '<meta charset="utf-8"><p>Gr&uuml;&szlig;e</p>')),
        clear(_MAIL.format("", _UTF8)),
        finds("<p>Grüße</p>"),
        finds('<meta charset="utf-8"><p>Grüße</p>', encoding="cp1252"),
        finds(_MAIL.format("", "<p>Grüße</p>")),
        clear(_MAIL.format("; charset=windows-1252", _LATIN), encoding="cp1252"),
        clear(_MAIL.format("; charset=gb2312", "<p>镕</p>"), encoding="gbk"),
        finds(_MAIL.format("; charset=utf-8", _LATIN), at="ü"),
        finds(_MAIL.format("; charset=us-ascii", _UTF8), at="Ã"),
        finds(_MAIL.format("; charset=utf-8", "<p>Gr\udcfcße aus Köln</p>"), at="\ufffd"),
        finds(_MAIL.format("; charset=punycode", "<p>Grüße</p>"), at="ü"),
        finds("Subject: x\nFrom: a@kiln.org\nContent-Type: text/plain; charset=us-ascii\n\nGrüße\n", at="Ã"),
    ],
)
def find_charset(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A text with letters beyond ASCII declares the charset it is in, and part and document agree on it."""
    if message.html is None and message.text is None:
        raise DoesNotApply("the message has no text")
    if message.html is not None and not message.html.text.isascii():
        yield from _in_html(message, message.html)
    if message.text is not None and not message.text.text.isascii():
        found = _unreadable(message.text, message.text.declared_charset)
        # A file beside the HTML declares nothing: what it is written in is told when the mail is made.
        if found is not None and (found.identity != "missing" or message.form == "eml"):
            place = Place.in_text(message, Span(found.at, found.at + 1))
            yield Hit(found.sentence, place, found.data, identity=found.identity)


def _in_html(message: Message, html: TextPart) -> Iterator[Hit]:
    in_document = document_charset(html.text[:8192].encode("utf-8", "replace"))
    declared = [label for label in (html.declared_charset if message.form == "eml" else None, in_document) if label]
    found = _unreadable(html, declared[0] if declared else None)
    if found is not None:
        yield Hit(found.sentence, Place.in_html(message, Span(found.at, found.at + 1)), found.data, identity=found.identity)
        return
    if len(declared) < 2:
        return
    part, document = (encoding_of(label) for label in declared)
    at = _first_difference(html.text, part, document)
    if at is not None:
        yield Hit(
            "The part says {part}, the HTML itself says {document}.",
            Place.in_html(message, Span(at, at + 1)),
            {"part": declared[0], "document": declared[1]},
            identity="differ",
        )


@dataclass(frozen=True, slots=True)
class _Fault:
    """Why a part is not what it says: the first character concerned, the sentence with its data, what makes it the same fault."""

    at: int
    sentence: str
    data: dict[str, object]
    identity: str


def _unreadable(text: TextPart, declared: str | None) -> _Fault | None:
    first = next(at for at, char in enumerate(text.text) if not char.isascii())
    used = text.charset
    if text.unknown_label:
        sentence = "The character set {declared} is none that mail programs know; it was read as {used}."
        return _Fault(first, sentence, {"declared": text.unknown_label, "used": used}, "wrong")
    if text.faults:
        at = first if text.first_fault is None else text.first_fault
        octets = "an octet that is" if text.faults == 1 else f"{text.faults:,} octets that are"
        return _Fault(at, "The text is {used} but holds {octets} no character of it.", {"used": used, "octets": octets}, "wrong")
    if text.is_utf_8:
        return _Fault(first, "The text says it is {declared} but is written in UTF-8.", {"declared": declared or used}, "wrong")
    if declared is None:
        return _Fault(first, "The text has letters beyond ASCII but declares no character set.", {}, "missing")
    return None


def _first_difference(text: str, one: str | None, other: str | None) -> int | None:
    """The first character that reads otherwise in the second of two encodings; None where none does."""
    if one is None or other is None or one == other:
        return None
    for at, char in enumerate(text):
        if not char.isascii() and decode_octets(encode_octets(char, one), other).text != char:
            return at
    return None


@mend(
    "appearance.charset",
    kind=MendKind.SURE,
    does="A meta element says the character set that the HTML is written in.",
    leaves="A character set that is said and not kept to is left to a person, who knows what the letters should be.",
    samples=[
        turns(
            "<html><head><title>x</title></head><p>Grüße</p></html>",
            '<html><head><meta charset="utf-8"><title>x</title></head><p>Grüße</p></html>',
        ),
        turns("<p>Grüße</p>", '<meta charset="utf-8"><p>Grüße</p>'),
        turns(_MAIL.format("", "<head></head><p>Grüße</p>"), _MAIL.format("", '<head><meta charset="utf-8"></head><p>Grüße</p>')),
        leaves_alone(_MAIL.format("; charset=utf-8", _LATIN)),
        leaves_alone("Subject: x\nFrom: a@kiln.org\nContent-Type: text/plain; charset=us-ascii\n\nGrüße\n"),
    ],
)
def mend_missing(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The element stands first in the head, within the 1,024 octets that are searched for it (HTML §4.2.5.4)."""
    html, document = message.html, message.document
    if html is None or document is None or html.is_utf_8 or finding.place.part != "html" or "declares no" not in finding.template:
        return
    holders = (next((one for one in document.elements(tag) if one.start_tag is not None), None) for tag in ("head", "html"))
    holder = next((one for one in holders if one is not None), None)
    at = holder.start_tag.end if holder is not None and holder.start_tag is not None else 0
    yield Change("html", Span(at, at), f'<meta charset="{html.charset}">')
