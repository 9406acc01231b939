"""How near a message is to leaving: its windsock, what holds it back, and whose turn it is.

The rule is one table. A list has the database find the row that holds (:func:`with_readiness`), one message finds it here (:func:`readiness`).
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from django.db.models import Case, F, Func, IntegerField, Q, QuerySet, Value, When
from django.db.models.functions import Least

from jetwind.apps.accounts.permissions import Role
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.core.reports import STATIONS

#: Stations that a reviewer looks at: all but Sign-off.
WALKED = sum(station.slug != "sign-off" for station in STATIONS)
#: Stripes of a windsock, and how many of them an open stop lets rise at most.
STRIPES, WITH_A_STOP = 5, 3

Stage = Mailing.Stage


@dataclass(frozen=True, slots=True)
class Row:
    """One thing that holds a message back.

    ``when`` compares facts, all of which must fit: those of :class:`~jetwind.apps.review.models.ReadinessFacts`, and ``stage``. The words may name facts in braces.
    ``turn`` is the role that acts next, None where nobody can.
    """

    when: Mapping[str, Any]
    words: str
    turn: Role | None
    words_for_one: str = ""


#: The first row that holds says it all; where none does, the last.
RULE = (
    Row({"stage": Stage.RELEASED}, "nothing: released and locked", None),
    Row({"stage": Stage.CLEARED}, "cleared; waits for the operator", Role.OPERATOR),
    Row({"stage": Stage.SENT_BACK}, "sent back; waits for the author", Role.AUTHOR),
    Row({"is_checked": False, "is_busy": True}, "being checked", None),
    Row({"is_checked": False}, "not checked yet", Role.REVIEWER),
    Row({"stops__gt": 0}, "{stops} open stops", Role.REVIEWER, "1 open stop"),
    Row({"unlooked__gt": 0}, "not everything was checked", Role.REVIEWER),
    Row({"comments__gt": 0}, "{comments} open comments", Role.REVIEWER, "1 open comment"),
    Row({"looked__lt": WALKED}, "{unseen} stations not looked at", Role.REVIEWER, "1 station not looked at"),
    Row({}, "waits for sign-offs", Role.APPROVER),
)
_LAST = len(RULE) - 1
_COMPARISONS = {
    "exact": lambda value, given: value == given,
    "gt": lambda value, given: value > given,
    "lt": lambda value, given: value < given,
}


@dataclass(frozen=True, slots=True)
class Readiness:
    """``stripes`` of the windsock that are lifted, what holds the message back in a few words, and the role whose turn it is."""

    stripes: int
    holding: str
    turn: Role | None
    is_cleared: bool

    @property
    def whose_turn(self) -> str:
        """The role whose turn it is, in words; empty where nobody can act."""
        return self.turn.value if self.turn is not None else ""


def readiness(facts: Mapping[str, Any]) -> Readiness:
    """The readiness that follows from the facts of one message: names and values as in :class:`Row`."""
    row = next((number for number, one in enumerate(RULE) if _holds(one.when, facts)), _LAST)
    return _told(row, _stripes(facts), facts)


def with_readiness(revisions: QuerySet[Revision]) -> QuerySet[Revision]:
    """Revisions with their messages and facts, and what the rule finds as ``readiness_row`` and ``stripes``, by which a list may be sorted."""
    rows = [When(_of_revision(one.when), then=Value(number)) for number, one in enumerate(RULE[:-1])]
    lifted = Func(F("facts__clear") * STRIPES / WALKED, function="floor", output_field=IntegerField())
    return revisions.select_related("facts", "mailing", "uploaded_by").annotate(
        readiness_row=Case(*rows, default=Value(_LAST)),
        stripes=Case(
            When(Q(facts__is_checked=False) | Q(facts__unlooked__gt=0), then=Value(0)),
            When(facts__stops__gt=0, then=Least(lifted, Value(WITH_A_STOP))),
            default=lifted,
        ),
    )


def listed(revision: Any) -> Readiness:
    """The readiness of a revision that :func:`with_readiness` gave."""
    return _told(revision.readiness_row, revision.stripes, facts_of(revision))


def facts_of(revision: Revision) -> dict[str, Any]:
    """The facts of a revision, as the database counts them."""
    facts = revision.facts
    counted = ("is_checked", "is_busy", "unlooked", "stops", "fixes", "notes", "looked", "clear", "comments")
    return {"stage": revision.mailing.stage} | {name: getattr(facts, name) for name in counted}


def _told(number: int, stripes: int, facts: Mapping[str, Any]) -> Readiness:
    row = RULE[number]
    unseen = WALKED - facts["looked"]
    counts = {"stops": facts["stops"], "comments": facts["comments"], "unseen": unseen}
    is_one = any(f"{{{name}}}" in row.words and number == 1 for name, number in counts.items())
    words = row.words_for_one if is_one else row.words.format(**counts)
    return Readiness(stripes, words, row.turn, facts["stage"] in (Stage.CLEARED, Stage.RELEASED))


def _stripes(facts: Mapping[str, Any]) -> int:
    if not facts["is_checked"] or facts["unlooked"]:
        return 0
    lifted = facts["clear"] * STRIPES // WALKED
    return min(lifted, WITH_A_STOP) if facts["stops"] else lifted


def _holds(when: Mapping[str, Any], facts: Mapping[str, Any]) -> bool:
    """Whether the facts of one message fit a condition of the rule."""
    parts = ((*name.partition("__"), given) for name, given in when.items())
    return all(_COMPARISONS[comparison or "exact"](facts[fact], given) for fact, _, comparison, given in parts)


def _of_revision(when: Mapping[str, Any]) -> Q:
    """The same condition, asked of a revision in the database."""
    return Q(**{f"mailing__{name}" if name == "stage" else f"facts__{name}": given for name, given in when.items()})
