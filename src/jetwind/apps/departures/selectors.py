"""Messages in the order in which they leave, and what holds each back."""

from __future__ import annotations

from collections.abc import Iterable
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
from jetwind.apps.review.readiness import Readiness, listed, with_readiness
from jetwind.apps.workspace.models import Workspace

#: The axis shows this many messages, those that leave first, and of the released ones those that left this lately.
ON_AXIS = 40
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
        return reverse("station", args=[self.mailing.pk, self.revision.number, "envelope"])


def messages(workspace: Workspace, **chosen: Any) -> QuerySet[Mailing]:
    """The mailings of a workspace that fit, soonest first, those without a planned time last. ``chosen`` are entries of a filter."""
    return Filter(**chosen).messages(workspace)


def soon(found: QuerySet[Mailing], now: datetime) -> QuerySet[Mailing]:
    """Of mailings that fit, those of the axis, soonest first: planned, and neither released nor gone for long."""
    planned = found.filter(planned_at__isnull=False).exclude(stage=Mailing.Stage.RELEASED, planned_at__lt=now - LATELY)
    return planned.order_by("planned_at", "-id")


def leaving(numbers: Iterable[int]) -> list[Leaving]:
    """The mailings with these numbers as rows, in this order. Two queries."""
    numbers = list(numbers)
    newest = Revision.objects.filter(mailing=OuterRef("pk")).order_by("-number").values("pk")[:1]
    shown = Mailing.objects.filter(pk__in=numbers).values(newest=Subquery(newest))
    last = LogEntry.objects.filter(mailing_id=OuterRef("mailing_id"), action__in=_TURNS).order_by("-id").values("at")[:1]
    revisions = with_readiness(Revision.objects.filter(pk__in=shown)).select_related("mailing__given_to").annotate(since=Subquery(last))
    rows = {one.mailing_id: Leaving(one.mailing, one, one.facts, listed(one), since=one.since) for one in revisions}
    return [rows[number] for number in numbers if number in rows]
