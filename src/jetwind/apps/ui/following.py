"""The way up to ``apps/follows.py``: an app tells of an event, and knows nothing of the apps above it."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from importlib import import_module
from typing import Any

_INSTEAD: ContextVar[Any] = ContextVar("follows instead", default=None)


def follows() -> Any:
    """The module whose functions say what follows each event."""
    return _INSTEAD.get() or import_module("jetwind.apps.follows")


@contextmanager
def instead(other: Any) -> Iterator[None]:
    """Have other calls follow the events of this context: those of a history that is written down, not lived through."""
    token = _INSTEAD.set(other)
    try:
        yield
    finally:
        _INSTEAD.reset(token)
