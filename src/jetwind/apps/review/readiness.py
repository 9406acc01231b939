"""How near a message is to leaving: its windsock, what is missing, and whose turn it is.

What is missing follows from the rule of sign-off (``core/clearing``) and from facts. A list takes the facts of each message from a view of
the database (:func:`with_readiness`), a walk counts them itself; both come to the same.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, TypeVar

from django.db.models import QuerySet

from jetwind.apps.intake.known import Known
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.review.models import ReadinessFacts
from jetwind.core.clearing import Facts, Missing, Rule, missing, rule_of
from jetwind.core.reports import STATIONS

#: The stations that a reviewer looks at, by slug: all but Sign-off.
WALKED = {station.slug: station.name for station in STATIONS if station.slug != "sign-off"}
#: Stripes of a windsock, and how many of them an open stop lets rise at most.
STRIPES, WITH_A_STOP = 5, 3

Stage = Mailing.Stage
_Read = TypeVar("_Read", bound=Revision)


@dataclass(frozen=True, slots=True)
class FactsFromAbove:
    """What an app above knows that the rule of sign-off asks for: the facts that it reads of a revision, and how it makes values of ``Facts``."""

    known: Known[Any]
    told: Callable[[Revision, Rule], Mapping[str, Any]]


#: What apps above know.
from_above: list[FactsFromAbove] = []


@dataclass(frozen=True, slots=True)
class Readiness:
    """``stripes`` of the windsock that are lifted, and everything that is missing."""

    stripes: int
    stage: str
    missing: tuple[Missing, ...]

    @property
    def is_cleared(self) -> bool:
        """Whether the message is cleared or released."""
        return self.stage in (Stage.CLEARED, Stage.RELEASED)

    @property
    def holding(self) -> str:
        """The first thing that is missing, as a sentence; where nothing is, the next step."""
        if self.missing:
            return self.missing[0].words
        return {Stage.RELEASED: "Released and locked.", Stage.CLEARED: "Cleared; waits for the operator."}.get(
            Stage(self.stage), "Nothing is missing; a signature clears it."
        )

    @property
    def further(self) -> tuple[Missing, ...]:
        """What is missing besides the first."""
        return self.missing[1:]

    @property
    def whose_turn(self) -> str:
        """The role whose turn it is, in words; empty where nobody can act."""
        if self.missing:
            return self.missing[0].turn
        return {Stage.RELEASED: "", Stage.CLEARED: "operator"}.get(Stage(self.stage), "approver")


def rule_for(mailing: Mailing) -> Rule:
    """The rule of sign-off that holds for a message."""
    return rule_of(mailing.workspace.clearing, mailing.kind)


def readiness(revision: Revision, counted: Mapping[str, Any], clear: int) -> Readiness:
    """The readiness that follows from counted facts, and from what apps above know. ``clear`` is the number of clear stations."""
    rule = rule_for(revision.mailing)
    facts = Facts(
        stage=revision.mailing.stage, **counted, **{name: value for one in from_above for name, value in one.told(revision, rule).items()}
    )
    return Readiness(_lifted(facts, clear), facts.stage, missing(rule, facts, WALKED))


def with_readiness(revisions: QuerySet[_Read], facts: Mapping[int, ReadinessFacts] | None = None) -> QuerySet[_Read]:
    """Revisions with their messages and with all facts that :func:`listed` asks for; ``facts`` are those that were read already, by revision.

    The facts come by a query of their own, for exactly these revisions. Joined to them, the view would be counted for every pair of revisions
    where the planner takes the table for nearly empty, as it does for a while after many messages came in.
    """
    found = revisions.select_related("mailing__workspace", "uploaded_by").annotate(
        **{one.known.name: one.known.expression() for one in from_above}
    )
    if facts is None:
        return found.prefetch_related("facts")
    for one in found:
        one.facts = facts[one.pk]
    return found


def listed(revision: Revision) -> Readiness:
    """The readiness of a revision that :func:`with_readiness` gave."""
    return readiness(revision, counted_of(revision), revision.facts.clear)


def counted_of(revision: Revision) -> dict[str, Any]:
    """The facts of a revision, as the database counts them."""
    facts = revision.facts
    same = ("is_checked", "is_busy", "unlooked", "stops", "fixes", "comments", "unconfirmed", "unconfirmed_of_reviewers")
    return {name: getattr(facts, name) for name in same} | {
        "newer": facts.newer or 0,
        "is_stale": facts.is_checking,
        "looked": frozenset(facts.looked_at),
        "left_out": frozenset(facts.left_out),
    }


def stripes_of(facts: ReadinessFacts) -> int:
    """The stripes of the windsock that are lifted, as :class:`Readiness` tells them."""
    return _lifted(facts, facts.clear)


def _lifted(facts: Facts | ReadinessFacts, clear: int) -> int:
    if not facts.is_checked or facts.unlooked:
        return 0
    lifted = clear * STRIPES // len(WALKED)
    return min(lifted, WITH_A_STOP) if facts.stops else lifted
