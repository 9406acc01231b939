"""An .eml of any quality to the pieces of a Message. Never raises: what is wrong becomes a defect.

RFC 5322 (format), RFC 2045 to 2047 (MIME), RFC 2231 (parameters). ``parts`` takes the octets apart; this module decides
which part is the HTML, which the plain text, what is a picture and what an attachment.
"""

from __future__ import annotations

import codecs
import re
from contextlib import suppress
from dataclasses import replace
from typing import NamedTuple

from jetwind.core.message.charsets import decode_octets, encoding_of
from jetwind.core.message.model import Defect, Header, Resource, TextPart
from jetwind.core.message.parts import HeaderField, MimePart, read_parts
from jetwind.core.message.words import decode_words
from jetwind.core.source import SourceText, Span

_META_CHARSET = re.compile(rb"""<meta[^>]{0,200}?charset\s*=\s*["']?\s*([\w.:-]+)""", re.IGNORECASE)


class MimePieces(NamedTuple):
    """The parts of an .eml."""

    header_source: SourceText
    headers: tuple[Header, ...]
    html: TextPart | None
    text: TextPart | None
    images: tuple[Resource, ...]
    attachments: tuple[Resource, ...]
    defects: tuple[Defect, ...]
    root: MimePart


def read_mime(raw: bytes) -> MimePieces:
    """Take an .eml apart."""
    root = read_parts(raw)
    header_source, headers = _headers(root)
    defects = [Defect(f"mime-{found.kind}", found.text, found.octets) for part in root.walk() for found in part.defects]
    html: TextPart | None = None
    text: TextPart | None = None
    images: list[Resource] = []
    attachments: list[Resource] = []
    alternatives = {id(child) for part in root.walk() if part.content_type == "multipart/alternative" for _, child in part.children}
    for number, part in enumerate(root.leaves, 1):
        content_type, name = part.content_type, part.file_name
        attached = part.disposition == "attachment"
        if content_type == "text/html" and html is None and not attached:
            html, found = _text_part(part, is_html=True)
            defects.extend(found)
        elif content_type == "text/plain" and text is None and not attached and not name:
            text, found = _text_part(part, is_html=False)
            defects.extend(found)
        elif not part.data.strip() and not name and not content_type.startswith("image/"):
            continue
        elif content_type == "text/plain" and text is not None and not attached and not name and id(part) not in alternatives:
            further, found = _text_part(part, is_html=False)
            text = _joined(text, further, part)
            defects.extend(found)
        else:
            content_id = re.sub(r"[<>\s]", "", part.field_body("Content-ID")) or None
            is_image = content_type.startswith("image/") and not (attached and not content_id)
            resource = Resource(name or content_id or f"part {number}", content_type, content_id, part.data)
            (images if is_image else attachments).append(resource)
    return MimePieces(
        header_source,
        headers,
        html=html,
        text=text,
        images=tuple(images),
        attachments=tuple(attachments),
        defects=tuple(defects),
        root=root,
    )


def _text_part(part: MimePart, *, is_html: bool) -> tuple[TextPart, list[Defect]]:
    made = text_part(part.data, part.parameter("charset").lower() or None, is_html=is_html, part=part)
    defect = charset_defect(made, part.body_span)
    return made, [defect] if defect else []


def _joined(text: TextPart, further: TextPart, part: MimePart) -> TextPart:
    """The text with that of a later inline part at its end, as mail programs show it (RFC 2183 §2.1)."""
    between = "" if text.text.endswith("\n") else "\n"
    return replace(
        text,
        text=text.text + between + further.text,
        octets=text.octets + further.octets,
        faults=text.faults + further.faults,
        first_fault=text.first_fault
        if text.first_fault is not None or further.first_fault is None
        else len(text.text + between) + further.first_fault,
        unknown_label=text.unknown_label or further.unknown_label,
        is_utf_8=text.is_utf_8 or further.is_utf_8,
        later=(*text.later, part),
    )


def document_charset(data: bytes) -> str | None:
    """The charset that an HTML document declares in a meta element of its first 4,096 octets (HTML §13.2.3.2)."""
    match = _META_CHARSET.search(data[:4096])
    return match[1].decode("ascii", "replace").lower() if match else None


def text_part(data: bytes, declared: str | None, *, is_html: bool, part: MimePart | None = None) -> TextPart:
    """The text of octets, read as the web reads them.

    Order: byte-order mark, the declared charset, the document's own (HTML §13.2.3.2), UTF-8 where it fits, windows-1252. A charset
    that is declared holds for the whole part: an octet that is no character of it is U+FFFD at its place.
    """
    for mark, encoding in ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16le"), (codecs.BOM_UTF16_BE, "utf-16be")):
        if data.startswith(mark):
            return _read(data[len(mark) :], encoding, declared, len(data), part)
    in_document = document_charset(data) if is_html else None
    for label, is_meta in ((declared, False), (in_document, True)):
        known = encoding_of(label)
        if known is None:
            continue
        if is_meta and known.startswith("utf-16"):
            known = "utf-8"  # the label was read as ASCII, so UTF-16 it is not (§13.2.3.2, prescan)
        return _read(data, known, declared, len(data), part)
    encoding = "utf-8"
    if not data.isascii():
        try:
            data.decode("utf-8")
        except UnicodeDecodeError:
            encoding = "windows-1252"
    return _read(data, encoding, declared, len(data), part, unknown_label=next((label for label in (declared, in_document) if label), None))


def _read(
    data: bytes, encoding: str, declared: str | None, octets: int, part: MimePart | None, unknown_label: str | None = None
) -> TextPart:
    read = decode_octets(data, encoding)
    is_utf_8 = False
    if encoding not in ("utf-8", "utf-16le", "utf-16be") and not data.isascii():
        # Letters beyond ASCII of another charset make sense as UTF-8 by next to no accident.
        with suppress(UnicodeDecodeError):
            is_utf_8 = len(data.decode("utf-8")) < len(data)
    return TextPart(
        read.text,
        encoding,
        declared_charset=declared,
        octets=octets,
        part=part,
        faults=read.faults,
        first_fault=read.first,
        unknown_label=unknown_label,
        is_utf_8=is_utf_8,
    )


def charset_defect(text: TextPart, octets: Span | None) -> Defect | None:
    """The fault of a part's charset, where there is one."""
    if text.unknown_label and not text.text.isascii():
        return Defect(
            "charset", f"The charset “{text.unknown_label}” is none that mail programs know; it was read as {text.charset}.", octets
        )
    if text.faults:
        what = "one octet that is" if text.faults == 1 else f"{text.faults:,} octets that are"
        return Defect("charset", f"The text is {text.charset} but holds {what} no character of it.", octets)
    if text.is_utf_8:
        return Defect("charset", f"The text says it is {text.charset} but is written in UTF-8.", octets)
    return None


def _headers(root: MimePart) -> tuple[SourceText, tuple[Header, ...]]:
    """The header block as text, and its fields with their places (RFC 5322 §2.2). Octets beyond ASCII are read as UTF-8."""
    block = root.head.rstrip(b"\r\n")
    headers = []
    octets = characters = 0
    for field in root.fields:
        characters += len(root.head[octets : field.offset - root.offset].decode("utf-8", "replace"))
        shown = field.octets.rstrip(b"\r\n").decode("utf-8", "replace")
        headers.append(as_header(field, Span(characters, characters + len(shown))))
        characters += len(field.octets.decode("utf-8", "replace"))
        octets = field.offset - root.offset + len(field.octets)
    return SourceText(block.decode("utf-8", "replace")), tuple(headers)


def as_header(field: HeaderField, span: Span | None) -> Header:
    """A header field of the octets as a header of the message."""
    body = field.body.decode("utf-8", "replace")
    return Header(field.name, body, decode_words(body), span, field.octets)
