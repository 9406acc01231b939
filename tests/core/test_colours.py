"""Colours of CSS as the core computes them: published vectors, and a corpus of values through all checks of styles."""

from __future__ import annotations

import json
from typing import Any

import pytest
import tinycss2

from jetwind.core.checking import CheckResult, Context, Outcome, SampleBlock, box, laid_out, registry, run_check
from jetwind.core.message import read_bytes
from jetwind.core.styles import ComputedStyles
from jetwind.core.styles.colours import parse
from tests.references import sdist

#: Values and the sRGB that they are, of CSS Color 4's own examples and tests; from memory.
PUBLISHED: list[tuple[str, tuple[float, float, float]]] = [
    ("lab(46.2775% -47.5621 48.5837)", (0, 128, 0)),
    ("lab(0% 0 0)", (0, 0, 0)),
    ("lab(100% 0 0)", (255, 255, 255)),
    ("lab(50% 50 0)", (192.83, 77.64, 121.29)),
    ("lab(70% -45 0)", (27.52, 192.67, 169.32)),
    ("lab(70% 0 70)", (195.39, 169.22, 14.22)),
    ("lab(55% 0 -60)", (32.67, 135.42, 236.55)),
    ("oklab(51.975% -0.1403 0.10768)", (0, 128, 0)),
    ("oklab(50% 0.05 0)", (123.62, 87.44, 97.95)),
    ("oklch(51.975% 0.17686 142.495)", (0, 128, 0)),
    ("oklch(80% 0.15 160)", (81.66, 218.8, 155.92)),
    ("oklch(55% 0.15 345)", (171.6, 70.87, 133.31)),
    ("color(srgb 0 0.6 0)", (0, 153, 0)),
    ("color(srgb-linear 0 0.21586 0)", (0, 128, 0)),
    ("color(display-p3 0.26374 0.59085 0.16434)", (0, 153, 0)),
    ("color(rec2020 0.299218 0.533327 0.120785)", (0, 153, 0)),
    ("color(prophoto-rgb 0.230479 0.395789 0.129968)", (0, 128, 0)),
    ("color(a98-rgb 0.281363 0.498012 0.116746)", (0, 128, 0)),
    ("color(xyz 0.07719 0.15438 0.02573)", (0, 128, 0)),
    ("color(xyz-d50 0.08312 0.154746 0.020961)", (0, 128, 0)),
    ("rgb(none 128 none)", (0, 128, 0)),
    ("hsl(none 100% 50%)", (255, 0, 0)),
    ("hwb(120 none 49.8%)", (0, 128, 0)),
    ("rgb(from green r g b)", (0, 128, 0)),
    ("rgb(from green calc(r + 10) g calc(g / 2))", (10, 128, 64)),
    ("hsl(from red calc(h + 120) s calc(l * 0.5019))", (0, 128, 0)),
    ("color(from green srgb r g b / alpha)", (0, 128, 0)),
    ("oklch(from green l c h)", (0, 128, 0)),
    ("color-mix(in srgb, white, black)", (127.5, 127.5, 127.5)),
    ("color-mix(in srgb, white 25%, black)", (63.75, 63.75, 63.75)),
    ("light-dark(green, red)", (0, 128, 0)),
]


def value(text: str) -> Any:
    """A colour as the core reads it."""
    return parse(tinycss2.parse_one_component_value(text), False)


def corpus() -> list[tuple[str, bool]]:
    """Colour values, and whether they are valid: PyPI tinycss2 1.5.1, its css-parsing-tests (CC0)."""
    folder = sdist("tinycss2", "1.5.1") / "tests" / "css-parsing-tests"
    found: list[tuple[str, bool]] = []
    for file in sorted(folder.glob("color_*.json")):
        rows = json.loads(file.read_text("utf-8"))
        found += [(text, wanted is not None) for text, wanted in zip(rows[::2], rows[1::2], strict=True) if isinstance(text, str)]
    return found


class TestColours:
    """CSS Color 4 and 5."""

    @pytest.mark.parametrize(("text", "wanted"), PUBLISHED)
    def test_published(self, text: str, wanted: tuple[float, float, float]) -> None:
        """Within one of 255."""
        kind, found = value(text)
        assert kind == "colour"
        assert found[:3] == pytest.approx(wanted, abs=1.0)

    @pytest.mark.parametrize(
        ("text", "alpha"), [("rgb(1 2 3 / none)", 0.0), ("lab(50% 0 0 / 25%)", 0.25), ("rgb(from rgb(1 2 3 / 0.4) r g b / calc(alpha / 2))", 0.2),
                            ("color-mix(in srgb, red 20%, blue 30%)", 0.5), ("color-mix(in srgb, transparent, red)", 0.5)]
    )  # fmt: skip
    def test_alpha(self, text: str, alpha: float) -> None:
        """As it is written, as it comes from another colour, and what is lacking to a whole mixture."""
        assert value(text)[1][3] == pytest.approx(alpha, abs=0.002)

    @pytest.mark.parametrize(
        "text",
        ["rgb(var(--a) 0 0)", "rgb(from var(--a) r g b)", "color-mix(in srgb, currentcolor, red)", "rgb(1e999 0 0)", "lab(1e999 0 0)", "Canvas",
         "color-mix(in srgb, red 0%, blue 0%)", "rgb(calc(1 / 0) 0 0)", "light-dark(" * 40 + "red" + ", red)" * 40],
    )  # fmt: skip
    def test_what_cannot_be_told(self, text: str) -> None:
        """It is neither a colour nor nothing: who asks has to say so."""
        assert value(text)[0] == "unknown"

    @pytest.mark.parametrize(
        "text", ["rgb(a b c)", "color(nowhere 1 1 1)", "blurple", "lab(1 2)", "url(a.png)", "linear-gradient(red, blue)"]
    )
    def test_no_colours(self, text: str) -> None:
        """A declaration with one is left out."""
        assert value(text) is None

    def test_a_corpus(self) -> None:
        """Each valid value is a colour or the keyword, and no invalid one is."""
        rows = corpus()
        assert len(rows) > 8_000
        for text, is_valid in rows:
            if text.startswith(("device-cmyk", "color(--")):
                continue  # colours of a profile, which no browser knows
            node = tinycss2.parse_one_component_value(text)
            kind = (parse(node, False) or ("",))[0] if node.type != "error" else ""
            assert kind in (("colour", "keyword", "unknown") if is_valid else ("", "unknown")), text


def test_no_check_crashes_on_a_colour() -> None:
    """Every hundredth value of the corpus and every published one as letter, ground and border, in attributes and in a sheet."""
    values = [text for text, _ in PUBLISHED] + [text for text, is_valid in corpus()[::100] if is_valid]
    cells = "".join(
        f'<td class="c{number}" style="color: {text}; background: {text}; border: 1px solid {text}" bgcolor="{text}">Kiln <a href="https://kiln.org/" style="color: {text}">shop</a></td>'
        for number, text in enumerate(values)
    )
    sheet = "".join(f".c{number} {{ background-color: {text}; text-decoration-color: {text} }}\n" for number, text in enumerate(values))
    message = read_bytes(f"<style>{sheet}</style><table><tr>{cells}</tr></table>".encode(), "a.html")
    crashed = [
        (one.id, answer.reason) for one in registry().values() if (answer := run_check(one, message, Context())).outcome is Outcome.CRASHED
    ]
    assert crashed == []


class TestUnknown:
    """A letter's colour or a ground that nobody knows is told, and never clear."""

    @pytest.mark.parametrize(
        ("html", "name"),
        [
            ('<td bgcolor="{{ c }}">x', "background-color"),
            ('<td style="background: {{ c }}">x', "background-color"),
            ('<td style="background-color: #{{ c }}">x', "background-color"),
            ('<td style="background-color: rgb(var(--r) 0 0)">x', "background-color"),
            ('<td style="color: {{ c }}">x', "color"),
            ('<td><font color="{{ c }}">x', "color"),
        ],
    )
    def test_computed(self, html: str, name: str) -> None:
        """A field or a variable as colour, in an attribute or a style."""
        document = read_bytes(f"<table><tr>{html}".encode(), "a.html").document
        assert document is not None
        assert ComputedStyles(document).colour(document.all_elements[-1], name) is None

    def _contrast(self, *boxes: SampleBlock, check: str = "access.contrast", profile: str = "desktop-pane") -> CheckResult:
        message = read_bytes(b"<p>Kiln</p>\n<div>Glaze</div>\n<h1>Clay</h1>", "a.html")
        return run_check(registry()[check], message, Context(renders=laid_out(profile, *boxes).on(message)))

    def test_told_with_its_place(self) -> None:
        """Alone it is what cannot be told; beside a finding it is said of the rest."""
        known = box("p", "text", (0, 0, 90, 20), characters=9, size=16, colour=(9, 0, 0, 1), ground=(255, 255, 255, 1))
        faint = box("p", "text", (0, 0, 90, 20), characters=9, size=16, colour=(200, 200, 200, 1), ground=(255, 255, 255, 1))
        on_picture = box("div", "text", (0, 20, 90, 20), characters=9, size=16, colour=(200, 200, 200, 1), ground=None)
        no_colour = box("h1", "text", (0, 40, 90, 20), characters=9, size=16, colour=None, ground=(255, 255, 255, 1))
        assert self._contrast(known).outcome is Outcome.CLEAR
        one = self._contrast(known, on_picture)
        assert (one.outcome, one.reason) == (
            Outcome.CANNOT_TELL,
            "text stands on a picture, a gradient or a colour that is not known, in one place, at line 2",
        )
        both = self._contrast(faint, on_picture, no_colour)
        assert both.outcome is Outcome.FINDINGS
        assert both.reason.endswith("in 2 places, the first at line 2")
        night = self._contrast(on_picture, check="access.contrast-dark", profile="desktop-night")
        assert night.outcome is Outcome.CANNOT_TELL

    def test_an_unsubscribe_link_on_an_unknown_ground(self) -> None:
        """White letters may well stand out from what the field brings."""
        link = '<p><a href="https://kiln.org/unsubscribe" style="color: #ffffff">Unsubscribe</a></p>'
        for ground, told in (("#ffffff", True), ("{{ colour }}", False)):
            message = read_bytes(f'<p>Sale</p><table><tr><td bgcolor="{ground}">{link}</td></tr></table>'.encode(), "a.html")
            answer = run_check(registry()["footer.unsubscribe-hidden"], message, Context())
            assert bool(answer.findings) is told
