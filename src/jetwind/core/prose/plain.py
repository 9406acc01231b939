"""A plain-text part made afresh from the HTML, and a mail or package with another plain-text part."""

from __future__ import annotations

import io
import re
import textwrap
import zipfile
from email.message import EmailMessage
from email.policy import SMTP
from typing import TYPE_CHECKING

from jetwind.core.markup import Element, TextRun
from jetwind.core.message.charsets import encode_octets
from jetwind.core.prose.passages import collapse
from jetwind.core.prose.reading import BLOCKS
from jetwind.core.source import Span

if TYPE_CHECKING:
    from jetwind.core.message.model import Message

#: RFC 3676 §4.2 and common practice: lines of at most 72 characters survive being quoted.
WIDTH = 72
_HEADINGS = {"h1": "=", "h2": "-"}


class _Writer:
    """Paragraphs in the making."""

    def __init__(self) -> None:
        self.paragraphs: list[str] = []
        self.line: list[str] = []
        self.prefix = ""
        self.underline = ""

    def break_line(self) -> None:
        """A new line inside the paragraph."""
        self.line.append("\n")

    def close(self) -> None:
        """End the paragraph."""
        text = "".join(self.line)
        self.line = []
        lines = [re.sub(r" +", " ", part).strip() for part in text.split("\n")]
        wrapped = [
            piece
            for part in lines
            if part
            for piece in textwrap.wrap(
                part,
                WIDTH,
                initial_indent=self.prefix,
                subsequent_indent=" " * len(self.prefix),
                break_long_words=False,
                break_on_hyphens=False,
            )
        ]
        if wrapped:
            if self.underline:
                wrapped.append(self.underline * max(map(len, wrapped)))
            self.paragraphs.append("\n".join(wrapped))
        self.prefix = self.underline = ""


def plain_from_html(message: Message) -> str:
    """The visible copy as plain text: headings underlined, list items marked, pictures by their alternative text, links with their address.

    Raises:
        ValueError: the message has no HTML part.
    """
    document = message.document
    if document is None:
        raise ValueError("the message has no HTML part")
    cascade, writer = message.cascade, _Writer()
    stack: list[Element | TextRun | tuple[Element]] = list(reversed(document.body.children))
    while stack:
        node = stack.pop()
        if isinstance(node, tuple):
            _leave(node[0], writer)
            continue
        if cascade.is_hidden(node):
            continue
        if isinstance(node, TextRun):
            writer.line.append(collapse(node.text))
            continue
        _enter(node, writer)
        stack.append((node,))
        stack.extend(reversed(node.children))
    writer.close()
    return "\n\n".join(writer.paragraphs) + "\n"


def _enter(element: Element, writer: _Writer) -> None:
    if element.tag == "br":
        writer.break_line()
    elif element.tag == "hr":
        writer.close()
        writer.paragraphs.append("-" * WIDTH)
    elif element.tag == "img":
        writer.line.append(f" {collapse(element.get('alt') or '')} ")
    elif element.tag in BLOCKS:
        writer.close()
        if element.tag == "li":
            writer.prefix = "- "
        writer.underline = _HEADINGS.get(element.tag, "")


def _leave(element: Element, writer: _Writer) -> None:
    if element.tag == "a":
        address = (element.get("href") or "").strip()
        shown = "".join(writer.line).rstrip()
        if address and not address.startswith("#") and not shown.endswith(address.removeprefix("mailto:").removeprefix("tel:")):
            writer.line.append(f" <{address.removeprefix('mailto:')}> ")
    elif element.tag in BLOCKS and element.tag != "br":
        writer.close()


def with_plain_text(message: Message, text: str) -> bytes:
    """The file of a message with ``text`` as its plain-text part; every other octet of a mail stays as it is.

    A mail gets the part replaced, or, where it has none, its HTML wrapped in a multipart/alternative. HTML and packages become a
    zip with the text as ``message.txt``.

    Raises:
        ValueError: the message has no HTML part.
    """
    if message.html is None:
        raise ValueError("the message has no HTML part")
    if message.root is None:
        return _zipped(message, text)
    source = message.root.to_bytes()
    old = message.text.part if message.text else None
    if old is None:
        for span, octets in sorted(alternative_around(message, text), reverse=True):
            source = source[: span.start] + octets + source[span.end :]
        return source
    made = _part(source, text)
    head, _, body = made.partition(b"\r\n\r\n" if b"\r\n" in made else b"\n\n")
    kept = b"".join(field.octets for field in old.fields if not field.name.lower().startswith("content-t"))
    newline = b"\r\n" if b"\r\n" in made else b"\n"
    whole = kept + head + newline + newline + body.rstrip(b"\r\n")
    # The new text holds what later parts of the old one said: each is left empty in its place.
    for part in reversed(message.text.later if message.text else ()):
        source = source[: part.body_span.start] + source[part.body_span.end :]
    return source[: old.offset] + whole + source[old.body_span.end :]


def alternative_around(message: Message, text: str) -> list[tuple[Span, bytes]]:
    """Octets in the place of stretches of a mail without plain text, by which its HTML stands in a multipart/alternative beside ``text``.

    Header fields that say nothing of the content stay in their places, and so does the body of the HTML.
    """
    assert message.root is not None and message.html is not None and message.html.part is not None, "the HTML is that of a mail"
    html, source = message.html.part, message.root.to_bytes()
    newline = b"\r\n" if b"\r\n" in source else b"\n"
    boundary = _boundary(source)
    of_content = [field for field in html.fields if field.name.lower().startswith("content-")]
    others = b"".join(field.octets for field in html.fields if field not in of_content)
    pieces, at = list[tuple[Span, bytes]](), html.offset
    for field in html.fields:
        if field in of_content:
            pieces.append((Span(at, at + len(field.octets)), b""))
        at += len(field.octets)
    new = b"MIME-Version: 1.0" + newline if b"mime-version" not in others.lower() and html.offset == message.root.offset else b""
    if source[html.offset : at] != b"".join(field.octets for field in html.fields):
        # Lines between the fields that are none: the fields are written one behind the other.
        pieces, at, new = [], html.offset, others + new
    new += b'Content-Type: multipart/alternative; boundary="' + boundary + b'"' + newline + newline
    new += b"--" + boundary + newline + _part(source, text) + newline + b"--" + boundary + newline
    pieces.append((Span(at, html.body_span.start), new + b"".join(field.octets for field in of_content) + newline))
    return [*pieces, (Span(html.body_span.end, html.body_span.end), newline + b"--" + boundary + b"--" + newline)]


def _part(source: bytes, text: str) -> bytes:
    """A part of plain text, with its header, in the line ends of a mail."""
    part = EmailMessage(policy=SMTP)
    part.set_content(text, charset="utf-8", cte="quoted-printable")
    made = part.as_bytes().replace(b"MIME-Version: 1.0\r\n", b"")
    return made if b"\r\n" in source else made.replace(b"\r\n", b"\n")


def _boundary(source: bytes) -> bytes:
    """A boundary that occurs nowhere in the message (RFC 2046 §5.1.1)."""
    number = 0
    while (wanted := b"=_jetwind_%d" % number) in source:
        number += 1
    return wanted


def _zipped(message: Message, text: str) -> bytes:
    assert message.html is not None
    out = io.BytesIO()
    stamp = (1980, 1, 1, 0, 0, 0)
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(zipfile.ZipInfo("message.html", stamp), encode_octets(message.html.text, message.html.charset, for_html=True))
        archive.writestr(zipfile.ZipInfo("message.txt", stamp), text.encode())
        for image in message.images:
            archive.writestr(zipfile.ZipInfo(image.name, stamp), image.data)
    return out.getvalue()
