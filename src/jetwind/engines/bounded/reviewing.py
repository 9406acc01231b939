"""All checks on a message in a helper process, each under its budget."""

from __future__ import annotations

from collections.abc import Collection
from contextlib import suppress
from dataclasses import replace

from jetwind.core.checking import CheckResult, Context, Outcome, check_settings, registry, run_check
from jetwind.core.message import Message
from jetwind.core.reports import Review, Summary, summary_of
from jetwind.core.spam import OtherScore, SpamSum, scores_of_others, spam_sum
from jetwind.engines.bounded.helper import Budget, Helper, PastBudget, Start

#: Real messages take a twentieth of a second for the slowest check and half a second for all.
CHECKING = Budget(answer_seconds=5.0, all_seconds=15.0, memory=600_000_000)

_Given = tuple[Message, Context]


def review_bounded(
    message: Message, context: Context, only: Collection[str] | None = None, *, start: Start, budget: Budget = CHECKING
) -> Review:
    """What ``review`` answers; a check that passes its budget cannot tell, and says so, while the others are answered.

    Raises:
        KeyError: ``only`` names a check that does not exist.
        UnusableSetting: the context's settings do not fit a check.
    """
    checks = registry()
    chosen = list(checks) if only is None else sorted(only)
    for check_id in chosen:
        check_settings(checks[check_id], context.settings)
    results: list[CheckResult] = []
    with Helper((message, context), budget, start) as helper:
        for check_id in chosen:
            try:
                results.append(helper.ask(_check, check_id))
            except PastBudget as past:
                results.append(CheckResult(check_id, Outcome.CANNOT_TELL, reason=str(past), is_lasting=False))
        try:
            spam = helper.ask(_spam)
        except PastBudget:
            spam = SpamSum(())
        with suppress(PastBudget):
            spam = replace(spam, others=helper.ask(_others))
        try:
            summary = helper.ask(_summary)
        except PastBudget:
            summary = Summary("", 0)
    return Review(message, tuple(results), spam, summary)


def _check(given: _Given, check_id: str) -> CheckResult:
    return run_check(registry()[check_id], *given)


def _spam(given: _Given) -> SpamSum:
    return spam_sum(*given)


def _others(given: _Given) -> tuple[OtherScore, ...]:
    return scores_of_others(*given)


def _summary(given: _Given) -> Summary:
    return summary_of(given[0])
