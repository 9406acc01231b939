"""A reason of spam risk is declared once, beside the code that judges."""

from __future__ import annotations

from collections.abc import Callable

from jetwind.core.checking.context import Context
from jetwind.core.message import Message

#: Evidence, or evidence and a weight of its own; None where the reason does not apply.
Verdict = str | tuple[str, float] | None
Judge = Callable[[Message, Context], Verdict]

DECLARED: dict[str, tuple[str, float, Judge]] = {}


def reason(id: str, name: str, weight: float) -> Callable[[Judge], Judge]:
    """Declare the decorated function as a reason; ``weight`` is what it adds to the score."""

    def declare(judge: Judge) -> Judge:
        if id in DECLARED:
            raise ValueError(f"the reason {id} is declared twice")
        DECLARED[id] = (name, weight, judge)
        return judge

    return declare
