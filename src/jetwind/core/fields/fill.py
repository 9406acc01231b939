"""The message as one reader gets it: fields filled, conditional parts decided, through python-liquid.

A source that Liquid cannot read is filled token by token, so that a broken block never hides the rest of a message. So is one that passes
a limit: a template may ask for a billion repetitions, a text doubled thirty times, a number of a million digits.
"""

from __future__ import annotations

import html
from collections.abc import Callable, Mapping
from contextvars import ContextVar
from functools import lru_cache, wraps
from typing import Any

from liquid import BoundTemplate, Environment, Mode, RenderContext
from liquid.exceptions import LiquidError, ResourceLimitError
from liquid.token import Token

from jetwind.core.fields.syntax import LIQUID, Syntax
from jetwind.core.source import FILLING


class PastLimit(ResourceLimitError):
    """Filling a template asks for more than a limit; the text says for what."""


class _Meter:
    """What one filling has used so far."""

    def __init__(self) -> None:
        self.rounds = 0
        self.characters = 0

    def loop(self, rounds: int) -> None:
        """A loop begins."""
        self.rounds += rounds
        if self.rounds > FILLING.rounds:
            raise PastLimit(f"its loops go round more than {FILLING.rounds:,} times", token=None)

    def weigh(self, value: object) -> int:
        """The size of a value that a filter takes or gives, in characters."""
        if isinstance(value, str):
            size = len(value)
            if size > FILLING.value_characters:
                raise PastLimit(f"a value grows beyond {FILLING.value_characters:,} characters", token=None)
        elif isinstance(value, int):
            size = value.bit_length() // 3
            if size > FILLING.digits:
                raise PastLimit(f"a number grows beyond {FILLING.digits:,} digits", token=None)
        elif isinstance(value, (range, list, tuple)):
            if len(value) > FILLING.items:
                raise PastLimit(f"a list has more than {FILLING.items:,} items", token=None)
            size = sum(len(item) if isinstance(item, str) else 1 for item in value)
        else:
            size = 1
        return size

    def take(self, name: str, given: tuple[object, ...]) -> None:
        """A filter begins. Some make as much as the product of what they are given: that is foreseen, not waited for."""
        sizes = sorted((self.weigh(value) for value in given), reverse=True)
        if name in _MULTIPLY and sizes[0] * max(sizes[1:], default=1) > FILLING.all_characters:
            raise PastLimit(f"a filter makes more than {FILLING.all_characters:,} characters", token=None)

    def made(self, value: object) -> None:
        """A filter has made a value."""
        self.characters += self.weigh(value)
        if self.characters > FILLING.all_characters:
            raise PastLimit(f"its filters make more than {FILLING.all_characters:,} characters", token=None)


#: Filters of python-liquid whose result grows with the product of their arguments.
_MULTIPLY = frozenset({"join", "replace"})
_meter: ContextVar[_Meter] = ContextVar("meter")


class _Context(RenderContext):
    """Filters and loops are metered."""

    def filter(self, name: str, token: Token | None) -> Callable[..., object]:
        """A filter that weighs what it takes and makes."""
        real = super().filter(name, token)

        @wraps(real)
        def metered(*args: Any, **kwargs: Any) -> object:
            meter = _meter.get()
            meter.take(name, (*args, *(value for key, value in kwargs.items() if key not in ("context", "environment"))))
            made = real(*args, **kwargs)
            meter.made(made)
            return made

        return metered

    def raise_for_loop_limit(self, length: int = 1) -> None:
        """Rounds of all loops count together, one after another and inside one another."""
        _meter.get().loop(length)


class _Template(BoundTemplate):
    context_class = _Context


class _Bounded(Environment):
    template_class = _Template
    local_namespace_limit = FILLING.all_characters
    output_stream_limit = FILLING.output_characters


@lru_cache(maxsize=1)
def _environment() -> Environment:
    # Strict syntax, so that a misread tag is noticed here and not silently dropped.
    return _Bounded(tolerance=Mode.STRICT)


def past_limit(source: str, values: Mapping[str, str], *, syntax: Syntax = LIQUID) -> str:
    """Which limit filling ``source`` passes, as the end of "it cannot be filled, since …"; empty where it passes none."""
    try:
        if any(token.is_block and not token.is_foreign for token in syntax.tokens(source)):
            _through_liquid(source, values, syntax)
    except ResourceLimitError as past:
        return str(past.message or past)
    except (LiquidError, RecursionError, TypeError, ValueError, ArithmeticError):
        return ""
    return ""


def _through_liquid(source: str, values: Mapping[str, str], syntax: Syntax) -> str:
    before = _meter.set(_Meter())
    try:
        return str(_environment().from_string(_with_plain_tokens(source, syntax)).render(**_nested(values)))
    finally:
        _meter.reset(before)


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
        try:
            return _through_liquid(source, shown, syntax)
        except (LiquidError, RecursionError, TypeError, ValueError, ArithmeticError):
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
