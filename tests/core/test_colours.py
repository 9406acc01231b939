"""Colours of CSS as the core computes them: published vectors, and a corpus of values through all checks of styles."""

from __future__ import annotations

import json
from typing import Any

import pytest
import tinycss2

from jetwind.core.checking import Context, Outcome, registry, run_check
from jetwind.core.message import read_bytes
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
