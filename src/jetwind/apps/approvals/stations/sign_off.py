"""The Sign-off station and the clearance record."""

from __future__ import annotations

from dataclasses import dataclass

from django.contrib import messages
from django.db.models import QuerySet
from django.http import Http404, HttpResponse
from django.shortcuts import redirect
from django.urls import path
from django.views.decorators.http import require_GET, require_POST

from jetwind.apps.approvals import services
from jetwind.apps.approvals.models import Release, SignOff
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import mailing_for, revision_for
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.models import Excuse
from jetwind.apps.review.selectors import ShownFinding, station_address
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks

_SLUG = "sign-off"


@dataclass(frozen=True, slots=True)
class Page:
    """The revisions with their sign-offs, what keeps this one from being cleared, and why the person may not sign; None where they may."""

    gives_room: bool
    history: list[tuple[Revision, list[SignOff]]]
    blockers: list[str]
    why_not: str | None
    required: int
    excuses: list[Excuse]
    open_fixes: list[ShownFinding]
    is_enough: bool
    has_signed: bool
    may_release: bool
    release: Release | None
    log: QuerySet[LogEntry]


def page(request: PersonRequest, around: Frame) -> Page:
    """A line of revisions: who said what over which content, and where it became void."""
    revision, mailing, walk = around.revision, around.mailing, around.walk
    history = services.history_of(mailing)
    may_sign = "approval:sign" in around.allowed
    return Page(
        gives_room=not around.findings,
        history=[(other, list(other.sign_offs.all())) for other in history],
        blockers=services.blockers(walk, history),
        why_not=services.why_not_sign(request.user, walk, history) if may_sign else "Signing is for the approver or reviewer.",
        required=mailing.workspace.sign_offs_required,
        excuses=list(dict.fromkeys(found.excuse for found in walk.findings if found.excuse is not None)),
        open_fixes=[found for found in walk.findings if found.is_open],
        is_enough=services.is_enough(revision, history),
        has_signed=may_sign and services.has_signed(request.user, revision, history),
        may_release="approval:release" in around.allowed,
        release=Release.objects.select_related("by").filter(mailing=mailing).first() if mailing.is_locked else None,
        log=LogEntry.objects.filter(mailing_id=mailing.pk).select_related("actor").order_by("-id")[:40],
    )


@require_POST
@asks(send="approval:sign")
@once
def sign(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Sign off a revision."""
    revision = revision_for(request.user, mailing_id, number)
    services.sign(request.user, revision, request.POST.get("comment", ""))
    messages.success(request, f"You signed off revision {revision.number}.")
    return redirect(station_address(revision, _SLUG))


@require_POST
@asks(send="approval:sign")
@once
def take_back(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Take one's own sign-off back."""
    revision = revision_for(request.user, mailing_id, number)
    services.take_back(request.user, revision, request.POST.get("reason", ""))
    messages.success(request, f"You took your sign-off of revision {revision.number} back.")
    return redirect(station_address(revision, _SLUG))


@require_POST
@asks(send="approval:release")
@once
def release(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Release a cleared revision."""
    revision = revision_for(request.user, mailing_id, number)
    services.release(request.user, revision)
    messages.success(request, f"Revision {revision.number} is released and locked.")
    return redirect(station_address(revision, _SLUG))


@require_GET
@asks("mailing:view")
def clearance(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """The clearance record as a file."""
    mailing = mailing_for(request.user, mailing_id)
    found = Release.objects.filter(mailing=mailing).first()
    if found is None:
        raise Http404("this message is not released")
    response = HttpResponse(services.as_bytes(found.record), content_type="application/json")
    response["Content-Disposition"] = f'attachment; filename="clearance-{mailing.pk}-r{found.revision.number}.json"'
    return response


STATION = StationPage(
    "sign-off",
    "approvals/station.html",
    page,
    routes=(
        path("sign-off/sign/", sign, name="sign"),
        path("sign-off/take-back/", take_back, name="take-sign-off-back"),
        path("sign-off/release/", release, name="release"),
    ),
)
