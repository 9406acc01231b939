"""An .eml of any quality to the pieces of a Message. Never raises: what is wrong becomes a defect.

RFC 5322 (format), RFC 2045 to 2047 (MIME), RFC 2231 (parameters), through the standard library's feed parser, which
records defects instead of refusing.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Iterator
from email import message_from_bytes, policy
from email.header import decode_header
from email.message import Message as Mime
from email.utils import getaddresses
from typing import NamedTuple

from jetwind.core.message.model import Defect, Header, Mailbox, Resource, TextPart
from jetwind.core.source import SourceText, Span

_FIELD = re.compile(r"(?P<name>[!-9;-~]+)[ \t]*:(?P<body>[^\r\n]*(?:\r?\n[ \t]+[^\r\n]*)*)")
_ENCODED_GAP = re.compile(r"(\?=)\s+(=\?)")
_META_CHARSET = re.compile(rb"""<meta[^>]{0,200}?charset\s*=\s*["']?\s*([\w.:-]+)""", re.IGNORECASE)

#: Labels that the Encoding Standard reads as windows-1252 (WHATWG Encoding §4.2).
_READ_AS_1252 = frozenset({"ascii", "iso8859-1", "cp1252"})


class MimePieces(NamedTuple):
    """What an .eml comes apart into."""

    header_source: SourceText
    headers: tuple[Header, ...]
    html: TextPart | None
    text: TextPart | None
    images: tuple[Resource, ...]
    attachments: tuple[Resource, ...]
    defects: tuple[Defect, ...]


def read_mime(raw: bytes) -> MimePieces:
    """Take an .eml apart."""
    header_source, headers = _headers(raw)
    try:
        mime = message_from_bytes(raw, policy=policy.compat32)
        leaves = list(_leaves(mime))
    except RecursionError:
        # Hundreds of multiparts inside one another: nobody writes that, but it must not take the importer down.
        whole = Resource("the whole message", "application/octet-stream", None, raw)
        return MimePieces(
            header_source, headers, None, None, (), (whole,), (Defect("mime", "The parts are nested too deeply to be read."),)
        )
    defects = [Defect("mime", f"{type(d).__name__}: {(type(d).__doc__ or '').strip()}") for part in leaves for d in part.defects]
    defects += [Defect("mime", f"{type(d).__name__}: {(type(d).__doc__ or '').strip()}") for d in mime.defects if mime not in leaves]
    html: TextPart | None = None
    text: TextPart | None = None
    images: list[Resource] = []
    attachments: list[Resource] = []
    for number, part in enumerate(leaves, 1):
        content_type = part.get_content_type()
        data = _payload(part)
        name = _file_name(part)
        attached = (part.get_content_disposition() or "") == "attachment"
        if content_type == "text/html" and html is None and not attached:
            html, found = _text_part(data, part, is_html=True)
            defects.extend(found)
        elif content_type == "text/plain" and text is None and not attached and not name:
            text, found = _text_part(data, part, is_html=False)
            defects.extend(found)
        else:
            content_id = re.sub(r"[<>\s]", "", str(part.get("Content-ID") or "")) or None
            is_image = content_type.startswith("image/") and not (attached and not content_id)
            resource = Resource(name or content_id or f"part {number}", content_type, content_id, data)
            (images if is_image else attachments).append(resource)
    return MimePieces(header_source, headers, html, text, tuple(images), tuple(attachments), tuple(defects))


def _leaves(mime: Mime) -> Iterator[Mime]:
    """Parts that hold content; a message inside the message stays whole."""
    stack = [mime]
    while stack:
        part = stack.pop()
        if part.get_content_maintype() == "message" and part is not mime:
            yield part
        elif part.is_multipart():
            payload = part.get_payload()
            assert isinstance(payload, list)
            stack.extend(child for child in reversed(payload) if isinstance(child, Mime))
        else:
            yield part


def _payload(part: Mime) -> bytes:
    if part.is_multipart() or part.get_content_maintype() == "message":
        try:
            return part.as_bytes()
        except (UnicodeError, LookupError, ValueError, KeyError, TypeError, RecursionError):
            return b""
    try:
        data = part.get_payload(decode=True)
    except (LookupError, ValueError, AssertionError):
        data = None
    if isinstance(data, bytes):
        return data
    return str(part.get_payload() or "").encode("utf-8", "surrogateescape")


def _file_name(part: Mime) -> str:
    try:
        return decode_words(part.get_filename() or "").replace("\0", "")
    except (LookupError, ValueError, TypeError):
        return ""


def _text_part(data: bytes, part: Mime, *, is_html: bool) -> tuple[TextPart, list[Defect]]:
    try:
        declared = part.get_content_charset()
    except (LookupError, ValueError):
        declared = None
    text, used, defect = decode(data, declared, is_html=is_html)
    return TextPart(text, used, declared, len(data)), [defect] if defect else []


def codec_name(label: str | None) -> str | None:
    """Python's name for a charset label, with the labels that browsers read as windows-1252 joined; None if unknown."""
    try:
        name = codecs.lookup(label or "").name
    except (LookupError, ValueError):
        return None
    return "cp1252" if name in _READ_AS_1252 else name


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


def _headers(raw: bytes) -> tuple[SourceText, tuple[Header, ...]]:
    """The header block as text, and its fields with their places (RFC 5322 §2.2)."""
    end = re.search(rb"\r?\n\r?\n|\r\r", raw)
    block = raw[: end.start()] if end else raw[:200_000]
    source = SourceText(block.decode("utf-8", "replace"))
    headers = []
    at = 0
    while at < len(source.text):
        match = _FIELD.match(source.text, at)
        if match is None:
            newline = source.text.find("\n", at)
            at = len(source.text) if newline < 0 else newline + 1
            continue
        body = re.sub(r"\r?\n(?=[ \t])", "", match["body"]).strip()
        headers.append(Header(match["name"], body, decode_words(body), Span(match.start(), match.end())))
        at = match.end()
        while at < len(source.text) and source.text[at] in "\r\n":
            at += 1
    return source, tuple(headers)


def decode_words(text: str) -> str:
    """A header body with its encoded-words read (RFC 2047 §6.2); what cannot be read stays as it is."""
    if "=?" not in text:
        return text
    pieces: list[str] = []
    try:
        for data, charset in decode_header(_ENCODED_GAP.sub(r"\1 \2", text)):
            if isinstance(data, str):
                pieces.append(data)
                continue
            codec = codec_name(charset) if charset else "utf-8"
            pieces.append(data.decode(codec or "utf-8", "replace"))
    except (ValueError, LookupError, TypeError):
        return text
    return "".join(pieces)


def mailboxes(raw: str) -> tuple[Mailbox, ...]:
    """The mailboxes of an address list (RFC 5322 §3.4); an empty group gives none."""
    try:
        pairs = getaddresses([raw])
    except (IndexError, ValueError, TypeError):
        return ()
    return tuple(Mailbox(decode_words(name), address) for name, address in pairs if address)
