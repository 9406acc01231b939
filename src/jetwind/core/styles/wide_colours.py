"""Colours that take more than the arithmetic of sRGB: wide spaces, relative colours and mixtures (CSS Color 4 §9, §10; CSS Color 5 §3, §4).

The library coloraide converts them. What lies outside of sRGB is cut off channel by channel, as browsers do on a usual screen.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

from tinycss2.color4 import parse_color

from jetwind.core.errors import JetwindError

if TYPE_CHECKING:
    from coloraide import Color
    from tinycss2.ast import Value

Rgba = tuple[int, int, int, float]

#: Functions that are colours.
FUNCTIONS = frozenset(["rgb", "rgba", "hsl", "hsla", "hwb", "lab", "lch", "oklab", "oklch", "color", "color-mix", "light-dark"])
#: For each function the space in coloraide's words, its channels, what of the space's own number a channel's number is, and 100 % of each.
_SPACES: dict[str, tuple[str, tuple[str, str, str], tuple[float, float, float], tuple[float, float, float]]] = {
    "rgb": ("srgb", ("r", "g", "b"), (255, 255, 255), (255, 255, 255)),
    "hsl": ("hsl", ("h", "s", "l"), (1, 100, 100), (360, 100, 100)),
    "hwb": ("hwb", ("h", "w", "b"), (1, 100, 100), (360, 100, 100)),
    "lab": ("lab", ("l", "a", "b"), (1, 1, 1), (100, 125, 125)),
    "lch": ("lch", ("l", "c", "h"), (1, 1, 1), (100, 150, 360)),
    "oklab": ("oklab", ("l", "a", "b"), (1, 1, 1), (1, 0.4, 0.4)),
    "oklch": ("oklch", ("l", "c", "h"), (1, 1, 1), (1, 0.4, 360)),
}
#: Spaces of color(): by their name in CSS that in coloraide, and their channels.
_NAMED = {
    **{name: (name, ("r", "g", "b")) for name in ("srgb", "srgb-linear", "display-p3", "a98-rgb", "prophoto-rgb")},
    "rec2020": ("rec2020-oetf", ("r", "g", "b")),
    **{name: (f"xyz-{name[4:] or 'd65'}", ("x", "y", "z")) for name in ("xyz", "xyz-d50", "xyz-d65")},
}
_LIGHTEST = {"lab": 100.0, "lch": 100.0, "oklab": 1.0, "oklch": 1.0}
_ANGLES = {"deg": 1.0, "grad": 0.9, "rad": 180 / math.pi, "turn": 360.0}
#: Functions within functions that are computed.
_DEEPEST = 12


class _Unknown(JetwindError):
    """A value that cannot be told: a variable, the colour of the text around, nonsense inside a function."""


def computed(node: Value) -> Rgba | None:
    """Red, green, blue (0 to 255) and alpha (0 to 1) of a function that is a colour; None where they cannot be told."""
    try:
        return as_rgba(_colour(node, 0))
    except (_Unknown, ValueError, ArithmeticError, TypeError, LookupError):
        return None


@lru_cache(maxsize=1)
def _library() -> type[Color]:
    """The colours of coloraide, loaded when they are first asked for: it takes a third of a second, and few messages have any.

    Its rec2020 is that of a screen; browsers have the one of ITU-R BT.2020 (CSS Color 4 §10.6, as published).
    """
    from coloraide import Color
    from coloraide.spaces.rec2020_oetf import Rec2020OETF

    class Known(Color):
        """The colours of coloraide with one more space."""

    Known.register(Rec2020OETF())
    return Known


def as_rgba(colour: Color) -> Rgba:
    """Red, green, blue (0 to 255) and alpha (0 to 1) of a colour of coloraide.

    Raises:
        ValueError, ArithmeticError: a number in it has no end.
    """
    red, green, blue, alpha = (0.0 if math.isnan(part) else part for part in colour.convert("srgb"))
    found = [min(255, max(0, round(min(max(part, -2.0), 2.0) * 255 + 1e-9))) for part in (red, green, blue)]
    return found[0], found[1], found[2], round(min(max(alpha, 0.0), 1.0), 3)


def converted(space: str, coordinates: Sequence[float | None], alpha: float) -> Color:
    """A colour of coloraide from what tinycss2 has read; a coordinate that is none is nought, as where it is painted.

    Raises:
        ValueError: a coordinate has no end.
    """
    name = _NAMED[space][0] if space in _NAMED else space
    # A hue and a percentage are written as coloraide has them.
    by = 100 if name in ("hsl", "hwb") else 1
    parts = [(part or 0.0) / (by if number else 1) for number, part in enumerate(coordinates)]
    if not all(map(math.isfinite, parts)):
        raise ValueError("a coordinate has no end")
    return _made_of(name, parts, alpha)


def _made_of(space: str, parts: Sequence[float], alpha: float) -> Color:
    """A colour whose lightness and chroma lie where they may (CSS Color 4 §9.3, §9.4)."""
    first, second, third = parts
    if space in _LIGHTEST:
        first = min(max(first, 0.0), _LIGHTEST[space])
    if space in ("lch", "oklch"):
        second = max(second, 0.0)
    return _library()(space, [first, second, third], alpha)


def _colour(node: Value, depth: int) -> Color:
    if depth > _DEEPEST:
        raise _Unknown
    found = parse_color(node)
    if found is not None:
        if found == "currentcolor":
            raise _Unknown
        return converted(found.space, found.coordinates, found.alpha)
    if node.type != "function":
        raise _Unknown
    name, solid = node.lower_name, [one for one in node.arguments if one.type not in ("whitespace", "comment")]
    if name == "light-dark":
        # A message without a scheme of its own is light (CSS Color Adjust 1 §2.2).
        return _colour(_split(solid)[0][0], depth + 1)
    if name == "color-mix":
        return _mixed(_split(solid), depth)
    return _made(name.removesuffix("a") if name in ("rgba", "hsla") else name, solid, depth)


def _split(nodes: Sequence[Value]) -> list[list[Value]]:
    parts: list[list[Value]] = [[]]
    for node in nodes:
        if node.type == "literal" and node.value == ",":
            parts.append([])
        else:
            parts[-1].append(node)
    return parts


def _made(name: str, nodes: Sequence[Value], depth: int) -> Color:
    """A colour whose channels are calculated, perhaps from those of another one (CSS Color 5 §4)."""
    origin = None
    if nodes and nodes[0].type == "ident" and nodes[0].lower_value == "from":
        origin, nodes = _colour(nodes[1], depth + 1), nodes[2:]
    if name == "color":
        space, channels = _NAMED[_word(nodes[0])]
        nodes = nodes[1:]
        scales = whole = (1.0, 1.0, 1.0)
    else:
        space, channels, scales, whole = _SPACES[name]
    has_commas = any(node.type == "literal" and node.value == "," for node in nodes)
    if has_commas:
        nodes = [node for part in _split(nodes) for node in part]
    slash = next((at for at, node in enumerate(nodes) if node.type == "literal" and node.value == "/"), len(nodes))
    parts, alphas = nodes[:slash], nodes[slash + 1 :]
    if has_commas and len(parts) == 4 and not alphas:
        parts, alphas = parts[:3], parts[3:]
    if len(parts) != 3 or len(alphas) > 1:
        raise _Unknown
    known: dict[str, float] = {}
    if origin is not None:
        values = origin.convert(space)
        known = {
            channel: 0.0 if math.isnan(value) else value * scale for channel, value, scale in zip(channels, values[:3], scales, strict=True)
        }
        known["alpha"] = values[3]
    numbers = [_number([part], known, full) / scale for part, full, scale in zip(parts, whole, scales, strict=True)]
    alpha = _number(alphas, known, 1.0) if alphas else known.get("alpha", 1.0)
    return _made_of(space, numbers, min(max(alpha, 0.0), 1.0))


def _word(node: Value) -> str:
    if node.type != "ident":
        raise _Unknown
    return node.lower_value


def _number(nodes: Sequence[Value], known: Mapping[str, float], full: float) -> float:
    """A number, a share of ``full``, a channel of the colour that another comes from, or a calculation with them."""
    values = [_value(node, known, full) for node in nodes if node.type not in ("whitespace", "comment")]
    for signs in ("*/", "+-"):
        values = _reduced(values, signs)
    if len(values) != 1 or isinstance(values[0], str) or not math.isfinite(values[0]):
        raise _Unknown
    return values[0]


def _value(node: Value, known: Mapping[str, float], full: float) -> float | str:
    if node.type == "number":
        return float(node.value)
    if node.type == "percentage":
        return float(node.value) / 100 * full
    if node.type == "dimension" and node.lower_unit in _ANGLES:
        return float(node.value) * _ANGLES[node.lower_unit]
    if node.type == "ident":
        return 0.0 if node.lower_value == "none" else known[node.lower_value]
    if node.type == "literal" and node.value in "+-*/":
        return node.value
    if node.type == "() block":
        return _number(node.content, known, full)
    if node.type == "function" and node.lower_name == "calc":
        return _number(node.arguments, known, full)
    raise _Unknown


_STEPS: dict[str, Callable[[float, float], float]] = {
    "*": lambda one, other: one * other,
    "/": lambda one, other: one / other,
    "+": lambda one, other: one + other,
    "-": lambda one, other: one - other,
}


def _reduced(values: Sequence[float | str], signs: str) -> list[float | str]:
    found: list[float | str] = []
    for value in values:
        if len(found) >= 2 and isinstance(found[-1], str) and found[-1] in signs and not isinstance(value, str):
            sign, left = str(found.pop()), found.pop()
            if isinstance(left, str):
                raise _Unknown
            value = _STEPS[sign](left, value)
        found.append(value)
    return found


def _mixed(parts: list[list[Value]], depth: int) -> Color:
    """Two colours mixed in a space, by their shares (CSS Color 5 §3)."""
    (_, space, *hue), *given = parts
    if len(given) != 2:
        raise _Unknown
    colours, shares = [], []
    for nodes in given:
        percent = [node for node in nodes if node.type == "percentage"]
        (colour,) = [node for node in nodes if node.type != "percentage"]
        colours.append(_colour(colour, depth + 1))
        shares.append(float(percent[0].value) / 100 if percent else None)
    one, other = shares
    one = one if one is not None else 1 - other if other is not None else 0.5
    other = other if other is not None else 1 - one
    whole = one + other
    if whole <= 0:
        raise _Unknown
    name = _word(space)
    name = _NAMED[name][0] if name in _NAMED else _SPACES[name][0]
    way = _word(hue[0]) if hue else "shorter"
    mixed = colours[0].mix(colours[1], other / whole, space=name, out_space=name, hue=way, premultiplied=True)
    mixed["alpha"] = mixed["alpha"] * min(whole, 1.0)
    return mixed
