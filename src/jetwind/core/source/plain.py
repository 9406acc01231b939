"""Plain values, as TOML, JSON and forms give them, read into data classes; what does not fit is told in words."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, TypeVar

from jetwind.core.errors import Unusable

if TYPE_CHECKING:
    from collections.abc import Mapping

    from _typeshed import DataclassInstance

T = TypeVar("T")

_WORDS = {"str": "a text", "int": "a whole number", "float": "a number", "bool": "true or false", "array": "a list", "object": "a table"}
#: The Python type of each kind, by the name that msgspec has for it.
_TYPES = {"str": str, "int": int, "float": float, "bool": bool, "array": list, "object": dict, "null": type(None)}
_STEP = re.compile(r"\.(\w+)|\[(\d+|\.\.\.)\]")


class Unfit(Unusable):
    """A value that does not fit; the text names its place, what it has to be, and what it is."""


class NotToml(Unfit):
    """A text that is no TOML; the text of this says why, and names the line."""


def read(given: object, kind: type[T]) -> T:
    """A value of a type: a data class, or texts, numbers, lists and tables of such. Fields that a data class does not have are passed over.

    Raises:
        Unfit: a value is of another type, or lacks a field.
    """
    # Loaded when first used: most commands read nothing that way.
    import msgspec

    try:
        return msgspec.convert(given, kind)
    except msgspec.ValidationError as fault:
        raise Unfit(_in_words(str(fault), given)) from fault


#: Years of the times that are planned and of the days that rulebooks hold: calendars of other years have no zones and no letters to send.
FIRST_YEAR, LAST_YEAR = 1970, 2999


def toml(text: str) -> dict[str, object]:
    """The tables of a TOML text.

    Raises:
        NotToml: it is none; the text names the line. Tables nested too deeply and numbers of thousands of digits are none either.
    """
    # Loaded when first used: most commands read nothing that way.
    import tomllib

    try:
        return tomllib.loads(text)
    except RecursionError:
        raise NotToml("its tables or lists are nested too deeply") from None
    except (ValueError, OverflowError) as wrong:
        raise NotToml(str(wrong)) from wrong


def as_table(value: DataclassInstance | Mapping[str, object]) -> dict[str, object]:
    """A data class or a mapping as a table of texts, numbers, lists and tables."""
    import msgspec

    table: dict[str, object] = msgspec.to_builtins(value)
    return table


def _in_words(fault: str, given: object) -> str:
    said, _, path = fault.partition(" - at `$")
    got = re.search(r"got `(\w+)`", said)
    steps = [name or number for name, number in _STEP.findall(path)]
    names, value = _followed(given, steps, _TYPES.get(got[1]) if got is not None else None) or ([], given)
    place = ", ".join(f"entry {name + 1}" if isinstance(name, int) else f"“{name}”" for name in names)
    lacking = re.search(r"missing required field `(\w+)`", said)
    if lacking is not None:
        return f"{place or 'it'} lacks “{lacking[1]}”"
    wanted = re.search(r"Expected `([^`]+)`", said)
    if wanted is None:
        return f"{place or 'it'}: {said}"
    kinds = [_WORDS.get(kind, kind) for kind in wanted[1].split(" | ") if kind != "null"]
    either = " or ".join([", ".join(kinds[:-1]), kinds[-1]]) if len(kinds) > 1 else kinds[0]
    return f"{place or 'it'} is {either}, not {value!r}"


def _followed(value: object, steps: list[str], kind: type | None) -> tuple[list[str | int], object] | None:
    """The names and numbers along a path, and the value of a type at its end. Of a table msgspec does not say which entry it was."""
    if not steps:
        return ([], value) if kind is None or type(value) is kind else None
    step, rest = steps[0], steps[1:]
    if isinstance(value, list) and step.isdigit() and int(step) < len(value):
        tried: list[str | int] = [int(step)]
    elif isinstance(value, dict):
        tried = list(value) if step == "..." else [step]
    else:
        return None
    for name in tried:
        inside = value[name] if isinstance(value, list) else value.get(name)  # type: ignore[index]
        found = _followed(inside, rest, kind)
        if found is not None:
            return [name, *found[0]], found[1]
    return None
