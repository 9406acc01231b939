"""The sum and its band.

Weights and bands are set by hand from common practice, no published source: they are not calibrated on labelled mail
yet, so a high band weighs as the catalogue says but every reason shows its evidence and can be switched off.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Literal

import jetwind.core.spam.reasons  # noqa: F401  declares them
from jetwind.core.checking.context import Context, WatchedContext
from jetwind.core.message import Message
from jetwind.core.spam.declaring import DECLARED

Band = Literal["low", "medium", "high"]

#: Lowest score of each band above low.
BANDS: dict[Band, float] = {"medium": 3.0, "high": 6.0}


@dataclass(frozen=True, slots=True)
class SpamReason:
    """One reason that applies: what it adds to the score, and what in the message gives rise to it."""

    id: str
    name: str
    weight: float
    evidence: str


@dataclass(frozen=True, slots=True)
class SpamSum:
    """All reasons that apply, heaviest first."""

    reasons: tuple[SpamReason, ...]

    def score(self, without: Collection[str] = ()) -> float:
        """The sum, leaving out the reasons with the ids ``without``; never below zero, to one decimal place."""
        return round(max(0.0, sum(reason.weight for reason in self.reasons if reason.id not in without)), 1)

    def band(self, without: Collection[str] = ()) -> Band:
        """The band that the score falls in."""
        score = self.score(without)
        return "high" if score >= BANDS["high"] else "medium" if score >= BANDS["medium"] else "low"


def spam_sum(message: Message, context: Context) -> SpamSum:
    """Judge every reason on a message. Of the circumstances, reasons may look at the kind alone."""
    # The check and the report ask under the same circumstances, one after the other; what was looked at is noted for both.
    total, used = message.shared(f"spam {context.kind}", lambda: _judged(message, context))
    for name in used:
        getattr(context, name)
    return total


def _judged(message: Message, context: Context) -> tuple[SpamSum, frozenset[str]]:
    watched = WatchedContext(context)
    found = []
    for reason_id, (name, weight, judge) in DECLARED.items():
        verdict = judge(message, watched.as_context())
        if verdict is None:
            continue
        evidence, own_weight = verdict if isinstance(verdict, tuple) else (verdict, weight)
        found.append(SpamReason(f"spam.{reason_id}", name, round(own_weight, 2), evidence))
    return SpamSum(tuple(sorted(found, key=lambda reason: (-reason.weight, reason.id)))), frozenset(watched.used) & {"kind"}
