"""An .eml of any quality to the pieces of a Message. Never raises: what is wrong becomes a defect.

RFC 5322 (format), RFC 2045 to 2047 (MIME), RFC 2231 (parameters). ``parts`` takes the octets apart; this module decides
which part is the HTML, which the plain text, what is a picture and what an attachment.
"""

from __future__ import annotations

import codecs
import re
from email.utils import getaddresses
from typing import NamedTuple

from jetwind.core.message.model import Defect, Header, Mailbox, Resource, TextPart
from jetwind.core.message.parts import HeaderField, MimePart, read_parts
from jetwind.core.message.words import codec_name, decode_words
from jetwind.core.source import SourceText, Span

_META_CHARSET = re.compile(rb"""<meta[^>]{0,200}?charset\s*=\s*["']?\s*([\w.:-]+)""", re.IGNORECASE)


class MimePieces(NamedTuple):
    """What an .eml comes apart into."""

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
        else:
            content_id = re.sub(r"[<>\s]", "", part.field_body("Content-ID")) or None
            is_image = content_type.startswith("image/") and not (attached and not content_id)
            resource = Resource(name or content_id or f"part {number}", content_type, content_id, part.data)
            (images if is_image else attachments).append(resource)
    return MimePieces(header_source, headers, html, text, tuple(images), tuple(attachments), tuple(defects), root)


def _text_part(part: MimePart, *, is_html: bool) -> tuple[TextPart, list[Defect]]:
    declared = part.parameter("charset").lower() or None
    text, used, defect = decode(part.data, declared, is_html=is_html)
    placed = [Defect(defect.kind, defect.text, part.body_span)] if defect else []
    return TextPart(text, used, declared, len(part.data), part), placed


def document_charset(data: bytes) -> str | None:
    """The charset that an HTML document declares in a meta element of its first 4,096 octets (HTML §13.2.3.2)."""
    match = _META_CHARSET.search(data[:4096])
    return match[1].decode("ascii", "replace").lower() if match else None


def decode(data: bytes, declared: str | None, *, is_html: bool) -> tuple[str, str, Defect | None]:
    """Text of a part, the charset it was read in, and a defect where that is not what was declared.

    Order: byte-order mark, the declared charset, the document's own, UTF-8, windows-1252.
    """
    for mark, charset in ((codecs.BOM_UTF8, "utf-8"), (codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be")):
        if data.startswith(mark):
            return data[len(mark) :].decode(charset, "replace"), charset, None
    labels = [declared, document_charset(data) if is_html else None]
    for label in labels:
        codec = codec_name(label)
        if codec is None:
            continue
        if label and codecs.lookup(label).name == "ascii" and not data.isascii():
            continue
        try:
            return data.decode(codec), codec, None
        except (UnicodeDecodeError, LookupError):
            continue
    wanted = next((label for label in labels if label), None)
    for codec in ("utf-8", "cp1252"):
        try:
            text = data.decode(codec)
        except UnicodeDecodeError:
            continue
        break
    else:
        text, codec = data.decode("cp1252", "replace"), "cp1252"
    if wanted is None or data.isascii():
        return text, codec, None
    return text, codec, Defect("charset", f"The text says it is {wanted} but does not decode as such; it was read as {codec}.")


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


_ONE_MAILBOX = re.compile(r"\s*(?P<name>[^<>]*?)\s*<(?P<address>[^<>\s]*@[^<>]*)>\s*\Z|\s*(?P<bare>[^\s<>,;:\"]+@[^\s<>,;\"]+)\s*\Z")


def mailboxes(raw: str) -> tuple[Mailbox, ...]:
    """The mailboxes of an address list (RFC 5322 §3.4); an empty group gives none.

    The standard library's versions differ in what they give up on (a domain literal, two @): one mailbox alone is then read as it stands.
    """
    try:
        pairs = getaddresses([raw])
    except (IndexError, ValueError, TypeError):
        pairs = []
    found = [(name, address) for name, address in pairs if address]
    if (len(found) != len(pairs) or not found) and (match := _ONE_MAILBOX.match(raw)):
        found = [((match["name"] or "").strip('"'), match["address"] or match["bare"])]
    return tuple(Mailbox(decode_words(name), address) for name, address in found)
