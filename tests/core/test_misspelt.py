"""Names that are one letter away: held against lists and a distance of other programs, and bounded."""

from __future__ import annotations

import string
import warnings

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.checking import Context, registry, run_check
from jetwind.core.checks.appearance import misspelt
from jetwind.core.facts import table
from jetwind.core.facts.tables import Css, Html
from jetwind.core.message import read_bytes

with warnings.catch_warnings():
    # Its authors advise against cleaning HTML with it; the lists in it are what this test reads.
    warnings.simplefilter("ignore", DeprecationWarning)
    from html5lib.filters import sanitizer

#: Its list holds the attributes of MathML and SVG, too, which are none on an element of HTML.
OF_DRAWINGS = frozenset({"from", "lspace", "rspace", "slope", "values", "widths"})

ATTRIBUTES, PROPERTIES = table("html", Html)["attributes"], table("css", Css)["properties"]


def told(html: str) -> list[str]:
    """The sentences of all faults."""
    answer = run_check(registry()["appearance.misspelt"], read_bytes(html.encode(), "a.html"), Context())
    return [fault.message for finding in answer.findings for fault in finding.told]


def distance(one: str, other: str) -> int:
    """Letters added, left out, exchanged, or neighbours that changed places, by the table of optimal string alignment (from memory)."""
    rows = [[max(a, b) if not min(a, b) else 0 for b in range(len(other) + 1)] for a in range(len(one) + 1)]
    for a in range(1, len(one) + 1):
        for b in range(1, len(other) + 1):
            rows[a][b] = min(rows[a - 1][b] + 1, rows[a][b - 1] + 1, rows[a - 1][b - 1] + (one[a - 1] != other[b - 1]))
            if a > 1 and b > 1 and one[a - 1] == other[b - 2] and one[a - 2] == other[b - 1]:
                rows[a][b] = min(rows[a][b], rows[a - 2][b - 2] + 1)
    return rows[-1][-1]


class TestKnownNames:
    """What another program knows is no slip."""

    def test_attributes_and_properties_that_html5lib_lets_through(self) -> None:
        """html5lib 1.1, sanitizer: allowed_attributes without a namespace, and allowed_css_properties."""
        names = sorted(name for space, name in sanitizer.allowed_attributes if space is None)
        properties = sorted(sanitizer.allowed_css_properties)
        assert len(names) > 150
        assert len(properties) > 40
        html = "".join(f"<p {name}='1'>x</p>" for name in names if name not in ("style", "src", "href", *OF_DRAWINGS))
        styles = "".join(f"<p style='{name}: inherit'>x</p>" for name in properties)
        assert told(html) == []
        assert told(styles) == []


class TestNearest:
    """One letter, held against the plain table of distances."""

    @settings(deadline=None, max_examples=300)
    @given(st.sampled_from(sorted(PROPERTIES)), st.integers(0, 40), st.sampled_from(string.ascii_lowercase), st.integers(0, 3))
    def test_every_slip_is_found(self, word: str, at: int, letter: str, kind: int) -> None:
        """A letter more, less, other or exchanged: the word that is meant is one away by the table, too."""
        at %= len(word)
        slip = (
            word[:at] + letter + word[at:],
            word[:at] + word[at + 1 :],
            word[:at] + letter + word[at + 1 :],
            word[:at] + word[at : at + 2][::-1] + word[at + 2 :],
        )[kind]
        meant = misspelt._near(slip, "css")
        assert (meant == "") is (slip in PROPERTIES)
        assert not meant or (meant in PROPERTIES and distance(slip, meant) == 1)

    @settings(deadline=None, max_examples=300)
    @given(st.text(string.ascii_lowercase + "-", min_size=3, max_size=12))
    def test_nothing_else_is(self, word: str) -> None:
        """Any other word is near none by the table."""
        assert bool(misspelt._near(word, "html")) is (word not in ATTRIBUTES and any(distance(word, known) == 1 for known in ATTRIBUTES))


class TestPlaces:
    """Where it stands, and how much is told."""

    def test_the_words_of_a_slip(self) -> None:
        """What is written, and what may be meant."""
        assert told("<table aling='center'><tr><td style='colour: red; text-align: centre'>x</td></tr></table>") == [
            "The attribute aling is unknown; align may be meant.",
            "The style colour is unknown; color may be meant.",
            "The style text-align does not take centre; center may be meant.",
        ]

    @pytest.mark.parametrize("piece", ["<p aling=a>x</p>", "<p style='colour:red'>x</p>", "<style>p{colour:red}</style>"])
    def test_many_are_one_finding(self, piece: str) -> None:
        """Thousands of one slip are counted up to a limit, and are one fault."""
        answer = run_check(registry()["appearance.misspelt"], read_bytes((piece * 4_000).encode(), "a.html"), Context())
        (finding,) = answer.findings
        assert (finding.faults, finding.count) == ((), misspelt._MOST)
