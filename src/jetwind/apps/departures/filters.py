"""What the list of Departures shows: a filter, read from an address and written into one."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import date, datetime, time, timedelta
from urllib.parse import urlencode
from zoneinfo import ZoneInfo

from django.db.models import Exists, F, OuterRef, Q, QuerySet
from django.db.models.expressions import OrderBy
from django.http import QueryDict
from django.utils.dateparse import parse_date

from jetwind.apps.accounts.models import User
from jetwind.apps.approvals.models import SignOff
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.notices.models import Notice
from jetwind.apps.ui.given import whole_number
from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking import Kind

#: Orders of the list: names for addresses and for people, and by which columns.
ORDERS: dict[str, tuple[str, tuple[str | OrderBy, ...]]] = {
    "leaves": ("what leaves first", (F("planned_at").asc(nulls_last=True), "-id")),
    "leaves-last": ("what leaves last", (F("planned_at").desc(nulls_last=True), "-id")),
    "deadline": ("by deadline for review", (F("review_by").asc(nulls_last=True), F("planned_at").asc(nulls_last=True), "-id")),
    "title": ("by title", ("title", "id")),
    "newest": ("what came in last", ("-id",)),
    "stage": ("by stage", ("stage", F("planned_at").asc(nulls_last=True), "-id")),
}
#: Windows of the axis: names for addresses and for people, and days.
WINDOWS = {"day": ("Day", 1), "week": ("Week", 7), "quarter": ("Quarter", 92)}
#: Characters of a search.
_LONGEST = 200


@dataclass(frozen=True, slots=True)
class Filter:
    """A choice of messages. Empty entries choose nothing. ``first`` and ``last`` are days on which messages leave, both counted in.

    ``is_mine`` keeps the messages of which something waits for the person who looks.
    """

    search: str = ""
    stage: str = ""
    kind: str = ""
    person: int = 0
    label: str = ""
    is_mine: bool = False
    first: date | None = None
    last: date | None = None
    order: str = "leaves"

    @classmethod
    def of(cls, given: QueryDict) -> Filter:
        """The filter of an address; what cannot be read is left out, and days in the wrong order change places."""
        stage, kind, order = given.get("stage", ""), given.get("kind", ""), given.get("order", "")
        first, last = _day(given.get("from", "")), _day(given.get("to", ""))
        if first is not None and last is not None and last < first:
            first, last = last, first
        return cls(
            search=given.get("q", "").replace("\0", "").strip()[:_LONGEST],
            stage=stage if stage in Mailing.Stage.values else "",
            kind=kind if kind in {one.value for one in Kind} else "",
            person=whole_number(given, "person"),
            label=given.get("label", "").replace("\0", "").strip()[:30],
            is_mine=given.get("mine") == "yes",
            first=first,
            last=last,
            order=order if order in ORDERS else "leaves",
        )

    @property
    def query(self) -> str:
        """The filter as the end of an address, without a page; empty where it chooses nothing."""
        entries = {
            "q": self.search,
            "stage": self.stage,
            "kind": self.kind,
            "person": str(self.person) if self.person else "",
            "label": self.label,
            "mine": "yes" if self.is_mine else "",
            "from": self.first.isoformat() if self.first is not None else "",
            "to": self.last.isoformat() if self.last is not None else "",
            "order": self.order if self.order != "leaves" else "",
        }
        return urlencode({name: value for name, value in entries.items() if value})

    @property
    def chooses(self) -> bool:
        """Whether it leaves any message out."""
        return replace(self, order="leaves") != Filter()

    def with_stage(self, stage: str) -> Filter:
        """The same with another stage."""
        return replace(self, stage=stage)

    def within(self, first: date | None, last: date | None) -> Filter:
        """The same with other days."""
        return replace(self, first=first, last=last)

    def messages(self, workspace: Workspace, user: User | None = None) -> QuerySet[Mailing]:
        """The messages that fit, in their order. Days are those of the person who looks, or of UTC where nobody does."""
        found = Mailing.objects.filter(workspace=workspace).order_by(*ORDERS[self.order][1])
        if self.stage:
            found = found.filter(stage=self.stage)
        if self.kind:
            found = found.filter(kind=self.kind)
        if self.search:
            with_subject = Revision.objects.filter(mailing=OuterRef("pk"), subject__icontains=self.search)
            found = found.filter(Q(title__icontains=self.search) | Q(audience__icontains=self.search) | Exists(with_subject))
        if self.person:
            uploaded = Revision.objects.filter(mailing=OuterRef("pk"), uploaded_by=self.person)
            signed = SignOff.objects.filter(mailing=OuterRef("pk"), by=self.person)
            found = found.filter(Q(created_by=self.person) | Q(given_to=self.person) | Exists(uploaded) | Exists(signed))
        if self.label:
            found = found.filter(labels__contains=[self.label])
        if self.is_mine and user is not None:
            found = found.filter(Exists(Notice.objects.filter(mailing=OuterRef("pk"), user=user, read_at=None)))
        zone = ZoneInfo((user.time_zone if user is not None else "") or "UTC")
        if self.first is not None:
            found = found.filter(planned_at__gte=datetime.combine(self.first, time(), zone))
        if self.last is not None:
            found = found.filter(planned_at__lt=datetime.combine(self.last + timedelta(days=1), time(), zone))
        return found


def _day(text: str) -> date | None:
    """A day as ISO 8601 writes it, in years that a calendar has."""
    try:
        found = parse_date(text[:10])
    except ValueError:
        return None
    return found if found is not None and 1990 <= found.year <= 2190 else None
