"""The kinds of mends of a review, found in a helper process under its budget."""

from __future__ import annotations

from jetwind.core.checking import Context
from jetwind.core.mending import kinds_of
from jetwind.core.reports import Review
from jetwind.engines.bounded.helper import Helper, PastBudget, Start
from jetwind.engines.bounded.reviewing import CHECKING


def kinds_bounded(review: Review, context: Context, *, start: Start) -> dict[str, str]:
    """The answer of ``kinds_of``; empty where a hostile message takes more time or memory than its checks may."""
    try:
        with Helper((review, context), CHECKING, start) as helper:
            return helper.within(CHECKING.answer_seconds).ask(_kinds)
    except PastBudget:
        return {}


def _kinds(given: tuple[Review, Context]) -> dict[str, str]:
    review, context = given
    return kinds_of(review.message, context, review.results)
