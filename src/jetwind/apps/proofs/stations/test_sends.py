"""The Test sends station: each copy's way, and the form for a new test send."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.conf import settings
from django.contrib import messages
from django.contrib.postgres.expressions import ArraySubquery
from django.core.exceptions import ValidationError
from django.db.models import Count, F, Func, IntegerField, OuterRef, Prefetch, Subquery
from django.db.models.functions import JSONObject
from django.forms import DateTimeField
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.urls import path
from django.utils import timezone
from django.views.decorators.http import require_POST

from jetwind.apps.intake.known import SAMPLE_READERS
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import revision_for
from jetwind.apps.proofs import mail_servers, screenshots, services
from jetwind.apps.proofs.lanes import Lanes, lanes_of
from jetwind.apps.proofs.looked import Matrix, asked_of, links_of_send, matrix_of
from jetwind.apps.proofs.models import Arrival, ArrivalShown, ReportKind, ReportShown, Screenshot, TestCopy, TestList, TestSend, WayOutPress
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.selectors import station_address
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.ui.given import whole_number, whole_numbers
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.core.profiles import profiles

_SLUG = "test-sends"
#: For how long after the press an open page asks whether a copy has arrived; a mail that takes longer is seen when the page is opened again.
_WATCHED = timedelta(minutes=15)
#: Readers for whom everybody gets a copy each.
MOST_READERS = 50


@dataclass(frozen=True, slots=True)
class Page:
    """The test sends of the revision with their lanes, the newest first, and whether a copy of the newest is still on its way."""

    sends: list[tuple[TestSend, Lanes, Matrix]]
    #: Subjects of the revision, and the mark that stands before them.
    subjects: Sequence[str]
    mark: str
    #: Lists to send to, with their length, and the sample readers.
    lists: Sequence[TestList]
    #: The name of the way by which a new test send goes out.
    way_out: str
    readers: list[dict[str, Any]]
    has_mailroom: bool
    is_under_way: bool
    #: Copies that a picture of a screen may show, the newest first; the names of all profiles; and the pictures that were brought.
    shown_copies: list[TestCopy]
    profile_names: list[tuple[str, str]]
    screenshots: list[ShownScreen]


@dataclass(frozen=True, slots=True)
class ShownScreen:
    """A picture of a screen on the list: its number, whose copy it shows, when it was brought, and its likeness to the render, where it is known."""

    pk: int
    address: str
    at: datetime
    likeness: float | None

    @classmethod
    def of(cls, row: dict[str, Any]) -> ShownScreen:
        """From a row of the query of sends."""
        return cls(row["pk"], row["address"], datetime.fromisoformat(row["at"]), row["likeness"])


def page(request: PersonRequest, around: Frame) -> Page:
    """Each copy's way, and the form for a new test send."""
    revision = around.revision
    sends = _sends(revision)
    workspace = revision.mailing.workspace
    chosen = Subquery(workspace.mail_servers.filter(is_chosen=True).values("name"))
    lists = list(workspace.test_lists.annotate(length=Count("addresses"), way_out=chosen).order_by("id"))
    return Page(
        subjects=services.subjects_of(revision),
        mark=services.usual_mark(revision),
        sends=[(send, lanes_of(send, send.copies.all(), send.asked), matrix_of(send.asked)) for send in sends],
        lists=lists,
        way_out=(lists[0].way_out if lists else None) or mail_servers.way_out_name(),
        readers=SAMPLE_READERS.of(revision),
        has_mailroom=settings.HAS_MAILROOM,
        shown_copies=[copy for send in sends for copy in send.copies.all() if copy.copy_sha256][:100],
        profile_names=[(name, profile.name) for name, profile in profiles().items()],
        screenshots=[one for send in sends for one in send.screens][:20],
        is_under_way=any(_is_under_way(send, copy) for send in sends[:1] for copy in send.copies.all()),
    )


def _is_under_way(send: TestSend, copy: TestCopy) -> bool:
    """Whether a page that is open asks again: for a copy that is being handed over, and for a while for its arrival and its comparison."""
    if send.is_planned:
        return False
    if copy.state in (TestCopy.State.WAITING, TestCopy.State.ON_ITS_WAY):
        return True
    if copy.state != TestCopy.State.HANDED_OVER or timezone.now() - send.at > _WATCHED:
        return False
    is_awaited = not copy.arrived and not copy.reported and settings.HAS_MAILROOM and send.server_id is None
    return is_awaited or any(not arrival.is_compared for arrival in copy.arrived)


def _sends(revision: Revision) -> list[TestSend]:
    """The test sends of a revision with their copies, each with number and time of every arrival, and with what machines wrote about it."""
    differences = Func(F("compared__differences"), function="jsonb_array_length", output_field=IntegerField())
    arrivals = Arrival.objects.filter(copy=OuterRef("pk")).order_by("-pk").values(row=JSONObject(pk="pk", at="at", differences=differences))
    reports = Arrival.objects.filter(reports_on=OuterRef("pk"), is_past=False).order_by("pk")
    told = reports.values(row=JSONObject(pk="pk", at="at", kind="report", status="report_status", words="report_words"))
    presses = WayOutPress.objects.filter(copy=OuterRef("pk")).order_by("pk")
    pressed = presses.values(row=JSONObject(at="at", how="how", place="place", client="client", came_from="came_from"))
    copies = TestCopy.objects.filter(purpose=TestCopy.Purpose.COPY).annotate(
        arrival_rows=ArraySubquery(arrivals), report_rows=ArraySubquery(told), press_rows=ArraySubquery(pressed)
    )
    brought = Screenshot.objects.filter(copy__send=OuterRef("pk")).order_by("-pk")
    screens = brought.values(row=JSONObject(pk="pk", address="copy__address", at="at", likeness="likeness"))[:20]
    sends = list(
        revision.test_sends.annotate(link_rows=links_of_send(), screen_rows=ArraySubquery(screens))
        .select_related("by", "server")
        .prefetch_related(Prefetch("copies", queryset=copies))
    )
    for send in sends:
        send.asked = asked_of(send.link_rows)
        send.screens = [ShownScreen.of(row) for row in send.screen_rows]
    rows: list[Any] = [copy for send in sends for copy in send.copies.all()]
    for row in rows:
        row.arrived = [
            ArrivalShown(one["pk"], datetime.fromisoformat(one["at"]), one["differences"] is not None, one["differences"] or 0)
            for one in row.arrival_rows
        ]
        row.reported = [
            ReportShown(one["pk"], datetime.fromisoformat(one["at"]), ReportKind(one["kind"]), one["status"], one["words"])
            for one in row.report_rows
        ]
        row.pressed = [WayOutPress(at=datetime.fromisoformat(one.pop("at")), **one) for one in row.press_rows]
    return [*sends]


@require_POST
@asks(send="proof:send")
@once
def send(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Send a test."""
    revision = revision_for(request.user, mailing_id, number)
    workspace = revision.mailing.workspace
    choices = _choices(request, workspace)
    if request.POST.get("to") == "me":
        services.send_to_self(request.user, revision, choices)
        messages.success(request, f"Revision {revision.number} goes to you, at {request.user.email}.")
    else:
        test_list = get_object_or_404(TestList, pk=whole_number(request.POST, "list"), workspace=workspace)
        services.send_test(request.user, revision, test_list, choices)
        messages.success(request, f"Revision {revision.number} goes to “{test_list.name}”, nobody sees another’s address.")
    return redirect(station_address(revision, _SLUG))


def _choices(request: PersonRequest, workspace: Workspace) -> services.Choices:
    """The choices of the form.

    Raises:
        Refused: the time cannot be read.
    """
    several = whole_numbers(request.POST, "readers", MOST_READERS)
    chosen = request.POST.get("reader", "own")
    number = whole_number(request.POST, "reader")
    readers: tuple[SampleReader | None, ...] = tuple(workspace.readers.filter(pk__in=several or {number})[:MOST_READERS])
    if not readers and chosen == "nobody":
        readers = (None,)
    variants = {int(one) for one in request.POST.getlist("variant")[:100] if one.isascii() and one.isdigit() and len(one) < 4}
    return services.Choices(
        readers=readers,
        variants=tuple(sorted(variants)) or (0,),
        mark=request.POST.get("mark"),
        planned_at=_time(request.POST.get("at", "")),
        base=request.build_absolute_uri("/").rstrip("/"),
        leaves_addresses=request.POST.get("unchanged") == "on",
        asks=request.POST.get("ask") == "on",
    )


def _time(text: str) -> datetime | None:
    if not text.strip():
        return None
    try:
        found = DateTimeField().clean(text)
    except ValidationError:
        raise Refused(f"“{text[:40]}” is not a time such as 2027-05-04 10:00; nothing was sent.") from None
    assert isinstance(found, datetime)
    return found


@require_POST
@asks(send="proof:send")
@once
def keep(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Keep mails that somebody saved from a mail program, and hold them against their copies."""
    revision = revision_for(request.user, mailing_id, number)
    file = request.FILES.get("mail")
    if file is None:
        raise Refused("Choose the saved mail, an .eml file, or a mailbox, an .mbox file.")
    kept, others = services.keep_saved_file(request.user, revision, file.read())
    for arrival in kept:
        messages.success(request, _kept(arrival))
    if others:
        messages.warning(request, f"Mails of the mailbox that belong to no test copy of this message: {others}. They were not kept.")
    return redirect(station_address(revision, _SLUG))


@require_POST
@asks(send="proof:send")
@once
def keep_screenshot(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Keep a picture of a real screen, and hold it against the render of the copy that it shows."""
    revision = revision_for(request.user, mailing_id, number)
    file = request.FILES.get("screen")
    if file is None:
        raise Refused("Choose the picture of the screen, as PNG or JPEG.")
    copies = TestCopy.objects.filter(send__revision=revision, purpose=TestCopy.Purpose.COPY).exclude(copy_sha256="")
    copy = get_object_or_404(copies.select_related("send__mailing__workspace", "send__revision"), pk=whole_number(request.POST, "copy"))
    kept = screenshots.keep(request.user, copy, file.read(screenshots.LARGEST + 1), request.POST.get("profile", ""))
    return redirect("screenshot", kept.pk)


def _kept(arrival: Arrival) -> str:
    about = arrival.about
    assert about is not None
    if arrival.report:
        return f"Kept: the copy to {about.address} was {arrival.get_report_display()}."
    return f"Kept as what arrived at {about.address}; it is compared now."


STATION = StationPage(
    _SLUG,
    "proofs/station.html",
    page,
    fragment="proofs/_sends.html",
    routes=(
        path("test-sends/send/", send, name="send-test"),
        path("test-sends/keep/", keep, name="keep-arrival"),
        path("test-sends/screen/", keep_screenshot, name="keep-screenshot"),
    ),
)
