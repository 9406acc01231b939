"""A mail as the tree of its parts, every octet accounted for (RFC 5322 §2, RFC 2046 §5.1).

Joining a tree gives back the octets it was read from. Nothing is refused: what breaks a rule becomes a defect with its place.
Parameters of Content-Type and Content-Disposition are read by the standard library (RFC 2045 §5.1, RFC 2231).
"""

from __future__ import annotations

import binascii
import re
from collections.abc import Iterator
from dataclasses import dataclass
from email.message import Message as HeaderBlock
from functools import cached_property

from jetwind.core.message.words import decode_words
from jetwind.core.source import Span

#: Parts inside parts beyond this depth are kept whole: nobody writes them, and reading them would take the importer down.
DEEPEST = 40

_FIELD_NAME = re.compile(rb"([!-9;-~]+)[ \t]*:")
_LINE = re.compile(rb"[^\r\n]*(?:\r\n|\n|\r|\Z)")
_QP_FAULT = re.compile(rb"=(?![0-9A-Fa-f]{2}|[ \t]*(?:\r\n|\n|\r|\Z))")
_TRANSFER = frozenset({"", "7bit", "8bit", "binary", "base64", "quoted-printable"})


@dataclass(frozen=True, slots=True)
class PartDefect:
    """A broken rule: a word for machines, a sentence for people, and the octets of the message it is about."""

    kind: str
    text: str
    octets: Span


@dataclass(frozen=True, slots=True)
class HeaderField:
    """One header field as transferred, its line breaks among it; ``offset`` is that of its first octet in the message."""

    name: str
    octets: bytes
    offset: int

    @property
    def body(self) -> bytes:
        """What follows the colon, unfolded (RFC 5322 §2.2.3)."""
        return re.sub(rb"(?:\r\n|\n|\r)(?=[ \t])", b"", self.octets.partition(b":")[2]).strip()


@dataclass(frozen=True)
class MimePart:
    """One part. A leaf has its body as transferred; a multipart has children, each after its delimiter line.

    ``head`` is the header block with the empty line after it. ``closing`` is the close delimiter with the epilogue.
    """

    offset: int
    head: bytes
    fields: tuple[HeaderField, ...]
    body: bytes
    children: tuple[tuple[bytes, MimePart], ...] = ()
    closing: bytes = b""
    own_defects: tuple[PartDefect, ...] = ()
    is_multipart: bool = False
    in_digest: bool = False

    def to_bytes(self) -> bytes:
        """The octets this part was read from."""
        return b"".join(self._octets())

    def _octets(self) -> Iterator[bytes]:
        stack: list[MimePart | bytes] = [self]
        while stack:
            item = stack.pop()
            if isinstance(item, bytes):
                yield item
                continue
            yield item.head
            yield item.body
            stack.append(item.closing)
            for delimiter, child in reversed(item.children):
                stack.extend((child, delimiter))

    def walk(self) -> Iterator[MimePart]:
        """This part and all inside it, in order."""
        stack = [self]
        while stack:
            part = stack.pop()
            yield part
            stack.extend(child for _, child in reversed(part.children))

    @property
    def leaves(self) -> Iterator[MimePart]:
        """Parts that hold content; a message inside the message stays whole."""
        return (part for part in self.walk() if not part.is_multipart)

    def field_body(self, name: str) -> str:
        """The body of the first field of that name, or empty. Octets beyond ASCII are read as UTF-8."""
        wanted = name.lower()
        for found in self.fields:
            if found.name.lower() == wanted:
                return found.body.decode("utf-8", "replace")
        return ""

    @cached_property
    def _block(self) -> HeaderBlock:
        block = HeaderBlock()
        for name in ("Content-Type", "Content-Disposition"):
            if body := self.field_body(name):
                block[name] = body.replace("\0", "")
        return block

    @property
    def content_type(self) -> str:
        """Lower-case media type; where none is given text/plain (RFC 2045 §5.2), in a digest a message (RFC 2046 §5.1.5)."""
        if self.in_digest and "Content-Type" not in self._block:
            return "message/rfc822"
        return self._block.get_content_type()

    def parameter(self, name: str) -> str:
        """A parameter of Content-Type with RFC 2231 continuations joined, or empty."""
        try:
            value = self._block.get_param(name, "")
        except (LookupError, ValueError, TypeError):
            return ""
        return str(value[2] if isinstance(value, tuple) else value or "")

    @property
    def disposition(self) -> str:
        """``attachment``, ``inline`` or empty (RFC 2183)."""
        return self._block.get_content_disposition() or ""

    @property
    def file_name(self) -> str:
        """The name of the file, from Content-Disposition or Content-Type, encoded-words and RFC 2231 forms read."""
        try:
            return decode_words(self._block.get_filename() or "").replace("\0", "")
        except (LookupError, ValueError, TypeError):
            return ""

    @property
    def transfer_encoding(self) -> str:
        """Lower-case Content-Transfer-Encoding, empty where none is given (then 7bit, RFC 2045 §6.1)."""
        return re.sub(r"\(.*?\)|\s", "", self.field_body("Content-Transfer-Encoding")).lower()

    @cached_property
    def data(self) -> bytes:
        """The content of a leaf, decoded from its transfer encoding. What cannot be decoded is skipped."""
        encoding = self.transfer_encoding
        if encoding == "base64":
            kept = re.sub(rb"[^A-Za-z0-9+/]", b"", self.body)
            kept = kept[: len(kept) - 1] if len(kept) % 4 == 1 else kept
            return binascii.a2b_base64(kept + b"=" * (-len(kept) % 4))
        if encoding == "quoted-printable":
            return binascii.a2b_qp(self.body)
        if encoding in ("x-uuencode", "uuencode", "uue", "x-uue"):
            return _uudecoded(self.body)
        return self.body

    @property
    def body_span(self) -> Span:
        """Octets of the body in the message."""
        start = self.offset + len(self.head)
        return Span(start, start + len(self.body))

    @cached_property
    def defects(self) -> tuple[PartDefect, ...]:
        """What is wrong with this part alone, its transfer encoding included."""
        return (*self.own_defects, *self._encoding_defects())

    def _encoding_defects(self) -> Iterator[PartDefect]:
        encoding, span = self.transfer_encoding, self.body_span
        where = "The part" if not self.file_name else f"“{self.file_name}”"
        if self.is_multipart or self.content_type.startswith("message/"):
            if encoding in ("base64", "quoted-printable") and self.is_multipart:
                yield PartDefect("transfer-encoding", f"A multipart is marked {encoding}, which only its parts may be.", span)
            return
        if encoding == "base64":
            stray = re.search(rb"[^A-Za-z0-9+/=\s]", self.body)
            kept = re.sub(rb"[^A-Za-z0-9+/=]", b"", self.body)
            if stray:
                at = span.start + stray.start()
                yield PartDefect("transfer-encoding", f"{where} is marked base64 but holds other characters.", Span(at, at + 1))
            elif len(kept) % 4 or b"=" in kept.rstrip(b"="):
                yield PartDefect("transfer-encoding", f"The base64 of {where[0].lower() + where[1:]} is cut off or badly padded.", span)
        elif encoding == "quoted-printable":
            fault = _QP_FAULT.search(self.body) or re.search(rb"[\x80-\xff]", self.body)
            if fault:
                at = span.start + fault.start()
                yield PartDefect(
                    "transfer-encoding", f"{where} is marked quoted-printable but is not written so throughout.", Span(at, at + 1)
                )
        elif encoding in ("", "7bit"):
            if eighth := re.search(rb"[\x80-\xff]", self.body):
                at = span.start + eighth.start()
                said = "is marked 7bit" if encoding else "has no transfer encoding, which means 7bit,"
                yield PartDefect("transfer-encoding", f"{where} {said} but holds 8-bit octets.", Span(at, at + 1))
        elif encoding not in _TRANSFER:
            yield PartDefect("transfer-encoding", f"{where} has the unknown transfer encoding {encoding}.", span)


def read_parts(raw: bytes) -> MimePart:
    """The tree of a mail. Joined, it is ``raw`` again."""
    return _part(raw, 0, 0)


def _part(raw: bytes, offset: int, depth: int, *, in_digest: bool = False) -> MimePart:
    head_end, fields, defects = _head(raw, offset)
    head, body = raw[:head_end], raw[head_end:]
    part = MimePart(offset, head, fields, body, (), b"", tuple(defects), in_digest=in_digest)
    if not part.content_type.startswith("multipart/"):
        return part
    boundary = part.parameter("boundary")
    start = offset + head_end
    if depth >= DEEPEST:
        nested = PartDefect("nesting", f"Parts are nested more than {DEEPEST} deep; the innermost were not opened.", Span(start, start))
        return MimePart(offset, head, fields, body, (), b"", (*defects, nested))
    if not boundary:
        missing = PartDefect("boundary", "A multipart names no boundary, so its parts cannot be told apart.", Span(offset, start))
        return MimePart(offset, head, fields, body, (), b"", (*defects, missing))
    lines = list(_delimiters(body, boundary))
    closing_line = next((line for line in lines if line.group(1)), None)
    opening = [line for line in lines if not line.group(1) and (closing_line is None or line.start() < closing_line.start())]
    if not opening:
        never = PartDefect("boundary", f"The boundary “{boundary[:60]}” of a multipart never occurs.", Span(start, start + len(body)))
        return MimePart(offset, head, fields, body, (), b"", (*defects, never))
    if closing_line is None:
        at = start + len(body)
        defects.append(PartDefect("unterminated", f"A multipart does not end with its boundary “--{boundary[:60]}--”.", Span(at, at)))
    end = len(body) if closing_line is None else _before_break(body, closing_line.start(), opening[-1].end())
    children: list[tuple[bytes, MimePart]] = []
    preamble_end = _before_break(body, opening[0].start(), 0)
    at = preamble_end
    is_digest = part.content_type == "multipart/digest"
    for number, line in enumerate(opening):
        after = opening[number + 1] if number + 1 < len(opening) else None
        child_end = _before_break(body, after.start(), line.end()) if after else end
        children.append((body[at : line.end()], _part(body[line.end() : child_end], start + line.end(), depth + 1, in_digest=is_digest)))
        at = child_end
    return MimePart(offset, head, fields, body[:preamble_end], tuple(children), body[end:], tuple(defects), is_multipart=True)


def _delimiters(body: bytes, boundary: str) -> Iterator[re.Match[bytes]]:
    """Delimiter lines, their own line break included (RFC 2046 §5.1.1); group 1 is the ``--`` of the close delimiter."""
    wanted = re.escape(boundary.encode("utf-8", "surrogateescape"))
    for match in re.finditer(rb"--" + wanted + rb"(--)?[ \t]*(?:\r\n|\n|\r|\Z)", body):
        if match.start() == 0 or body[match.start() - 1] in b"\r\n":
            yield match


def _before_break(body: bytes, at: int, floor: int) -> int:
    """Where the line break starts that belongs to the delimiter at ``at``, not to the part before it."""
    if body[max(at - 2, floor) : at] == b"\r\n":
        return at - 2
    return at - 1 if at > floor and body[at - 1 : at] in (b"\n", b"\r") else at


def _head(raw: bytes, offset: int) -> tuple[int, tuple[HeaderField, ...], list[PartDefect]]:
    """End of the header block with its empty line, its fields, and what is wrong with it.

    A line that is no field is skipped where fields go on after it; otherwise the body starts there (the empty line is missing).
    """
    fields: list[HeaderField] = []
    defects: list[PartDefect] = []
    at = 0
    if raw.startswith(b"From "):
        # The separator line of a mail-box file is not part of the message (RFC 4155).
        at = _line_end(raw, 0)
    while at < len(raw):
        end = _line_end(raw, at)
        line = raw[at:end]
        if not line.strip(b"\r\n"):
            return end, tuple(fields), defects
        name = _FIELD_NAME.match(line)
        if name is None:
            following = _line_end(raw, end)
            if end < len(raw) and _FIELD_NAME.match(raw[end:following]) and raw[end:following].strip() and fields:
                defects.append(
                    PartDefect(
                        "header-line", "A line among the headers is neither a header nor the continuation of one.", _span(offset, at, end)
                    )
                )
                at = end
                continue
            if fields or at == 0:
                defects.append(PartDefect("separator", "No empty line stands between headers and body.", _span(offset, at, at)))
            return at, tuple(fields), defects
        while end < len(raw) and raw[end : end + 1] in (b" ", b"\t") and raw[end : _line_end(raw, end)].strip():
            end = _line_end(raw, end)
        fields.append(HeaderField(name[1].decode("ascii"), raw[at:end], offset + at))
        at = end
    return at, tuple(fields), defects


def _span(offset: int, start: int, end: int) -> Span:
    return Span(offset + start, offset + end)


def _line_end(raw: bytes, at: int) -> int:
    match = _LINE.match(raw, at)
    assert match is not None, "the pattern matches any octets"
    return match.end()


def _uudecoded(body: bytes) -> bytes:
    lines = iter(body.splitlines())
    for line in lines:
        if line.startswith(b"begin "):
            break
    pieces: list[bytes] = []
    for line in lines:
        if line.strip() in (b"end", b""):
            break
        try:
            pieces.append(binascii.a2b_uu(line))
        except binascii.Error:
            # Writers put a wrong length first; what it says is enough to read the line.
            count = (((line[0] - 32) & 63) * 4 + 5) // 3
            try:
                pieces.append(binascii.a2b_uu(line[:count]))
            except binascii.Error:
                continue
    return b"".join(pieces)
