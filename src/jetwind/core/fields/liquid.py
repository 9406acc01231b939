"""python-liquid with every loop and filter metered: a template may ask for a billion rounds or a text doubled thirty times."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextvars import ContextVar
from functools import lru_cache, wraps

from liquid import BoundTemplate, Environment, Mode, RenderContext
from liquid.exceptions import LiquidError, ResourceLimitError
from liquid.token import Token

from jetwind.core.errors import JetwindError
from jetwind.core.fields.keeping import kept
from jetwind.core.fields.metering import spend
from jetwind.core.source import FILLING


def rendered(source: str, values: Mapping[str, str]) -> tuple[str | None, str]:
    """A template filled, None where Liquid cannot do it; and the limit that it passes, as the end of a sentence, "" for none."""
    meter = _Meter()
    before = _meter.set(meter)
    try:
        template = _template(source)
        return str(template.render(**_nested(values))), ""
    except ResourceLimitError as past:
        return None, str(past.message or past)
    except (LiquidError, RecursionError, TypeError, ValueError, ArithmeticError):
        return None, ""
    finally:
        _meter.reset(before)
        spend(meter.characters, meter.rounds)


class PastLimit(JetwindError, ResourceLimitError):
    """Filling a template asks for more than a limit; the text says for what."""


class _Meter:
    """The amount that one filling has used so far."""

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
        def metered(*args: object, **kwargs: object) -> object:
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


@kept
def _template(source: str) -> BoundTemplate:
    return _environment().from_string(source)


@lru_cache(maxsize=1)
def _environment() -> Environment:
    # Strict syntax, so that a misread tag is noticed here and not silently dropped.
    return _Bounded(tolerance=Mode.STRICT)


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


def faults_of(source: str) -> str:
    """The reason why Liquid cannot read one field or tag, as the end of a sentence; empty where it can."""
    try:
        template = _environment().from_string(source)
    except LiquidError as fault:
        return " ".join(str(fault.message or fault).split())[:160]
    except (RecursionError, TypeError, ValueError, ArithmeticError):
        return "it cannot be read"
    return "" if template is not None else "it cannot be read"


def knows_filter(name: str) -> bool:
    """Whether Liquid has a filter of that name."""
    return name in _environment().filters
