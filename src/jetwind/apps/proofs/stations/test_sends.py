"""The Test sends station: each copy's way, and the form for a new test send."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.contrib import messages
from django.contrib.postgres.aggregates import ArrayAgg
from django.db.models import Count, Prefetch, Q, QuerySet, Value
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.urls import path
from django.views.decorators.http import require_POST

from jetwind.apps.intake.known import SAMPLE_READERS
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import revision_for
from jetwind.apps.proofs import services
from jetwind.apps.proofs.models import TestCopy, TestList, TestSend
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.selectors import station_address
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.apps.workspace.models import SampleReader

_SLUG = "test-sends"


@dataclass(frozen=True, slots=True)
class Page:
    """The test sends of the revision, the newest first, and whether a copy of the newest is still on its way."""

    sends: list[TestSend]
    #: Lists to send to, with their length, and the sample readers.
    lists: QuerySet[TestList]
    readers: list[dict[str, Any]]
    has_mailroom: bool
    is_under_way: bool


def page(request: PersonRequest, around: Frame) -> Page:
    """Each copy's way, and the form for a new test send."""
    revision = around.revision
    sends = _sends(revision)
    return Page(
        sends=sends,
        lists=revision.mailing.workspace.test_lists.annotate(length=Count("addresses")).order_by("id"),
        readers=SAMPLE_READERS.of(revision),
        has_mailroom=settings.HAS_MAILROOM,
        is_under_way=any(
            copy.state in (TestCopy.State.WAITING, TestCopy.State.ON_ITS_WAY)
            or (copy.state == TestCopy.State.HANDED_OVER and not copy.arrived and settings.HAS_MAILROOM)
            for send in sends[:1]
            for copy in send.copies.all()
        ),
    )


def _sends(revision: Revision) -> list[TestSend]:
    """The test sends of a revision with their copies, each with number and time of every arrival."""
    there = Q(arrivals__isnull=False)
    arrivals = {name: ArrayAgg(f"arrivals__{name}", filter=there, order_by="-arrivals__pk", default=Value([])) for name in ("pk", "at")}
    copies = TestCopy.objects.annotate(**{f"arrival_{name}": made for name, made in arrivals.items()})
    sends = list(revision.test_sends.select_related("by").prefetch_related(Prefetch("copies", queryset=copies)))
    rows: list[Any] = [copy for send in sends for copy in send.copies.all()]
    for row in rows:
        row.arrived = list(zip(row.arrival_pk, row.arrival_at, strict=True))
    return sends


@require_POST
@asks(send="proof:send")
@once
def send(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Send a test."""
    revision = revision_for(request.user, mailing_id, number)
    workspace = revision.mailing.workspace
    test_list = get_object_or_404(TestList, pk=whole_number(request.POST, "list"), workspace=workspace)
    reader = SampleReader.objects.filter(pk=whole_number(request.POST, "reader"), workspace=workspace).first()
    services.send_test(request.user, revision, test_list, reader)
    messages.success(request, f"Revision {revision.number} goes to “{test_list.name}”, one message to each address.")
    return redirect(station_address(revision, _SLUG))


STATION = StationPage(
    _SLUG,
    "proofs/station.html",
    page,
    fragment="proofs/_sends.html",
    routes=(path("test-sends/send/", send, name="send-test"),),
)
