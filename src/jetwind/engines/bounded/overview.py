"""The fields of a message over its readers, worked out in a helper process."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from jetwind.core.checking.overview import FieldOverview, field_overview
from jetwind.core.message import Message, Sample
from jetwind.engines.bounded.helper import Budget, Helper, Start

#: Fifty readers of a large newsletter take a second; somebody waits for the page.
OVERVIEW = Budget(answer_seconds=8.0, all_seconds=10.0, memory=600_000_000)


def overview_bounded(
    message: Message,
    readers: Sequence[Sample],
    known: Collection[str] | None,
    wide: Collection[tuple[str, str]],
    chosen: str,
    *,
    start: Start,
    budget: Budget = OVERVIEW,
) -> FieldOverview:
    """The answer of ``field_overview``.

    Raises:
        PastBudget: it takes too long or needs too much memory.
    """
    with Helper(message, budget, start) as helper:
        return helper.ask(field_overview, tuple(readers), None if known is None else frozenset(known), tuple(wide), chosen)
