"""Letters beyond ASCII arrive as they were written."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.message import Message
from jetwind.core.message.mime import document_charset
from jetwind.core.message.words import codec_name

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
        finds(_MAIL.format("; charset=utf-8", _LATIN), at="iso-8859-1"),
        finds(_MAIL.format("; charset=us-ascii", _UTF8)),
    ],
)
def find_charset(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A text with letters beyond ASCII declares the charset it is in, and part and document agree on it."""
    html = message.html
    if html is None:
        raise DoesNotApply("the message has no HTML part")
    if html.text.isascii():
        return
    in_document = document_charset(html.text[:8192].encode("utf-8", "replace"))
    declared = [label for label in (html.declared_charset if message.form == "eml" else None, in_document) if label]
    meta = re.search(r"charset\s*=\s*[\"']?\s*([\w.:-]+)", html.text[:8192], re.IGNORECASE) if in_document else None
    place = Place("html")
    if meta is not None:
        from jetwind.core.source import Span

        place = Place.in_html(message, Span(meta.start(1), meta.end(1)))
    if not declared:
        yield Hit("The HTML has letters beyond ASCII but declares no character set.", place, identity="missing")
    elif any(defect.kind == "charset" for defect in message.defects) or codec_name(declared[0]) != codec_name(html.charset):
        yield Hit(
            "The HTML says it is {declared} but is written in {used}.",
            place,
            {"declared": declared[0], "used": html.charset},
            identity="wrong",
        )
    elif len(declared) == 2 and codec_name(declared[0]) != codec_name(declared[1]):
        yield Hit(
            "The part says {part}, the HTML itself says {document}.",
            place,
            {"part": declared[0], "document": declared[1]},
            identity="differ",
        )
