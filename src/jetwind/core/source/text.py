"""Raw text with a line index: where a finding points.

Offsets count characters (code points) of the decoded text as given, from 0. Lines and columns count from 1.
A line ends at CR LF, CR or LF, the newlines of the HTML standard (§13.2.3.5) and of CSS Syntax 3 §3.3.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate

from jetwind.core.source.without_caches import WithoutCaches

_NEWLINE = re.compile(r"\r\n|\r|\n")


@dataclass(frozen=True, slots=True, order=True)
class Span:
    """A half-open range of characters, ``start`` to ``end``, in one decoded source."""

    start: int
    end: int

    def __post_init__(self) -> None:
        if not 0 <= self.start <= self.end:
            raise ValueError(f"a span runs forwards from 0, not {self.start} to {self.end}")

    def __contains__(self, offset: int) -> bool:
        return self.start <= offset < self.end

    def contains(self, other: Span) -> bool:
        """Whether ``other`` lies wholly inside this span."""
        return self.start <= other.start and other.end <= self.end

    def shifted(self, by: int) -> Span:
        """The same span ``by`` characters further on."""
        return Span(self.start + by, self.end + by)


class Spans:
    """Many spans of one source, asked about by offset: each question takes the same few steps, however many there are."""

    def __init__(self, spans: Iterable[Span]) -> None:
        by_start = sorted(spans)
        self._starts = [span.start for span in by_start]
        #: The furthest end of all spans that begin no later.
        self._reach = list(accumulate((span.end for span in by_start), max))
        self._by_end = sorted((span.end, span.start) for span in by_start)

    def __bool__(self) -> bool:
        return bool(self._starts)

    def __contains__(self, offset: int) -> bool:
        at = bisect_right(self._starts, offset)
        return at > 0 and self._reach[at - 1] > offset

    def cuts(self, span: Span) -> bool:
        """Whether the nearest end behind the span's start is that of a span around that start, and lies before the span's end."""
        at = bisect_right(self._by_end, (span.start, span.end + len(self._starts)))
        if at == len(self._by_end):
            return False
        end, start = self._by_end[at]
        return start <= span.start and span.start < end < span.end


@dataclass(frozen=True, slots=True)
class Position:
    """One place: line and column from 1, offset in characters from 0."""

    line: int
    column: int
    offset: int


@dataclass(frozen=True, slots=True)
class Excerpt:
    """The lines around a span, cut into what stands before, in and after it."""

    first_line: int
    before: str
    marked: str
    after: str


@dataclass(frozen=True)
class SourceText(WithoutCaches):
    """Text as given, never normalised, with a lazily made index of its lines."""

    text: str

    @cached_property
    def line_starts(self) -> list[int]:
        """Offset of the first character of each line."""
        return [0, *(newline.end() for newline in _NEWLINE.finditer(self.text))]

    def offset(self, line: int, column: int) -> int:
        """The offset of a line and column, both counted from 1; places past the end are clamped."""
        starts = self.line_starts
        if line > len(starts):
            return len(self.text)
        return min(starts[max(line, 1) - 1] + max(column, 1) - 1, len(self.text))

    def position(self, offset: int) -> Position:
        """Line, column and offset of a character; an offset past the end is clamped."""
        offset = min(max(offset, 0), len(self.text))
        line = bisect_right(self.line_starts, offset)
        return Position(line, offset - self.line_starts[line - 1] + 1, offset)

    def slice(self, span: Span) -> str:
        """The characters of a span, as they stand in the source."""
        return self.text[span.start : span.end]

    def excerpt(self, span: Span, lines: int = 2, width: int = 240) -> Excerpt:
        """The span with up to ``lines`` lines on either side, each side at most ``width`` characters."""
        first = max(self.position(span.start).line - lines, 1)
        last = min(self.position(max(span.end - 1, span.start)).line + lines, len(self.line_starts))
        start = max(self.line_starts[first - 1], span.start - width)
        line_end = self.line_starts[last] if last < len(self.line_starts) else len(self.text)
        end = min(line_end, span.end + width)
        return Excerpt(
            self.position(start).line,
            self.text[start : span.start],
            self.text[span.start : span.end],
            self.text[span.end : end].rstrip("\r\n"),
        )
