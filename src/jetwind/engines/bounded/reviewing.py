"""All checks on a message in a helper process, each under its budget."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from typing import TypeVar

from jetwind.core.checking import CheckResult, Context, Outcome, check_settings, registry, run_check
from jetwind.core.message import Message
from jetwind.core.reports import Review, Summary, summary_of
from jetwind.core.spam import OtherScore, SpamSum, scores_of_others, spam_sum
from jetwind.engines.bounded.helper import Budget, Helper, PastBudget, Start

Answer = TypeVar("Answer")

#: Real messages take a twentieth of a second for the slowest check and half a second for all.
CHECKING = Budget(answer_seconds=5.0, all_seconds=30.0, memory=600_000_000)
#: Seconds that a check may take in the first round, and how many times as many in each further one.
_FIRST_S, _LONGER = 0.5, 2.0
#: Seconds of the first round where already reading the message takes too long: most checks will not get through, and those that need
#: no more than a header or a size must all have their turn.
_UNREAD_S = 0.1
#: Of the time that is left, the share that the sum or the summary may take.
_SHARE = 0.25

_Given = tuple[Message, Context]


def review_bounded(
    message: Message, context: Context, only: Collection[str] | None = None, *, start: Start, budget: Budget = CHECKING
) -> Review:
    """The answer of ``review``; a check that passes its budget ran out, and says so, while the others are answered.

    The cheap answers come first: in a first round each check may take half a second, or a tenth where the message cannot be read in time.
    What several checks need, such as the tree, is worked out besides, and counts for none of them. A check that takes longer is broken off; it waits until all others have had their turn, and may then take twice as long, round by round, until the whole budget is spent.

    Raises:
        KeyError: ``only`` names a check that does not exist.
        UnusableSetting: the context's settings do not fit a check.
    """
    checks = registry()
    chosen = list(checks) if only is None else sorted(only)
    for check_id in chosen:
        check_settings(checks[check_id], context.settings)
    context = replace(context, asked=context.asked | frozenset(chosen))
    results: dict[str, CheckResult] = {}
    with Helper((message, context), budget, start) as helper:
        is_readable = _read(helper, budget)
        seconds = _FIRST_S if is_readable else _UNREAD_S
        late = _round(helper, budget, chosen, seconds, results, is_readable=is_readable)
        spam = _asked(helper, _spam, SpamSum((), unknown=(("all", "the time for it ran out"),)))
        summary = _asked(helper, _summary, Summary("", 0))
        while late and seconds < budget.answer_seconds and helper.left > 0:
            seconds = min(seconds * _LONGER, budget.answer_seconds)
            late = _round(helper, budget, late, seconds, results, is_readable=is_readable)
        spam = replace(spam, others=_asked(helper, _others, ()))
    return Review(message, tuple(results[check_id] for check_id in chosen), spam, summary)


def _round(
    helper: Helper, budget: Budget, asked: Sequence[str], seconds: float, results: dict[str, CheckResult], *, is_readable: bool
) -> list[str]:
    """Ask checks, each within so many seconds; their answers go into ``results``, and those that ran out come back.

    Where a check was not broken off in time, its helper was ended with all that it had worked out. The one that takes over reads the
    message first, unless that took too long before: trying it each time would use up the budget.
    """
    late = []
    for check_id in asked:
        try:
            results[check_id] = helper.within(seconds, gently=True).ask(_check, check_id)
        except PastBudget as past:
            results[check_id] = CheckResult(check_id, Outcome.RAN_OUT, reason=str(past))
            late.append(check_id)
            is_readable = is_readable and (helper.lives or _read(helper, budget))
    return late


def _read(helper: Helper, budget: Budget) -> bool:
    """Have the message read by a helper that begins or has taken over, so that the next check does not pay for it; whether it came through."""
    try:
        helper.within(budget.answer_seconds).ask(_summary)
    except PastBudget:
        return False
    return True


def _asked(helper: Helper, question: Callable[[_Given], Answer], otherwise: Answer) -> Answer:
    """An answer besides those of the checks, within its share; ``otherwise`` where it ran out."""
    try:
        return helper.within(max(_FIRST_S, helper.left * _SHARE), gently=True).ask(question)
    except PastBudget:
        return otherwise


def _check(given: _Given, check_id: str) -> CheckResult:
    return run_check(registry()[check_id], *given)


def _spam(given: _Given) -> SpamSum:
    return spam_sum(*given)


def _others(given: _Given) -> tuple[OtherScore, ...]:
    return scores_of_others(*given)


def _summary(given: _Given) -> Summary:
    return summary_of(given[0])
