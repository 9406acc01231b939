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
from jetwind.core.source import LIMITS, Span, WithoutCaches

#: Parts inside parts beyond this depth are kept whole: nobody writes them, and reading them would take the importer down.
DEEPEST = 40

_FIELD_NAME = re.compile(rb"([!-9;-~]+)[ \t]*:")
_LINE = re.compile(rb"[^\r\n]*(?:\r\n|\n|\r|\Z)")
_SOMETHING = re.compile(rb"[ \t]*[^ \t\r\n\f\v]")
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
        """The text after the colon, unfolded (RFC 5322 §2.2.3), as far as it is looked at."""
        return re.sub(rb"(?:\r\n|\n|\r)(?=[ \t])", b"", self.octets[: LIMITS.header_octets].partition(b":")[2]).strip()


@dataclass(frozen=True)
class MimePart(WithoutCaches):
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
                # The standard library's reader of parameters takes the square of their number.
                block[name] = re.sub(r"[\0\r\n]", " ", body[: LIMITS.parameter_octets])
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
        return re.sub(r"\([^()]{0,80}\)|\s", "", self.field_body("Content-Transfer-Encoding")[:200]).lower()

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
        """The faults of this part alone, its transfer encoding included."""
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
    return _Reader(raw).part(0, len(raw), 0)


class _Reader:
    """Cuts a mail into parts by offsets: nested parts share the octets of the whole until a leaf takes its own."""

    def __init__(self, raw: bytes) -> None:
        self._raw = raw
        self._left = LIMITS.parts

    def part(self, start: int, end: int, depth: int, *, in_digest: bool = False) -> MimePart:
        """The part between two offsets."""
        raw = self._raw
        body_start, fields, defects = _head(raw, start, end)
        head = raw[start:body_start]
        part = MimePart(start, head, fields=fields, body=b"", children=(), closing=b"", own_defects=tuple(defects), in_digest=in_digest)

        def leaf(*more: PartDefect) -> MimePart:
            return MimePart(
                start,
                head,
                fields=fields,
                body=raw[body_start:end],
                children=(),
                closing=b"",
                own_defects=(*defects, *more),
                in_digest=in_digest,
            )

        if not part.content_type.startswith("multipart/"):
            return leaf()
        boundary = part.parameter("boundary")
        if depth >= DEEPEST:
            text = f"Parts are nested more than {DEEPEST} deep; the innermost were not opened."
            return leaf(PartDefect("nesting", text, Span(body_start, body_start)))
        if not boundary:
            text = "A multipart names no boundary, so its parts cannot be told apart."
            return leaf(PartDefect("boundary", text, Span(start, body_start)))
        opening, closing_line, is_cut = self._delimiter_lines(boundary, body_start, end)
        if not opening:
            return leaf(PartDefect("boundary", f"The boundary “{boundary[:60]}” of a multipart never occurs.", Span(body_start, end)))
        if is_cut:
            text = f"The mail has more than {LIMITS.parts:,} parts; the others were not opened."
            defects.append(PartDefect("parts", text, Span(opening[-1][0], opening[-1][0])))
        elif closing_line is None:
            text = f"A multipart does not end with its boundary “--{boundary[:60]}--”."
            defects.append(PartDefect("unterminated", text, Span(end, end)))
        body_end = end if closing_line is None else _before_break(raw, closing_line, opening[-1][1])
        children: list[tuple[bytes, MimePart]] = []
        preamble_end = _before_break(raw, opening[0][0], body_start)
        at = preamble_end
        is_digest = part.content_type == "multipart/digest"
        for number, (_, line_end) in enumerate(opening):
            child_end = _before_break(raw, opening[number + 1][0], line_end) if number + 1 < len(opening) else body_end
            children.append((raw[at:line_end], self.part(line_end, child_end, depth + 1, in_digest=is_digest)))
            at = child_end
        return MimePart(
            start,
            head,
            fields=fields,
            body=raw[body_start:preamble_end],
            children=tuple(children),
            closing=raw[body_end:end],
            own_defects=tuple(defects),
            is_multipart=True,
        )

    def _delimiter_lines(self, boundary: str, start: int, end: int) -> tuple[list[tuple[int, int]], int | None, bool]:
        """Delimiter lines, their own line break included (RFC 2046 §5.1.1), where the close delimiter starts, and whether the
        limit of parts cut the list short.
        """
        wanted = re.escape(boundary.encode("utf-8", "surrogateescape"))
        raw = self._raw
        opening: list[tuple[int, int]] = []
        for match in re.compile(rb"--" + wanted + rb"(--)?[ \t]*(?:\r\n|\n|\r|\Z)").finditer(raw, start, end):
            if match.start() != start and raw[match.start() - 1] not in b"\r\n":
                continue
            if match[1]:
                return opening, match.start(), False
            if self._left <= 0:
                return opening, None, True
            self._left -= 1
            opening.append(match.span())
        return opening, None, False


def _before_break(raw: bytes, at: int, floor: int) -> int:
    """Where the line break starts that belongs to the delimiter at ``at``, not to the part before it."""
    if raw[max(at - 2, floor) : at] == b"\r\n":
        return at - 2
    return at - 1 if at > floor and raw[at - 1 : at] in (b"\n", b"\r") else at


def _head(raw: bytes, start: int, stop: int) -> tuple[int, tuple[HeaderField, ...], list[PartDefect]]:
    """End of the header block with its empty line, its fields, and what is wrong with it.

    A line that is no field is skipped where fields go on after it; otherwise the body starts there (the empty line is missing).
    Fields beyond the limit are not taken, though their octets stay in the block.
    """
    fields: list[HeaderField] = []
    defects: list[PartDefect] = []
    at = start
    if raw.startswith(b"From ", start, stop):
        # The separator line of a mail-box file is not part of the message (RFC 4155).
        at = _line_end(raw, start, stop)
    while at < stop:
        end = _line_end(raw, at, stop)
        if raw[at : at + 1] in (b"\r", b"\n"):
            return end, tuple(fields), defects
        name = _FIELD_NAME.match(raw, at, end)
        if name is None:
            following = _line_end(raw, end, stop)
            if end < stop and fields and _FIELD_NAME.match(raw, end, following):
                text = "A line among the headers is neither a header nor the continuation of one."
                defects.append(PartDefect("header-line", text, Span(at, end)))
                at = end
                continue
            if fields or at == start:
                defects.append(PartDefect("separator", "No empty line stands between headers and body.", Span(at, at)))
            return at, tuple(fields), defects
        while end < stop and raw[end : end + 1] in (b" ", b"\t") and _SOMETHING.match(raw, end, _line_end(raw, end, stop)):
            end = _line_end(raw, end, stop)
        if len(fields) < LIMITS.header_fields:
            fields.append(HeaderField(name[1].decode("ascii"), raw[at:end], at))
        at = end
    return at, tuple(fields), defects


def _line_end(raw: bytes, at: int, stop: int) -> int:
    match = _LINE.match(raw, at, stop)
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
