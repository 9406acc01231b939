"""A circumstance of a review: a field of the context that may be read later, and that notes who looks at it."""

from __future__ import annotations

from collections.abc import Callable
from functools import cached_property
from typing import Generic, TypeVar, overload

Value = TypeVar("Value")
Value_co = TypeVar("Value_co", covariant=True)


class Later(Generic[Value_co]):
    """A value that is read when somebody looks at it. Equal keys mean equal values, so that keys are compared without reading."""

    def __init__(self, key: str, read: Callable[[], Value_co]) -> None:
        self.key = key
        self._read = read

    @cached_property
    def value(self) -> Value_co:
        """The value, read once."""
        return self._read()


class Circumstance(Generic[Value]):
    """A field of :class:`~jetwind.core.checking.context.Context`, with its default.

    It takes a value, or one that is read later, and gives the value. Where the context is watched, each look is noted under the field's name.
    ``watched`` stands in for the value then, where looking at the value does not yet say what of it an answer hangs on.
    """

    def __init__(self, default: Value, watched: Callable[[Value, set[str]], Value] | None = None) -> None:
        self._default = default
        self._watched = watched

    def __set_name__(self, owner: type, name: str) -> None:
        self._name = name

    @overload
    def __get__(self, holder: None, owner: type) -> Value: ...

    @overload
    def __get__(self, holder: object, owner: type) -> Value: ...

    def __get__(self, holder: object | None, owner: type) -> Value:
        if holder is None:
            return self._default
        given: Value | Later[Value] = holder.__dict__[self._name]
        value = given.value if isinstance(given, Later) else given
        used: set[str] | None = holder.__dict__.get("used")
        if used is not None:
            if self._watched is not None and value is not None:
                return self._watched(value, used)
            used.add(self._name)
        return value

    def __set__(self, holder: object, given: Value | Later[Value]) -> None:
        holder.__dict__[self._name] = given
