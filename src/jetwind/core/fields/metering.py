"""The cost of filling, summed over many fillings, so that a caller who fills for many readers can stop."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar


class Spending:
    """``spent`` counts characters made by filters and as output; a round of a loop counts as fifty of them."""

    def __init__(self) -> None:
        self.spent = 0


_spending: ContextVar[Spending | None] = ContextVar("spending", default=None)


@contextmanager
def metered() -> Iterator[Spending]:
    """Count what is filled inside."""
    spending = Spending()
    before = _spending.set(spending)
    try:
        yield spending
    finally:
        _spending.reset(before)


def spend(characters: int, rounds: int) -> None:
    """Tell what one filling has cost."""
    spending = _spending.get()
    if spending is not None:
        spending.spent += characters + 50 * rounds
