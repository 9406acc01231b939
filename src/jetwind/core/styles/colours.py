"""Colours of declarations and of presentational attributes (CSS Color 4 through tinycss2; HTML §2.3.6)."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import TYPE_CHECKING

import tinycss2
from tinycss2.color4 import parse_color

from jetwind.core.styles.wide_colours import FUNCTIONS, Rgba, as_rgba, computed, converted

if TYPE_CHECKING:
    from tinycss2.ast import FunctionBlock, Value
    from tinycss2.color4 import Color


def parse(node: Value | None, quirks: bool) -> tuple[str, str | Rgba] | None:
    """A colour value as ``(kind, what)``: colour, keyword, or unknown for what cannot be told; None where it is none.

    Nobody can tell the colours of a system, nor a function with a variable in it. In quirks mode a colour may lack its hash (quirks.spec §3.1; from memory).
    """
    if node is None:
        return None
    if quirks and node.type in ("number", "dimension", "ident") and re.fullmatch(r"[0-9a-fA-F]{3}|[0-9a-fA-F]{6}", bare := _bare(node)):
        node = tinycss2.parse_one_component_value(f"#{bare}")
    try:
        found = parse_color(node)
    except (ValueError, TypeError, AttributeError):
        return None
    if found is None:
        if node.type == "function" and node.lower_name in FUNCTIONS:
            return _of_function(node)
        return ("unknown", node.lower_value) if node.type == "ident" and node.lower_value in _SYSTEM_COLOURS else None
    if found == "currentcolor":
        return "keyword", "currentcolor"
    try:
        return "colour", rgba(found)
    except (ValueError, ArithmeticError):
        return "unknown", tinycss2.serialize([node])


def _of_function(node: FunctionBlock) -> tuple[str, str | Rgba] | None:
    """A function that is no plain colour: calculated, relative, a mixture, or nothing that CSS knows."""
    if (seen := computed(node)) is not None:
        return "colour", seen
    is_open = node.lower_name in ("color-mix", "light-dark") or any(
        one.type in ("function", "() block") or (one.type == "ident" and one.lower_value in ("from", "none")) for one in node.arguments
    )
    return ("unknown", tinycss2.serialize([node])) if is_open else None


_SYSTEM_COLOURS = frozenset(
    [
        "canvas",
        "canvastext",
        "linktext",
        "visitedtext",
        "activetext",
        "buttonface",
        "buttontext",
        "buttonborder",
        "field",
        "fieldtext",
        "highlight",
        "highlighttext",
        "graytext",
        "mark",
        "marktext",
        "window",
        "windowtext",
        "menu",
        "menutext",
        "infobackground",
        "infotext",
    ]
)


def _bare(node: Value) -> str:
    """The characters of a colour without its hash."""
    return re.sub(r"\s", "", tinycss2.serialize([node]))


def rgba(colour: Color) -> Rgba:
    """Red, green, blue from 0 to 255, and alpha from 0 to 1.

    Raises:
        ValueError, ArithmeticError: a number in it has no end.
    """
    if colour.space not in ("srgb", "hsl", "hwb"):
        return as_rgba(converted(colour.space, colour.coordinates, colour.alpha if colour.alpha is not None else 1.0))
    inside = colour.to("srgb") if colour.space != "srgb" else colour
    red, green, blue = (min(255, max(0, round((part or 0) * 255 + 1e-9))) for part in inside.coordinates[:3])
    return red, green, blue, round(float(inside.alpha if inside.alpha is not None else 1), 3)


def legacy_colour(value: str) -> tuple[int, int, int, float] | None:
    """A colour of a bgcolor, color, text or link attribute (HTML §2.3.6, rules for parsing a legacy color value; from memory)."""
    text = value.strip(" \t\r\n\f")
    if not text or text.lower() == "transparent" or "\ue000" in text:
        return None
    # A message asks for the same few colours thousands of times.
    return _known_legacy(text) if len(text) <= 32 else _legacy(text)


def _legacy(text: str) -> tuple[int, int, int, float]:
    named = parse_color(text) if re.fullmatch(r"[A-Za-z]+", text) else None
    if named is not None and named != "currentcolor":
        return rgba(named)
    if re.fullmatch(r"#[0-9a-fA-F]{3}", text):
        red, green, blue = (int(char * 2, 16) for char in text[1:])
        return red, green, blue, 1.0
    text = "".join("00" if ord(char) > 0xFFFF else char for char in text)[:128].removeprefix("#")
    text = re.sub(r"[^0-9a-fA-F]", "0", text) or "0"
    text += "0" * (-len(text) % 3)
    size = len(text) // 3
    parts = [text[at * size : (at + 1) * size][-8:] for at in range(3)]
    while len(parts[0]) > 2 and all(part[0] == "0" for part in parts):
        parts = [part[1:] for part in parts]
    red, green, blue = (int(part[:2], 16) for part in parts)
    return red, green, blue, 1.0


_known_legacy = lru_cache(maxsize=2_000)(_legacy)
