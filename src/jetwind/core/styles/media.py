"""Media queries held against a screen (Media Queries 4 §2, §3; from memory)."""

from __future__ import annotations

import operator
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING

from jetwind.core.styles.reading import value_nodes

if TYPE_CHECKING:
    from tinycss2.ast import Value

_PX = {"px": 1.0, "pt": 96 / 72, "in": 96.0, "cm": 96 / 2.54, "mm": 96 / 25.4, "em": 16.0, "rem": 16.0, "pc": 16.0}


@dataclass(frozen=True, slots=True)
class Medium:
    """The screen that styles are computed for: its viewport in CSS px, device px to a CSS px, and its colour scheme."""

    width: int = 1280
    height: int = 800
    pixel_ratio: float = 1.0
    dark: bool = False
    touch: bool = False


@lru_cache(maxsize=2048)
def applies(prelude: str, medium: Medium) -> bool:
    """Whether any query of a list holds; an empty list holds always, a query that cannot be read never (§3.1)."""
    queries: list[list[Value]] = [[]]
    for node in value_nodes(prelude):
        if node.type == "literal" and node.value == ",":
            queries.append([])
        elif node.type != "whitespace":
            queries[-1].append(node)
    if queries == [[]]:
        return True
    return any(_query(nodes, medium) for nodes in queries)


def _query(nodes: Sequence[Value], medium: Medium) -> bool:
    if not nodes:
        return False
    negated, first = False, nodes[0]
    if first.type == "ident" and first.lower_value in ("not", "only") and len(nodes) > 1 and nodes[1].type == "ident":
        negated, nodes = first.lower_value == "not", nodes[1:]
    if nodes[0].type != "ident" or nodes[0].lower_value == "not":
        return _condition(nodes, medium) is True
    kind = nodes[0].lower_value in ("all", "screen")
    rest = nodes[1:]
    if rest:
        if rest[0].type != "ident" or rest[0].lower_value != "and":
            return False
        holds = _condition(rest[1:], medium)
        if holds is None:
            return False
        kind = kind and holds
    return kind != negated


def _condition(nodes: Sequence[Value], medium: Medium) -> bool | None:
    """True, False, or None for unknown (§3.2)."""
    if nodes and nodes[0].type == "ident" and nodes[0].lower_value == "not":
        inner = _condition(nodes[1:], medium)
        return None if inner is None else not inner
    parts = nodes[::2]
    joins = {node.lower_value for node in nodes[1::2] if node.type == "ident"}
    if not parts or len(joins) > 1 or any(node.type != "ident" for node in nodes[1::2]) or len(nodes) % 2 == 0:
        return None
    values = [_in_parens(node, medium) for node in parts]
    if joins == {"or"}:
        return True if True in values else None if None in values else False
    if joins in ({"and"}, set()):
        return False if False in values else None if None in values else True
    return None


def _in_parens(node: Value, medium: Medium) -> bool | None:
    if node.type != "() block":
        return None
    inner = [child for child in node.content if child.type not in ("whitespace", "comment")]
    if inner and (inner[0].type == "() block" or (inner[0].type == "ident" and inner[0].lower_value == "not")):
        return _condition(inner, medium)
    return _feature(inner, medium)


def _feature(nodes: Sequence[Value], medium: Medium) -> bool | None:
    if not nodes:
        return None
    if nodes[0].type == "ident" and len(nodes) == 1:
        value = _actual(nodes[0].lower_value, medium)
        return None if value is None else value not in (0, "none", "no-preference")
    if nodes[0].type == "ident" and len(nodes) >= 3 and _is_sign(nodes[1], ":"):
        name, bound = nodes[0].lower_value, ""
        for prefix in ("min-", "max-", "-webkit-min-", "-webkit-max-"):
            if name.startswith(prefix):
                bound, name = prefix.strip("-").removeprefix("webkit-"), name[len(prefix) :]
                name = f"-webkit-{name}" if prefix.startswith("-webkit") else name
                break
        actual, wanted = _actual(name, medium), _value(nodes[2:])
        if actual is None or wanted is None or isinstance(actual, str) is not isinstance(wanted, str):
            return None
        if not bound:
            return actual == wanted
        if isinstance(actual, str) or isinstance(wanted, str):
            return None
        return actual >= wanted if bound == "min" else actual <= wanted
    return _range(nodes, medium)


def _range(nodes: Sequence[Value], medium: Medium) -> bool | None:
    """``(400px <= width <= 600px)`` and its shorter forms (§2.4.3)."""
    parts: list[list[Value]] = [[]]
    signs: list[str] = []
    for node in nodes:
        if node.type == "literal" and node.value in ("<", ">", "=", "<=", ">="):
            if signs and not parts[-1]:
                signs[-1] += node.value
            else:
                signs.append(node.value)
                parts.append([])
        else:
            parts[-1].append(node)
    if not signs or len(parts) not in (2, 3):
        return None
    values: list[float] = []
    for part in parts:
        name = part[0] if len(part) == 1 else None
        value = _actual(name.lower_value, medium) if name is not None and name.type == "ident" else _value(part)
        if value is None or isinstance(value, str):
            return None
        values.append(value)
    return all(_COMPARED[sign](values[at], values[at + 1]) for at, sign in enumerate(signs))


_COMPARED: dict[str, Callable[[float, float], bool]] = {
    "<": operator.lt,
    ">": operator.gt,
    "=": operator.eq,
    "<=": operator.le,
    ">=": operator.ge,
}


def _is_sign(node: Value, sign: str) -> bool:
    return node.type == "literal" and node.value == sign


def _actual(name: str, medium: Medium) -> float | str | None:
    """The value that the screen has; None for a feature that is not known."""
    return {
        "width": medium.width,
        "device-width": medium.width,
        "height": medium.height,
        "device-height": medium.height,
        "orientation": "portrait" if medium.height >= medium.width else "landscape",
        "aspect-ratio": medium.width / medium.height,
        "device-aspect-ratio": medium.width / medium.height,
        "resolution": medium.pixel_ratio,
        "-webkit-device-pixel-ratio": medium.pixel_ratio,
        "prefers-color-scheme": "dark" if medium.dark else "light",
        "prefers-reduced-motion": "no-preference",
        "prefers-contrast": "no-preference",
        "forced-colors": "none",
        "hover": "none" if medium.touch else "hover",
        "any-hover": "none" if medium.touch else "hover",
        "pointer": "coarse" if medium.touch else "fine",
        "any-pointer": "coarse" if medium.touch else "fine",
        "color": 8,
        "monochrome": 0,
        "color-index": 0,
        "grid": 0,
        "scripting": "none",
        "-webkit-transform-3d": 1,
    }.get(name)


def _value(nodes: Sequence[Value]) -> float | str | None:
    node = nodes[0]
    if len(nodes) == 3 and _is_sign(nodes[1], "/") and node.type == "number" and (other := nodes[2]).type == "number" and other.value:
        return float(node.value / other.value)
    if len(nodes) != 1:
        return None
    if node.type == "ident":
        return node.lower_value
    if node.type == "number":
        return float(node.value)
    if node.type == "dimension":
        if node.lower_unit in _PX:
            return float(node.value * _PX[node.lower_unit])
        return {"dppx": node.value, "x": node.value, "dpi": node.value / 96, "dpcm": node.value * 2.54 / 96}.get(node.lower_unit)
    return None
