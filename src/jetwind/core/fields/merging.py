"""The message as one reader gets it, with every character traced: to the source where it stands there, or to the field that brought it.

The template is given to Liquid with a mark before each piece of it: the marks go through loops and branches with the pieces, and what
comes out is cut at them. Marks are characters of the supplementary private-use planes (Unicode §23.5), one for each piece.
"""

from __future__ import annotations

import html
import re
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from itertools import zip_longest

from jetwind.core.fields.fill import fill, needs_engine
from jetwind.core.fields.keeping import kept
from jetwind.core.fields.marked import shown
from jetwind.core.fields.syntax import LIQUID, FieldToken, Syntax
from jetwind.core.source import Span

_FIRST, _LAST = 0xF0000, 0x10FFFD
_WORD = re.compile(r"[^\W\d][\w-]*")
_LINE_END = re.compile("\r\n?")
_MARK = re.compile(f"[{chr(_FIRST)}-{chr(_LAST)}]")


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of a merged text and the stretch of the source that it comes from.

    ``token`` is the field that brought it, or the block that made it; None for what stands in the source word for word.
    """

    start: int
    end: int
    source: Span
    token: FieldToken | None


@dataclass(frozen=True)
class Merged:
    """A merged text in pieces, in order and without gaps; without pieces where it could not be traced exactly.

    ``empty`` are the fields that were reached and brought nothing, in order, each at the place where its value would stand.
    """

    text: str
    pieces: tuple[Piece, ...]
    empty: tuple[Piece, ...] = ()

    @cached_property
    def _starts(self) -> list[int]:
        return [piece.start for piece in self.pieces]

    def piece_at(self, offset: int) -> Piece | None:
        """The piece that a character belongs to."""
        at = bisect_right(self._starts, offset) - 1
        return self.pieces[at] if at >= 0 and offset < self.pieces[at].end else None

    def source_of(self, span: Span) -> Span | None:
        """The stretch of the source that a stretch of the text comes from: exact at either end that stands in the source itself."""
        first, last = self.piece_at(span.start), self.piece_at(max(span.start, span.end - 1))
        if first is None or last is None:
            return None
        start = first.source.start + (span.start - first.start if first.token is None else 0)
        end = last.source.end if last.token is not None else last.source.start + (span.end - last.start)
        return (
            Span(start, end) if start <= end else Span(min(first.source.start, last.source.start), max(first.source.end, last.source.end))
        )

    def with_empty_as_written(self, source: str) -> Merged:
        """The same with each field that brought nothing, and has no default, as it is written: an unknown value."""
        unknown = [piece for piece in self.empty if _is_unknown(piece)]
        if not unknown:
            return self
        texts: list[str] = []
        pieces: list[Piece] = []
        at, waiting = 0, list(reversed(unknown))
        for piece in (*self.pieces, None):
            while waiting and (piece is None or waiting[-1].start <= piece.start):
                written = waiting.pop()
                text = source[written.source.start : written.source.end]
                texts.append(text)
                # It stands there word for word, as text of the source does.
                pieces.append(Piece(at, at + len(text), written.source, None))
                at += len(text)
            if piece is not None:
                text = self.text[piece.start : piece.end]
                texts.append(text)
                pieces.append(replace(piece, start=at, end=at + len(text)))
                at += len(text)
        return Merged("".join(texts), tuple(pieces), tuple(piece for piece in self.empty if not _is_unknown(piece)))

    @property
    def filled(self) -> Iterable[Piece]:
        """The pieces that fields and blocks brought."""
        return (piece for piece in self.pieces if piece.token is not None)


def _is_unknown(piece: Piece) -> bool:
    return piece.token is not None and piece.token.default is None


def merge(source: str, values: Mapping[str, str], *, escape: bool, syntax: Syntax = LIQUID) -> Merged:
    """``source`` merged with a reader's values, as ``fill`` does it, and traced. Never raises for bad syntax."""
    if syntax.grammar == "marks":
        return _of_marks(source, values, escape=escape, syntax=syntax)
    if "\r" in source and needs_engine(source, syntax):
        return _with_line_ends_of(source, merge(_LINE_END.sub("\n", source), values, escape=escape, syntax=syntax))
    plain = fill(source, values, escape=escape, syntax=syntax)
    parts, with_marks = _marked_source(source, syntax)
    if with_marks is None or any(_MARK.search(value) for value in values.values()):
        return Merged(plain, ())
    marked = fill(with_marks, values, escape=escape, syntax=syntax)
    if _MARK.sub("", marked) != plain:
        # A filter or a condition looked at what was caught of the template, marks and all.
        return Merged(plain, ())
    pieces = _pieces(source, marked, parts) or []
    return Merged(
        plain, tuple(piece for piece in pieces if piece.start < piece.end), tuple(piece for piece in pieces if piece.start == piece.end)
    )


def _with_line_ends_of(source: str, merged: Merged) -> Merged:
    """The merged text, whose line ends are the plain ones that Liquid knows, with those of the source where text of it stands."""
    ends = [match.start() - number for number, match in enumerate(re.finditer("\r\n", source))]

    def back(offset: int) -> int:
        return offset + bisect_left(ends, offset)

    texts: list[str] = []
    pieces: list[Piece] = []
    shifts: list[tuple[int, int]] = []
    at = 0
    for piece in merged.pieces:
        own = Span(back(piece.source.start), back(piece.source.end))
        text = source[own.start : own.end] if piece.token is None else merged.text[piece.start : piece.end]
        texts.append(text)
        pieces.append(Piece(at, at + len(text), own, _moved(piece.token, own, source)))
        shifts.append((piece.start, at))
        at += len(text)
    starts = [start for start, _ in shifts]
    empty: list[Piece] = []
    for piece in merged.empty:
        before = bisect_right(starts, piece.start) - 1
        place = at if piece.start >= len(merged.text) else shifts[before][1] if before >= 0 else 0
        own = Span(back(piece.source.start), back(piece.source.end))
        empty.append(Piece(place, place, own, _moved(piece.token, own, source)))
    return Merged("".join(texts) if pieces else merged.text, tuple(pieces), tuple(empty))


def _moved(token: FieldToken | None, span: Span, source: str) -> FieldToken | None:
    return replace(token, span=span, source=source[span.start : span.end]) if token is not None else None


def _of_marks(source: str, values: Mapping[str, str], *, escape: bool, syntax: Syntax) -> Merged:
    texts: list[str] = []
    pieces: list[Piece] = []
    at = 0
    for text, span, token in shown(source, values, syntax):
        made = html.escape(text) if escape and token is not None and token.name else text
        texts.append(made)
        pieces.append(Piece(at, at + len(made), span, token))
        at += len(made)
    return Merged(
        "".join(texts),
        tuple(piece for piece in pieces if piece.start < piece.end),
        tuple(piece for piece in pieces if piece.start == piece.end),
    )


def merge_each(source: str, rows: Sequence[Mapping[str, str]], *, escape: bool, syntax: Syntax = LIQUID) -> list[Merged]:
    """``source`` merged with each of many readers' values. Readers who get the same text share it, and it is made once."""
    return list(merging_each(source, rows, escape=escape, syntax=syntax))


def merging_each(source: str, rows: Sequence[Mapping[str, str]], *, escape: bool, syntax: Syntax = LIQUID) -> Iterator[Merged]:
    """The same one after another, so that the caller can stop."""
    words = {word for token in syntax.tokens(source) for word in _WORD.findall(html.unescape(token.source))}
    names = [name for name in dict.fromkeys(name for row in rows for name in row) if name.partition(".")[0] in words]
    made: dict[tuple[str | None, ...], Merged] = {}
    for row in rows:
        key = tuple(row.get(name) for name in names)
        if key not in made:
            made[key] = merge(
                source, {name: value for name, value in zip(names, key, strict=True) if value is not None}, escape=escape, syntax=syntax
            )
        yield made[key]


_Part = tuple[Span, FieldToken | None]


@kept
def _marked_source(source: str, syntax: Syntax) -> tuple[list[_Part], str | None]:
    """The parts of a source and the source with a mark before each; None where there are more parts than marks, or marks of its own."""
    parts = _parts(source, syntax)
    if len(parts) > _LAST - _FIRST or _MARK.search(source):
        return parts, None
    return parts, "".join(_with_mark(number, source, *part) for number, part in enumerate(parts))


def _parts(source: str, syntax: Syntax) -> list[_Part]:
    """The source cut into what stands between its tokens, and the tokens. White space that a token strips belongs to the token."""
    parts: list[_Part] = []
    end = 0
    strips = False
    for token in syntax.tokens(source):
        text = source[end : token.span.start]
        start = end + (len(text) - len(text.lstrip()) if strips else 0)
        stop = token.span.start - (len(text) - len(text.rstrip()) if _strips_before(token) else 0)
        if start < stop:
            parts.append((Span(start, stop), None))
        parts.append((token.span, token))
        end, strips = token.span.end, _strips_after(token)
    text = source[end:]
    start = end + (len(text) - len(text.lstrip()) if strips else 0)
    if start < len(source):
        parts.append((Span(start, len(source)), None))
    return parts


def _strips_before(token: FieldToken) -> bool:
    return token.source[2:3] == "-"


def _strips_after(token: FieldToken) -> bool:
    return token.source[-3:-2] == "-"


def _with_mark(number: int, source: str, span: Span, token: FieldToken | None) -> str:
    text = source[span.start : span.end]
    # A block makes nothing itself, and a mark beside it might stand where none may, as between case and when.
    return text if token is not None and token.is_block else chr(_FIRST + number) + text


def _pieces(source: str, marked: str, parts: list[_Part]) -> list[Piece] | None:
    """The pieces of a marked text without its marks; None where one is not what its part of the source says."""
    pieces: list[Piece] = []
    at = 0
    marks = list(_MARK.finditer(marked))
    head = marks[0].start() if marks else len(marked)
    if head:
        # Made by a block before anything else, such as a number that is counted up.
        pieces.append(Piece(0, head, *parts[0]))
        at = head
    for mark, follows in zip_longest(marks, marks[1:]):
        text = marked[mark.end() : follows.start() if follows is not None else len(marked)]
        number = ord(mark[0]) - _FIRST
        span, token = parts[number]
        own = len(text) if token is not None else span.end - span.start
        if token is None and text[:own] != source[span.start : span.end]:
            return None
        if own or (token is not None and token.name is not None):
            pieces.append(Piece(at, at + own, span, token))
        if len(text) > own:
            # The rest was made by the block that follows.
            if number + 1 >= len(parts):
                return None
            pieces.append(Piece(at + own, at + len(text), *parts[number + 1]))
        at += len(text)
    return pieces
