"""Declarations of a style attribute or a rule, each with its place (CSS Syntax 3 §5)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING

import tinycss2

from jetwind.core.styles.reading import block_nodes, value_nodes

if TYPE_CHECKING:
    from tinycss2.ast import Part

_LENGTH = re.compile(r"([+-]?\d*\.?\d+)(px|pt|em|rem|%)?\Z")
_PX = {"px": 1.0, "pt": 96 / 72, "em": 16.0, "rem": 16.0, None: 1.0}


@dataclass(frozen=True, slots=True)
class Declaration:
    """A property (lower case), its value as written, and its line and column (from 1) inside the CSS text."""

    name: str
    value: str
    important: bool
    line: int
    column: int


def from_nodes(nodes: Sequence[Part]) -> tuple[Declaration, ...]:
    """The declarations among tinycss2 nodes; errors are left out, as CSS itself drops them."""
    return tuple(
        Declaration(node.lower_name, tinycss2.serialize(node.value).strip(), node.important, node.source_line, node.source_column)
        for node in nodes
        if node.type == "declaration"
    )


@lru_cache(maxsize=4096)
def declarations(css: str) -> tuple[Declaration, ...]:
    """The declarations of a style attribute. Messages repeat the same attribute, so each text is read once."""
    return from_nodes(block_nodes(css))


def end_of(css: str, start: int, ends: str = ";}") -> int:
    """Where a declaration ends, or with other ``ends`` a prelude: what is inside a string or brackets ends nothing (CSS Syntax 3 §5.4)."""
    quote, depth, at = "", 0, start
    while at < len(css):
        char = css[at]
        if quote:
            at += char == "\\"
            quote = "" if char == quote else quote
        elif char in "\"'":
            quote = char
        elif char in "([":
            depth += 1
        elif char in ")]":
            depth -= 1
        elif depth <= 0 and char in ends:
            break
        at += 1
    return max(start, len(css[:at].rstrip()))


def length_px(value: str | None) -> float | None:
    """A length in CSS px, or None where it cannot be known here (a percentage, a calculation, a keyword).

    An ``em`` counts 16 px: only its being near zero matters to those who ask (CSS Values 4 §6).
    """
    match = _LENGTH.match((value or "").strip().lower())
    if match is None or match[2] == "%":
        return None
    return float(match[1]) * _PX[match[2]]


def urls(css_value: str) -> Iterator[str]:
    """The targets of ``url()`` in a value."""
    stack = list(reversed(value_nodes(css_value)))
    while stack:
        node = stack.pop()
        if node.type == "url":
            yield node.value
        elif node.type == "function":
            if node.lower_name == "url":
                yield from (argument.value for argument in node.arguments if argument.type == "string")
            else:
                stack.extend(reversed(node.arguments))
