"""Spans, positions and edits over raw text."""

import itertools
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.source import Edit, SourceText, Span, Spans, splice
from jetwind.core.source.plain import Unfit, as_table, read

LINES = st.text(alphabet=st.sampled_from("ab \r\n\té"), max_size=60)


class TestPositions:
    """Lines and columns from 1, offsets from 0."""

    @pytest.mark.parametrize(
        ("text", "offset", "line", "column"),
        [
            ("abc", 0, 1, 1),
            ("abc", 3, 1, 4),
            ("a\nb", 2, 2, 1),
            ("a\r\nb", 3, 2, 1),
            ("a\rb", 2, 2, 1),
            ("a\n\nb", 2, 2, 1),
            ("é\nb", 2, 2, 1),
        ],
    )
    def test_offset_becomes_line_and_column(self, text: str, offset: int, line: int, column: int) -> None:
        """Each kind of newline ends one line."""
        position = SourceText(text).position(offset)
        assert (position.line, position.column, position.offset) == (line, column, offset)

    def test_offset_past_the_end_is_clamped(self) -> None:
        """A place beyond the text is its end."""
        assert SourceText("ab").position(99).offset == 2
        assert SourceText("ab").offset(7, 1) == 2

    @given(LINES)
    def test_position_and_offset_are_inverse(self, text: str) -> None:
        """Going to a line and column and back gives the same offset."""
        source = SourceText(text)
        for offset in range(len(text) + 1):
            position = source.position(offset)
            assert source.offset(position.line, position.column) == offset

    def test_a_span_runs_forwards(self) -> None:
        """A span that ends before it starts is refused."""
        with pytest.raises(ValueError, match="forwards"):
            Span(3, 2)


class TestExcerpt:
    """The lines around a span."""

    def test_excerpt_holds_neighbouring_lines(self) -> None:
        """One line before and after, the span marked."""
        source = SourceText("one\ntwo\nthree\nfour")
        excerpt = source.excerpt(Span(4, 7), lines=1)
        assert (excerpt.first_line, excerpt.before, excerpt.marked, excerpt.after) == (1, "one\n", "two", "\nthree")

    def test_excerpt_of_one_endless_line_is_bounded(self) -> None:
        """A message on one line of a megabyte does not become a page of a megabyte."""
        excerpt = SourceText("x" * 1_000_000).excerpt(Span(500_000, 500_003), width=100)
        assert len(excerpt.before) == 100
        assert len(excerpt.after) == 100


class TestSplice:
    """Edits at exact places and nowhere else."""

    def test_edits_in_any_order(self) -> None:
        """Edits are made by place, not by the order they are given in."""
        assert splice("abcdef", [Edit(Span(4, 5), "E"), Edit(Span(0, 1), "A"), Edit.insert(2, "-")]) == "Ab-cdEf"

    def test_the_outer_of_two_overlapping_edits_wins(self) -> None:
        """An edit inside a removed range is dropped."""
        assert splice("abcdef", [Edit(Span(2, 3), "X"), Edit(Span(1, 5), "")]) == "af"

    @given(st.text(max_size=30))
    def test_no_edit_changes_nothing(self, text: str) -> None:
        """Without edits the source is the result."""
        assert splice(text, []) == text


class TestPlainValues:
    """Plain values read into data classes."""

    @pytest.mark.parametrize(
        ("value", "kind", "said"),
        [
            ({"a": [1, "x"]}, dict[str, list[int]], "“a”, entry 2 is a whole number, not 'x'"),
            ({"a": 1, "b": None}, dict[str, int], "“b” is a whole number, not None"),
            ([], dict[str, int], "it is a table, not []"),
            ({"start": 1}, Span, "it lacks “end”"),
            ({"start": 1, "end": 2.5}, Span, "“end” is a whole number, not 2.5"),
            ({"start": True, "end": 2}, Span, "“start” is a whole number, not True"),
        ],
    )
    def test_what_does_not_fit_is_told(self, value: Any, kind: Any, said: str) -> None:
        """Its place, what it has to be, and what it is."""
        with pytest.raises(Unfit) as refused:
            read(value, kind)
        assert str(refused.value) == said

    def test_there_and_back(self) -> None:
        """A data class is the same afterwards."""
        assert read(as_table(Span(1, 2)), Span) == Span(1, 2)


class TestSpans:
    """Many spans asked about at once answer as each by itself would."""

    @given(
        st.lists(st.tuples(st.integers(0, 40), st.integers(0, 12)), max_size=12),
        st.integers(0, 60),
    )
    def test_holding(self, given_spans: list[tuple[int, int]], offset: int) -> None:
        """Nested, touching and empty ones among them."""
        spans = [Span(start, start + length) for start, length in given_spans]
        assert (offset in Spans(spans)) is any(offset in span for span in spans)
        assert bool(Spans(spans)) is bool(spans)

    @given(st.lists(st.integers(1, 8), max_size=10), st.integers(0, 60), st.integers(0, 30))
    def test_cutting(self, steps: list[int], start: int, length: int) -> None:
        """Of spans that lie one behind another, that in which a stretch begins and does not end."""
        edges = list(itertools.accumulate(steps, initial=0))
        spans = [Span(edges[at], edges[at + 1]) for at in range(0, len(edges) - 1, 2)]
        stretch = Span(start, start + length)
        assert Spans(spans).cuts(stretch) is any(stretch.start in span and stretch.end > span.end for span in spans)
