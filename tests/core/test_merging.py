"""Merged texts, traced character by character."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jetwind.core.fields import Merged, fill, merge, merge_each
from jetwind.core.source import Span

BITS = [
    "word ", "  \n", "<b>", "{{ x }}", "{{ y | default: 'd' }}", "{{ x | upcase }}", "{{- y -}}", "{{ unknown }}", "{% if x %}", "{% else %}", "{% endif %}",
    "{%- if y == 'b' -%}", "{%- endif -%}", "{% for i in (1..3) %}", "{{ i }}", "{% endfor %}", "{% cycle 'a', 'b' %}", "{% increment n %}", "{% raw %}", "{% endraw %}",
    "{% assign z = x %}", "{{ z }}", "{% capture c %}", "{% endcapture %}", "{{ c }}", "{{ c | size }}", "{% comment %}", "{% endcomment %}", "{{", "}}", "{{#if a}}", "é\U000f0000", "\r\n", "\r",
]  # fmt: skip
VALUES = st.fixed_dictionaries({"x": st.sampled_from(["", "Tove", "<i>", "{{ y }}", " a "]), "y": st.sampled_from(["", "b", "ü\n"])})


class TestTracing:
    """Every character is led back."""

    @given(st.lists(st.sampled_from(BITS), max_size=12).map("".join), VALUES, st.booleans())
    def test_what_is_merged_is_led_back(self, source: str, values: dict[str, str], escape: bool) -> None:
        """The text is that of filling; pieces cover it without gaps; what stands in the source stands there word for word."""
        merged = merge(source, values, escape=escape)
        assert merged.text == fill(source, values, escape=escape)
        at = 0
        for piece in merged.pieces:
            assert piece.start == at < piece.end
            at = piece.end
            if piece.token is None:
                assert merged.text[piece.start : piece.end] == source[piece.source.start : piece.source.end]
                assert merged.source_of(Span(piece.start, piece.end)) == piece.source
            else:
                assert source[piece.source.start : piece.source.end] == piece.token.source
        assert not merged.pieces or at == len(merged.text)

    def places(self, merged: Merged, source: str) -> list[tuple[str, str]]:
        """Each piece that was brought, and what brought it."""
        return [(merged.text[piece.start : piece.end], source[piece.source.start : piece.source.end]) for piece in merged.filled]

    @pytest.mark.parametrize(
        ("source", "values", "text", "places"),
        [
            ("Dear {{ x }}, hi", {"x": "Tove"}, "Dear Tove, hi", [("Tove", "{{ x }}")]),
            ("{{ x | default: 'you' }}!", {}, "you!", [("you", "{{ x | default: 'you' }}")]),
            ("{% for i in (1..2) %}<{{ x }}>{% endfor %}", {"x": "a"}, "<a><a>", [("a", "{{ x }}"), ("a", "{{ x }}")]),
            ("a {%- if x -%} b {% endif %}c", {"x": "1"}, "ab c", []),
            ("n: {% increment n %}.", {}, "n: 0.", [("0", "{% increment n %}")]),
            ("{% capture c %}in {{ x }}{% endcapture %}{{ c }}", {"x": "T"}, "in T", [("T", "{{ x }}")]),
            ("{% if x %}{{ x }}{% broken", {"x": "T"}, "T{% broken", [("T", "{{ x }}")]),
        ],
    )
    def test_examples(self, source: str, values: dict[str, str], text: str, places: list[tuple[str, str]]) -> None:
        """Worked by hand."""
        merged = merge(source, values, escape=False)
        assert merged.text == text
        assert self.places(merged, source) == places

    def test_a_stretch_over_a_field(self) -> None:
        """From the middle of a word before it to the middle of a value: the whole field is meant."""
        source = "Dear {{ x }}, hi"
        merged = merge(source, {"x": "Tove"}, escape=False)
        assert merged.source_of(Span(2, 7)) == Span(2, 12)
        assert merged.source_of(Span(10, 13)) == Span(13, 16)
        assert merged.source_of(Span(40, 41)) is None

    def test_what_looks_at_its_own_words_is_not_traced(self) -> None:
        """A size of what was caught cannot be told with marks in it: the text is right, the pieces are none."""
        merged = merge("{% capture c %}abc{% endcapture %}{{ c | size }}", {}, escape=False)
        assert (merged.text, merged.pieces) == ("3", ())


class TestManyReaders:
    """Each gets what they would get alone."""

    @given(st.lists(st.sampled_from(BITS), max_size=8).map("".join), st.lists(VALUES, min_size=1, max_size=6))
    def test_as_if_alone(self, source: str, rows: list[dict[str, str]]) -> None:
        """Whatever the template asks of the values."""
        assert merge_each(source, rows, escape=True) == [merge(source, row, escape=True) for row in rows]

    def test_equal_texts_are_made_once(self) -> None:
        """Fields that the message does not name make no difference."""
        rows = [{"x": "ab"[number % 2], "order.number": str(number % 3), "other": str(number)} for number in range(600)]
        merged = merge_each("{{ x }} {% if order.number == '1' %}one{% endif %}", rows, escape=False)
        assert len({id(one) for one in merged}) == 6
        assert len({one.text for one in merged}) == 4


@pytest.mark.parametrize(
    "source",
    ["é\U000f0000\r\n", "{{ x }}\r\n", "a\r\n{{ x | upcase }}\r{% if x %}b\r\n{% endif %}", "\U000f0000\r\n{% if x %}\r\n{% endif %}"],
)
def test_line_ends(source: str) -> None:
    """What has marks of its own, or no need of the engine, keeps its line ends as filling does."""
    for values in ({"x": "Tove"}, {}):
        assert merge(source, values, escape=False).text == fill(source, values, escape=False)
