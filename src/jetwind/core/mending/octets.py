"""The octets of a message with changes in them: outside of a change each octet stays as it was.

A part that is written in quoted-printable (RFC 2045 §6.7) keeps its own lines but for the changed ones; base64 (§6.8) is written anew with
lines as long as before.
"""

from __future__ import annotations

import base64
import codecs
import io
import re
import zipfile
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import NamedTuple

from jetwind.core.checking.mends import Change, MendedPart
from jetwind.core.errors import JetwindError
from jetwind.core.message import Message
from jetwind.core.message.charsets import decode_octets, encode_octets
from jetwind.core.message.model import TextPart
from jetwind.core.message.package import HTML_NAME, is_clutter, unzipped
from jetwind.core.message.parts import MimePart
from jetwind.core.source import Span

#: Octets of a line of quoted-printable (RFC 2045 §6.7, rule 5), and of base64 where a part has only one.
_LONGEST, _USUAL = 76, 76
_MARKS = (codecs.BOM_UTF8, codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)
_HEX = re.compile(rb"=([0-9A-Fa-f]{2})")
_TEXT_NAME = re.compile(r"\.txt\Z", re.IGNORECASE)
_SOFT = re.compile(rb"=(?:\r\n|\n)")


class CannotMend(JetwindError):
    """Octets cannot be changed; the text says why, in one sentence."""


class Piece(NamedTuple):
    """New octets in the place of a stretch of octets."""

    span: Span
    octets: bytes


def with_changes(message: Message, raw: bytes, changes: Iterable[Change]) -> bytes:
    """The octets that a message was read from, with changes that do not overlap.

    A zip keeps its files and their octets, but for the HTML and the plain text; what systems left behind in it is left out.

    Raises:
        CannotMend: the part's charset or transfer encoding cannot be written back octet for octet.
    """
    if message.form == "package":
        return _zipped(message, raw, list(changes))
    return _spliced(raw, (piece for _, piece in pieces_of(message, raw, changes)))


def files_of(message: Message, raw: bytes, name: str) -> dict[str, bytes]:
    """The files that a message came as, by name: the one file that it is, or those of its zip."""
    return unzipped(raw, name) if message.form == "package" else {name: raw}


def _zipped(message: Message, raw: bytes, changes: Sequence[Change]) -> bytes:
    """The zip with the changes in its HTML and its plain text."""
    files = unzipped(raw, "the zip")
    made: dict[str, bytes] = {}
    for part in dict.fromkeys(change.part for change in changes):
        ending = HTML_NAME if part == "html" else _TEXT_NAME
        text = message.html if part == "html" else message.text
        name = next((name for name in files if ending.search(name)), None)
        if part == "header" or text is None or name is None:
            raise CannotMend("The message has no such part.")
        own = sorted((change for change in changes if change.part == part), key=lambda one: one.span)
        made[name] = _spliced(files[name], _of_text(text, files[name], own))
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(raw)) as old, zipfile.ZipFile(out, "w") as new:
        for entry in old.infolist():
            plain = entry.filename.replace("\\", "/")
            # What systems left behind was never unpacked, so that nobody knows how large it is.
            if is_clutter(plain) or (plain not in files and not entry.is_dir()):
                continue
            new.writestr(entry, made[plain] if plain in made else old.read(entry))
    return out.getvalue()


def pieces_of(message: Message, raw: bytes, changes: Iterable[Change]) -> list[tuple[tuple[Change, ...], Piece]]:
    """Changes as new octets in the place of stretches of the octets that a message was read from, each with the changes that it makes.

    A piece makes one change; where a part is written in base64, one piece makes all changes of the part.

    Raises:
        CannotMend: the octets are a zip, or the part's charset or transfer encoding cannot be written back octet for octet.
    """
    by_part: dict[MendedPart, list[Change]] = {}
    for change in changes:
        by_part.setdefault(change.part, []).append(change)
    if by_part and message.form == "package":
        raise CannotMend("A zip has no octets of its own for a change: its files are packed.")
    found: list[tuple[tuple[Change, ...], Piece]] = []
    for part, own in by_part.items():
        own.sort(key=lambda one: one.span)
        pieces = _of_part(message, raw, part, own)
        found += zip(((one,) for one in own), pieces, strict=True) if len(pieces) == len(own) else [(tuple(own), pieces[0])]
    in_order = sorted(piece.span for _, piece in found)
    if any(after.start < before.end for before, after in pairwise(in_order)):
        raise CannotMend("It overlaps another mend; take that one first.")
    return found


def _of_part(message: Message, raw: bytes, part: MendedPart, changes: Sequence[Change]) -> list[Piece]:
    if part == "header":
        return _of_header(message, changes)
    if part == "message":
        return [Piece(change.span, change.text.encode("latin-1")) for change in changes]
    text = message.html if part == "html" else message.text
    if text is None:
        raise CannotMend("The message has no such part.")
    if text.part is None:
        return _of_text(text, raw, changes)
    if text.later:
        raise CannotMend("The plain text stands in several parts of the mail, which are not mended.")
    decoded = _of_text(text, text.part.data, changes)
    # A body of one line has no line end of its own: it gets those of the mail's header.
    has_long_ends = b"\r\n" in text.part.body if b"\n" in text.part.body else message.root is not None and b"\r\n" in message.root.head
    return _of_body(text.part, decoded, b"\r\n" if has_long_ends else b"\n")


def _of_text(text: TextPart, data: bytes, changes: Sequence[Change]) -> list[Piece]:
    """The changes as octets of the part, decoded from its transfer encoding."""
    if text.faults:
        raise CannotMend(f"The part holds octets that are no characters of {text.charset}; put its charset right first.")
    mark = next((mark for mark in _MARKS if data.startswith(mark)), b"")
    # Whether a charset is written as it was read shows only when it is tried: some have two ways to write one character.
    at, octets, pieces, written = 0, len(mark), [], [mark]
    has_seven_bits = text.part is not None and text.part.transfer_encoding in ("", "7bit")
    for change in changes:
        before = encode_octets(text.text[at : change.span.start], text.charset)
        old = encode_octets(text.text[change.span.start : change.span.end], text.charset)
        start = octets + len(before)
        pieces.append(Piece(Span(start, start + len(old)), _new(change.text, text.charset, is_ascii=has_seven_bits)))
        written += [before, old]
        at, octets = change.span.end, start + len(old)
    written.append(encode_octets(text.text[at:], text.charset))
    if b"".join(written) != data:
        raise CannotMend(f"The part cannot be written back in {text.charset} octet for octet.")
    return pieces


def _new(text: str, charset: str, *, is_ascii: bool) -> bytes:
    """New characters as octets."""
    if is_ascii and not text.isascii():
        raise CannotMend("The part is written in seven bits, and the mend needs a letter beyond ASCII.")
    octets = encode_octets(text, charset)
    if decode_octets(octets, charset).text != text:
        raise CannotMend(f"The mend needs a character that {charset} does not have.")
    return octets


def _of_header(message: Message, changes: Sequence[Change]) -> list[Piece]:
    if message.root is None or not all(header.octets for header in message.headers):
        raise CannotMend("The headers were given by a person; change them on Envelope.")
    source = message.header_source.text
    if not message.root.head.startswith(source.encode("utf-8", "surrogatepass")):
        raise CannotMend("The headers hold octets that are no UTF-8.")
    pieces = []
    for change in changes:
        if not change.text.isascii():
            raise CannotMend("A header is written in ASCII.")
        start = len(source[: change.span.start].encode("utf-8"))
        length = len(source[change.span.start : change.span.end].encode("utf-8"))
        pieces.append(Piece(Span(start, start + length), change.text.encode("ascii")))
    return pieces


def _of_body(part: MimePart, decoded: Sequence[Piece], newline: bytes) -> list[Piece]:
    """Changes of decoded octets as changes of the octets as transferred, counted from the start of the mail."""
    encoding, start = part.transfer_encoding, part.body_span.start
    if encoding in ("", "7bit", "8bit", "binary"):
        return [Piece(piece.span.shifted(start), piece.octets) for piece in decoded]
    if encoding == "quoted-printable":
        return [Piece(piece.span.shifted(start), piece.octets) for piece in _quoted(part.body, part.data, decoded, newline)]
    if encoding == "base64":
        return [Piece(part.body_span, _wrapped(part.body, _spliced(part.data, decoded), newline))]
    raise CannotMend(f"The part is transferred as {encoding}, which is not written back.")


@dataclass(frozen=True, slots=True)
class _Quoted:
    """A body in quoted-printable as it was read: for each decoded octet where it begins and ends."""

    decoded: bytes
    begins: list[int]
    ends: list[int]


def _read_quoted(body: bytes) -> _Quoted:
    decoded, begins, ends, at = bytearray(), [], [], 0
    while at < len(body):
        if soft := _SOFT.match(body, at):
            at = soft.end()
            continue
        octet = _HEX.match(body, at)
        length = 3 if octet is not None else 1
        decoded.append(int(octet[1], 16) if octet is not None else body[at])
        begins.append(at)
        at += length
        ends.append(at)
    return _Quoted(bytes(decoded), begins, ends)


def _quoted(body: bytes, data: bytes, decoded: Sequence[Piece], newline: bytes) -> list[Piece]:
    """Changes of decoded octets as changes of a body in quoted-printable: lines without a change stay as they are."""
    read = _read_quoted(body)
    if read.decoded != data:
        raise CannotMend("The part is marked quoted-printable but is not written so throughout.")
    pieces: list[Piece] = []
    found, at = bytearray(), 0
    for piece in decoded:
        start = read.begins[piece.span.start] if piece.span.start < len(read.begins) else len(body)
        end = read.ends[piece.span.end - 1] if piece.span.end > piece.span.start else start
        found += body[at:start]
        column = len(found) - (found.rfind(b"\n") + 1)
        pieces.append(Piece(Span(start, end), _written_quoted(piece.octets, column, _line_rest(body, end), newline)))
        found += pieces[-1].octets
        at = end
    return pieces


def _line_rest(body: bytes, at: int) -> int:
    """Octets from here to the end of the line."""
    end = body.find(b"\n", at)
    line = body[at:] if end < 0 else body[at:end]
    return len(line.rstrip(b"\r"))


def _written_quoted(octets: bytes, column: int, rest: int, newline: bytes) -> bytes:
    """Octets in quoted-printable from a column on; ``rest`` octets of the old line follow them."""
    found = bytearray()
    for number, octet in enumerate(octets):
        if octet in b"\r\n":
            found.append(octet)
            column = 0
            continue
        is_last = number + 1 == len(octets) or octets[number + 1] in b"\r\n"
        is_plain = (33 <= octet <= 126 and octet != 61) or (octet in b" \t" and not is_last)
        token = bytes([octet]) if is_plain else b"=%02X" % octet
        if column + len(token) > _LONGEST - 1:
            found += b"=" + newline
            column = 0
        found += token
        column += len(token)
    if rest and column + rest > _LONGEST:
        found += b"=" + newline
    return bytes(found)


def _wrapped(body: bytes, data: bytes, newline: bytes) -> bytes:
    """Octets in base64, in lines as long as those of the old body, with these line ends."""
    first = body.split(newline, 1)[0].strip()
    length = len(first) // 4 * 4 or _USUAL
    written = base64.b64encode(data)
    lines = [written[at : at + length] for at in range(0, len(written), length)]
    tail = body[len(body.rstrip(b"\r\n")) :]
    return newline.join(lines) + tail


def _spliced(octets: bytes, pieces: Iterable[Piece]) -> bytes:
    found, at = [], 0
    for piece in sorted(pieces, key=lambda one: one.span):
        found += [octets[at : piece.span.start], piece.octets]
        at = piece.span.end
    return b"".join((*found, octets[at:]))
