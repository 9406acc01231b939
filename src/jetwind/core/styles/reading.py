"""CSS read by tinycss2 within bounds: never raises, and no text is so long, so deep or so numerous that reading it does not end.

tinycss2 goes down once for each bracket inside a bracket and turns digits into a number whatever their count.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import tinycss2

from jetwind.core.source import LIMITS

if TYPE_CHECKING:
    from tinycss2.ast import Part, Rule, Value

#: Brackets inside brackets beyond this are no style; CSS that has them is taken for none, as text that is broken is.
DEEPEST = 60
_BRACKET = re.compile(r"[()\[\]{}]")
_DIGITS = re.compile(r"\d{40,}")


def is_too_deep(css: str) -> bool:
    """Whether brackets are nested deeper than can be read."""
    if css.count("(") + css.count("[") + css.count("{") <= DEEPEST:
        return False
    depth = 0
    for bracket in _BRACKET.findall(css):
        depth = depth + 1 if bracket in "([{" else max(0, depth - 1)
        if depth > DEEPEST:
            return True
    return False


def _bounded(css: str, most: int) -> str:
    """The text as far as it is read; a number of more than forty digits keeps so many, so that places stay true."""
    # A picture inside its own address is one token, however long.
    css = css[:most] if "data:" not in css else css[: 10 * LIMITS.sheet_characters]
    return _DIGITS.sub(lambda match: "9" * 40 + " " * (len(match[0]) - 40), css) if len(css) > 40 else css


def sheet_nodes(css: str) -> list[Rule]:
    """The rules of a style sheet (CSS Syntax 3 §5.3.3), comments and white space left out."""
    if is_too_deep(css):
        return []
    return tinycss2.parse_stylesheet(_bounded(css, LIMITS.sheet_characters), skip_comments=True, skip_whitespace=True)


def block_nodes(css: str | list[Value]) -> list[Part]:
    """Declarations and rules of a block or a style attribute (§5.3.6)."""
    if isinstance(css, str):
        if is_too_deep(css):
            return []
        css = _bounded(css, LIMITS.value_characters)
    return tinycss2.parse_blocks_contents(css, skip_comments=True, skip_whitespace=True)


def value_nodes(css: str) -> list[Value]:
    """Component values (§5.3.9), comments left out."""
    if is_too_deep(css):
        return []
    return tinycss2.parse_component_value_list(_bounded(css, LIMITS.value_characters), skip_comments=True)
