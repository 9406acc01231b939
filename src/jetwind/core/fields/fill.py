"""The message as one reader gets it: fields filled, conditional parts decided, through python-liquid.

A source that Liquid cannot read is filled token by token, so that a broken block never hides the rest of a message.
"""

from __future__ import annotations

import html
from collections.abc import Mapping
from functools import lru_cache

from liquid import Environment, Mode
from liquid.exceptions import LiquidError

from jetwind.core.fields.syntax import LIQUID, Syntax


class _Bounded(Environment):
    """Limits keep a hostile loop short; what goes over them raises, and the source is filled token by token."""

    loop_iteration_limit = 10_000
    output_stream_limit = 4_000_000


@lru_cache(maxsize=1)
def _environment() -> Environment:
    # Strict syntax, so that a misread tag is noticed here and not silently dropped.
    return _Bounded(tolerance=Mode.STRICT)


def fill(source: str, values: Mapping[str, str], *, escape: bool, syntax: Syntax = LIQUID) -> str:
    """``source`` merged with a reader's ``values``.

    ``escape`` turns ``&``, ``<``, ``>`` and quotes of a value into entities, as an HTML part needs (HTML §13.1.4).
    Dotted names (``order.number``) look their value up under the whole dotted name. Never raises for bad syntax.
    """
    tokens = list(syntax.tokens(source))
    if not tokens:
        return source
    shown = {name: html.escape(value) if escape else value for name, value in values.items()}
    if any(token.is_block and not token.is_foreign for token in tokens):
        decoded = _with_plain_tokens(source, syntax)
        try:
            return str(_environment().from_string(decoded).render(**_nested(shown)))
        except (LiquidError, RecursionError, TypeError, ValueError):
            pass
    pieces: list[str] = []
    end = 0
    for token in tokens:
        pieces.append(source[end : token.span.start])
        if token.name is None:
            pieces.append("" if token.is_block and not token.is_foreign else token.source)
        else:
            default = html.escape(token.default) if escape and token.default else token.default
            pieces.append(shown.get(token.name, "") or default or "")
        end = token.span.end
    return "".join(pieces) + source[end:]


def _with_plain_tokens(source: str, syntax: Syntax) -> str:
    """The source with entities inside its tokens decoded: an attribute may carry ``&quot;`` where Liquid needs a quote."""
    pieces: list[str] = []
    end = 0
    for token in syntax.tokens(source):
        pieces.extend((source[end : token.span.start], html.unescape(token.source)))
        end = token.span.end
    return "".join(pieces) + source[end:]


def _nested(values: Mapping[str, str]) -> dict[str, object]:
    """Dotted names as nested mappings, the form in which Liquid looks them up."""
    nested: dict[str, object] = {}
    for name, value in values.items():
        *path, last = name.split(".")
        place = nested
        for step in path:
            inner = place.setdefault(step, {})
            if not isinstance(inner, dict):
                break
            place = inner
        else:
            place[last] = value
    return nested
