"""Messages in the order in which they leave, and what holds each back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db.models import OuterRef, QuerySet, Subquery
from django.urls import reverse
from django.utils import timezone

from jetwind.apps.audit.actions import ACTIONS
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.departures.filters import Filter
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.review.models import ReadinessFacts
from jetwind.apps.review.readiness import Readiness, listed, stripes_of, with_readiness
from jetwind.apps.workspace.models import Workspace

#: The axis shows this many messages, those that leave first, and of the released ones those that left this lately.
ON_AXIS = 200
LATELY = timedelta(days=7)
#: Acts after which somebody else may be at the turn.
_TURNS = (
    "mailing.taken-in",
    "mailing.copied",
    "revision.added",
    "envelope.changed",
    "review.sent-back",
    *(name for name in ACTIONS if name.startswith("approval.") and name != "approval.held"),
)

#: Number, title, planned time and stage of a message.
Listed = tuple[int, str, datetime | None, str]


@dataclass(frozen=True, slots=True)
class Leaving:
    """One row: a mailing with its newest revision, what of it counts, and how near it is to leaving."""

    mailing: Mailing
    revision: Revision
    facts: ReadinessFacts
    readiness: Readiness
    #: When the last act came after which somebody else may be at the turn.
    since: datetime | None

    @property
    def is_overdue(self) -> bool:
        """Whether the deadline for review has passed and the review is not done."""
        by = self.mailing.review_by
        return by is not None and by <= timezone.now() and not self.readiness.is_cleared

    @property
    def address(self) -> str:
        """The address at which its walk begins."""
        return _address(self.mailing.pk, self.revision.number)


def messages(workspace: Workspace, **chosen: Any) -> QuerySet[Mailing]:
    """The mailings of a workspace that fit, soonest first, those without a planned time last. ``chosen`` are entries of a filter."""
    return Filter(**chosen).messages(workspace)


@dataclass(frozen=True, slots=True)
class Planned:
    """One message as the axis shows it: its number, the number of its newest revision, title, planned time and windsock."""

    number: int
    revision: int
    title: str
    planned_at: datetime
    stripes: int
    is_cleared: bool

    @property
    def address(self) -> str:
        """The address at which its walk begins."""
        return _address(self.number, self.revision)


@dataclass(frozen=True, slots=True)
class Board:
    """One page of the list, and what the axis above it shows; ``are_more`` says that more messages are planned than it shows."""

    rows: list[Leaving]
    planned: list[Planned]
    are_more: bool


def board(listing: Sequence[Listed], shown: Iterable[int], now: datetime, *, has_axis: bool) -> Board:
    """The rows of the messages with the numbers ``shown``, and of a whole listing what is planned, soonest first. Three queries.

    Neither what is released and gone for long nor what has no planned time stands on the axis.
    """
    shown = list(shown)
    planned = [(planned_at, -number, title, stage) for number, title, planned_at, stage in listing if planned_at and has_axis]
    soon = sorted(one for one in planned if one[3] != Mailing.Stage.RELEASED or one[0] >= now - LATELY)
    numbers = {*shown, *(-one[1] for one in soon[:ON_AXIS])}
    revisions = Revision.objects.filter(mailing__in=numbers).order_by("mailing_id", "-number").distinct("mailing_id")
    newest = {mailing: (pk, number) for pk, mailing, number in revisions.values_list("pk", "mailing_id", "number")}
    facts = {one.revision_id: one for one in ReadinessFacts.objects.filter(revision__in=[pk for pk, _ in newest.values()])}
    on_axis = []
    for planned_at, negative, title, stage in soon[:ON_AXIS]:
        if -negative in newest:
            pk, number = newest[-negative]
            stripes, is_cleared = stripes_of(facts[pk]), stage in (Mailing.Stage.CLEARED, Mailing.Stage.RELEASED)
            on_axis.append(Planned(-negative, number, title, planned_at, stripes=stripes, is_cleared=is_cleared))
    rows = _rows([newest[number][0] for number in shown if number in newest], facts)
    return Board([rows[number] for number in shown if number in rows], on_axis, len(soon) > ON_AXIS)


def leaving(numbers: Iterable[int]) -> list[Leaving]:
    """The mailings with these numbers as rows, in this order. Three queries."""
    return board([], numbers, timezone.now(), has_axis=False).rows


def _rows(revisions: Sequence[int], facts: Mapping[int, ReadinessFacts]) -> dict[int, Leaving]:
    """These newest revisions as rows, by the numbers of their messages."""
    last = LogEntry.objects.filter(mailing_id=OuterRef("mailing_id"), action__in=_TURNS).order_by("-id").values("at")[:1]
    found = Revision.objects.filter(pk__in=revisions).select_related("mailing__given_to").annotate(since=Subquery(last))
    rows = {}
    for one in with_readiness(found, facts):
        rows[one.mailing_id] = Leaving(one.mailing, one, one.facts, listed(one), since=one.since)
    return rows


def _address(mailing: int, revision: int) -> str:
    return reverse("station", args=[mailing, revision, "envelope"])
