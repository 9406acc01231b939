"""Values of the computed properties: what a declaration says, made ready to be computed. Anything unreadable stays unknown.

Grammar: CSS Color 4, CSS Fonts 4, CSS Text 3, CSS Display 3, CSS Values 4 (from memory; held against Chromium in the tests).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import TYPE_CHECKING

import tinycss2

from jetwind.core.styles import colours
from jetwind.core.styles.properties import INITIAL, KEYWORDS, WIDE
from jetwind.core.styles.reading import value_nodes
from jetwind.core.styles.wide_colours import Rgba, computed

if TYPE_CHECKING:
    from tinycss2.ast import Value

_ABSOLUTE = {"px": 1.0, "pt": 96 / 72, "pc": 16.0, "in": 96.0, "cm": 96 / 2.54, "mm": 96 / 25.4, "q": 96 / 101.6}
_RELATIVE = frozenset(["em", "rem", "ex", "ch", "vw", "vh", "vmin", "vmax", "lh", "rlh", "cap", "ic"])
_DEPENDENT = frozenset(["var", "env", "attr", "calc", "min", "max", "clamp", "light-dark", "color-mix", "round", "mod", "rem", "anchor"])
_SIZE_WORDS = {
    "xx-small": 9.0,
    "x-small": 10.0,
    "small": 13.0,
    "medium": 16.0,
    "large": 18.0,
    "x-large": 24.0,
    "xx-large": 32.0,
    "xxx-large": 48.0,
}

#: The kind of a parsed value (``expand`` names them), and the word, the number, the colour or the names of families.
Parsed = tuple[str, str | float | Rgba | tuple[str, ...]]


@lru_cache(maxsize=8192)
def expand(name: str, value: str, quirks: bool) -> tuple[tuple[str, Parsed], ...]:
    """The computed properties that a declaration sets, each with its parsed value; none where the value is invalid.

    A parsed value is ``(kind, what)``: wide, keyword, px, em, percent, number, colour, family, image or unknown.
    """
    nodes = list(value_nodes(value))
    while nodes and nodes[-1].type == "whitespace":
        nodes.pop()
    while nodes and nodes[0].type == "whitespace":
        nodes.pop(0)
    if not nodes or any(node.type == "error" for node in nodes):
        return ()
    names = _LONGHANDS.get(name, (name,) if name in INITIAL else ())
    if not names:
        return ()
    if len(nodes) == 1 and nodes[0].type == "ident" and nodes[0].lower_value in WIDE:
        return tuple((long, ("wide", nodes[0].lower_value)) for long in names)
    if "\ue000" in value or any(node.type == "function" and node.lower_name in _DEPENDENT and not _is_told(node) for node in nodes):
        return tuple((long, ("unknown", value)) for long in names)
    if name in _SHORTHANDS:
        return tuple(_SHORTHANDS[name]([node for node in nodes if node.type != "whitespace"], quirks))
    parsed = _parse(name, nodes, quirks)
    return ((name, parsed),) if parsed is not None else ()


def _is_told(node: Value) -> bool:
    """Whether a function is a colour that is computed."""
    return node.type == "function" and node.lower_name in ("color-mix", "light-dark") and computed(node) is not None


def _parse(name: str, nodes: Sequence[Value], quirks: bool) -> Parsed | None:
    solid = [node for node in nodes if node.type != "whitespace"]
    only = solid[0] if len(solid) == 1 else None
    if name in KEYWORDS:
        if name == "font-style" and solid[0].type == "ident" and solid[0].lower_value == "oblique":
            return "keyword", "italic" if len(solid) > 1 else "oblique"
        return ("keyword", only.lower_value) if only is not None and only.type == "ident" and only.lower_value in KEYWORDS[name] else None
    if name in ("color", "background-color"):
        return colours.parse(only, quirks)
    if name == "font-family":
        families = _families(solid)
        return ("family", families) if families else None
    if name == "background-image":
        return _image(solid)
    if name == "text-decoration-line":
        words = [node.lower_value for node in solid if node.type == "ident"]
        known = [word for word in ("underline", "overline", "line-through", "blink") if word in words]
        return ("keyword", " ".join(known) or "none") if len(words) == len(solid) and set(words) <= {*known, "none"} else None
    if only is None:
        return None
    if name == "font-weight":
        return _weight(only)
    if name == "opacity":
        if only.type in ("number", "percentage"):
            number = only.value / (100 if only.type == "percentage" else 1)
            return "number", min(max(float(number), 0.0), 1.0)
        return None
    if only.type == "ident":
        word = only.lower_value
        if name == "font-size" and word in _SIZE_WORDS:
            return "px", _SIZE_WORDS[word]
        if name == "font-size" and word in ("larger", "smaller"):
            return "em", 1.2 if word == "larger" else 1 / 1.2
        if (name, word) in (("line-height", "normal"), ("letter-spacing", "normal"), ("max-width", "none"), ("max-height", "none")):
            return "keyword", word
        return (
            ("unknown", word)
            if name.startswith("max-") and word in ("min-content", "max-content", "fit-content", "-webkit-fill-available")
            else None
        )
    return _length(name, only, quirks)


def _length(name: str, node: Value, quirks: bool) -> Parsed | None:
    if node.type == "number":
        if name == "line-height":
            return ("number", float(node.value)) if node.value >= 0 else None
        # Numbers without a unit are px in quirks mode (CSS Values 4 §6.1.1; quirks.spec §3.2).
        allowed = node.value == 0 or (quirks and name in ("font-size", "letter-spacing", "max-width", "max-height"))
        return ("px", float(node.value)) if allowed and (node.value >= 0 or name == "letter-spacing") else None
    if node.type == "percentage":
        if name == "letter-spacing":
            return "unknown", node.value
        return ("percent", float(node.value)) if node.value >= 0 else None
    if node.type != "dimension" or (node.value < 0 and name != "letter-spacing"):
        return None
    unit = node.lower_unit
    if unit in _ABSOLUTE:
        return "px", float(node.value) * _ABSOLUTE[unit]
    if unit in ("em", "rem"):
        return unit, float(node.value)
    return ("unknown", unit) if unit in _RELATIVE else None


def _weight(node: Value) -> Parsed | None:
    if node.type == "number" and 1 <= node.value <= 1000:
        return "number", float(node.value)
    words: dict[str, Parsed] = {
        "normal": ("number", 400.0),
        "bold": ("number", 700.0),
        "bolder": ("keyword", "bolder"),
        "lighter": ("keyword", "lighter"),
    }
    return words.get(node.lower_value) if node.type == "ident" else None


def _families(nodes: Sequence[Value]) -> tuple[str, ...]:
    """Family names as Chromium writes them back: quotes only where a name needs them."""
    groups: list[list[Value]] = [[]]
    for node in nodes:
        if node.type == "literal" and node.value == ",":
            groups.append([])
        else:
            groups[-1].append(node)
    found: list[str] = []
    for group in groups:
        if len(group) == 1 and (only := group[0]).type == "string":
            found.append(_family(only.value, quoted=True))
        else:
            words = [node.value for node in group if node.type == "ident"]
            if not words or len(words) < len(group):
                return ()
            found.append(_family(" ".join(words), quoted=False))
    return tuple(found)


GENERIC = frozenset(
    [
        "serif",
        "sans-serif",
        "monospace",
        "cursive",
        "fantasy",
        "system-ui",
        "math",
        "emoji",
        "fangsong",
        "ui-serif",
        "ui-sans-serif",
        "ui-monospace",
    ]
)


def _family(name: str, *, quoted: bool) -> str:
    if not quoted and name.lower() in GENERIC:
        return name.lower()
    plain = re.fullmatch(r"-?[A-Za-z_\u0080-\uffff][\w\u0080-\uffff-]*", name)
    if plain and not (quoted and name.lower() in GENERIC):
        return name
    return '"' + name.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _image(nodes: Sequence[Value]) -> Parsed | None:
    if len(nodes) == 1 and nodes[0].type == "ident":
        return ("keyword", "none") if nodes[0].lower_value == "none" else None
    for node in nodes:
        if node.type == "url" or (
            node.type == "function" and (node.lower_name == "url" or "gradient" in node.lower_name or "image" in node.lower_name)
        ):
            continue
        if not (node.type == "literal" and node.value == ",") and not (node.type == "ident" and node.lower_value == "none"):
            return None
    return "image", tinycss2.serialize(nodes)


def _font(nodes: Sequence[Value], quirks: bool) -> Iterator[tuple[str, Parsed]]:
    """The font shorthand (CSS Fonts 4 §2.7): everything before the size is style, weight, variant or stretch."""
    style: Parsed = ("keyword", "normal")
    weight: Parsed = ("number", 400.0)
    for at, node in enumerate(nodes):
        if node.type == "ident" and node.lower_value in ("italic", "oblique"):
            style = ("keyword", node.lower_value)
        elif node.type == "ident" and node.lower_value in ("bold", "bolder", "lighter"):
            weight = _weight(node) or weight
        elif node.type == "ident" and node.lower_value in (
            "normal",
            "small-caps",
            "condensed",
            "expanded",
            "semi-condensed",
            "extra-condensed",
        ):
            continue
        elif (
            node.type == "number"
            and not node.representation.endswith("px")
            and 1 <= node.value <= 1000
            and at + 1 < len(nodes)
            and weight == ("number", 400.0)
            and nodes[at + 1].type in ("dimension", "percentage", "ident")
        ):
            weight = ("number", float(node.value))
        else:
            size = _parse("font-size", [node], quirks=False)
            rest = nodes[at + 1 :]
            height: Parsed | None = ("keyword", "normal")
            if rest and rest[0].type == "literal" and rest[0].value == "/" and len(rest) > 1:
                height, rest = _parse("line-height", [rest[1]], quirks=False), rest[2:]
            families = _families(rest)
            if size is None or height is None or not families:
                return
            yield from (
                ("font-style", style),
                ("font-weight", weight),
                ("font-size", size),
                ("line-height", height),
                ("font-family", ("family", families)),
            )
            return


def _background(nodes: Sequence[Value], quirks: bool) -> Iterator[tuple[str, Parsed]]:
    """The background shorthand (CSS Backgrounds 3 §2.10), as far as colour and image go."""
    colour: Parsed = ("colour", (0, 0, 0, 0.0))
    images: list[str] = []
    for node in nodes:
        if node.type == "url" or (node.type == "function" and (node.lower_name == "url" or "gradient" in node.lower_name)):
            images.append(tinycss2.serialize([node]))
        elif (found := colours.parse(node, quirks=False)) is not None:
            colour = found
        elif (node.type == "ident" and node.lower_value not in _BACKGROUND_WORDS) or node.type == "hash":
            return
    yield "background-color", colour
    yield "background-image", ("image", ", ".join(images)) if images else ("keyword", "none")


_BACKGROUND_WORDS = frozenset(
    [
        "none",
        "repeat",
        "no-repeat",
        "repeat-x",
        "repeat-y",
        "space",
        "round",
        "scroll",
        "fixed",
        "local",
        "left",
        "right",
        "top",
        "bottom",
        "center",
        "cover",
        "contain",
        "auto",
        "border-box",
        "padding-box",
        "content-box",
        "text",
    ]
)


def _decoration(nodes: Sequence[Value], quirks: bool) -> Iterator[tuple[str, Parsed]]:
    known = ("underline", "overline", "line-through", "blink")
    words = [node.lower_value for node in nodes if node.type == "ident"]
    styles = ("solid", "double", "dotted", "dashed", "wavy", "none", "auto", "from-font")
    for node in nodes:
        is_word = node.type == "ident" and node.lower_value in (*known, *styles)
        if not is_word and colours.parse(node, quirks=False) is None and node.type not in ("dimension", "percentage"):
            return
    yield "text-decoration-line", ("keyword", " ".join(word for word in known if word in words) or "none")


def _overflow(nodes: Sequence[Value], quirks: bool) -> Iterator[tuple[str, Parsed]]:
    words = [node.lower_value for node in nodes if node.type == "ident"]
    if words and len(words) == len(nodes) <= 2 and set(words) <= KEYWORDS["overflow-x"]:
        yield "overflow-x", ("keyword", words[0])
        yield "overflow-y", ("keyword", words[-1])


_SHORTHANDS = {"font": _font, "background": _background, "text-decoration": _decoration, "overflow": _overflow}
_LONGHANDS = {
    "font": ("font-style", "font-weight", "font-size", "line-height", "font-family"),
    "background": ("background-color", "background-image"),
    "text-decoration": ("text-decoration-line",),
    "overflow": ("overflow-x", "overflow-y"),
}
