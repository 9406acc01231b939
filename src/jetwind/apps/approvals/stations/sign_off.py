"""The Sign-off station and the clearance record."""

from __future__ import annotations

from dataclasses import dataclass

from django.contrib import messages
from django.db.models import QuerySet
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.urls import path, reverse
from django.utils.text import slugify
from django.views.decorators.http import require_GET, require_POST

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import roles_for
from jetwind.apps.approvals import services
from jetwind.apps.approvals.clearance import as_bytes
from jetwind.apps.approvals.known import RELEASES
from jetwind.apps.approvals.models import Release, SignOff
from jetwind.apps.approvals.packaging import PACKAGE, ask_for_package
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.blobs import store
from jetwind.apps.comments.known import OPEN_THREADS, PEOPLE
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import mailing_for, revision_for
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.models import Excuse
from jetwind.apps.review.readiness import rule_for
from jetwind.apps.review.selectors import ShownFinding, station_address
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.core.clearing import Missing, sentences

_SLUG = "sign-off"
#: Findings and comments that a condition may be chosen from.
_MOST_CHOICES = 60


@dataclass(frozen=True, slots=True)
class Page:
    """The revisions with their signatures, the rule, what is missing, and why the person may not sign; None where they may.

    ``conditions`` are values and words of the conditions under which a person may sign, ``others`` the people to hand a sign-off on to.
    """

    gives_room: bool
    history: list[tuple[Revision, list[SignOff]]]
    missing: tuple[Missing, ...]
    next_step: str
    #: The sentences that hold everybody, in one; a reason not to sign that says no more is not told twice.
    held_words: str
    why_not: str | None
    may_refuse: bool
    rule: tuple[str, ...]
    excuses: list[Excuse]
    open_fixes: list[ShownFinding]
    left_out: list[tuple[str, str, str]]
    conditions: list[tuple[str, str]]
    others: list[tuple[int, str]]
    may_release_now: bool
    has_signed: bool
    may_release: bool
    release: Release | None
    #: The making of its package, while that waits or runs, or where it failed.
    packing: Work | None
    releases: list[Release]
    log: QuerySet[LogEntry]


def page(request: PersonRequest, around: Frame) -> Page:
    """A line of revisions: who said what over which content, and where it became void."""
    revision, mailing, walk = around.revision, around.mailing, around.walk
    history = services.history_of(mailing)
    may_sign = "approval:sign" in around.allowed
    ready = walk.readiness
    made = Release.objects.select_related("by", "revision", "taken_back_by").filter(mailing=mailing)
    releases = list(made) if RELEASES.of(revision) else []
    why_not = services.why_not_sign(request.user, walk, history) if may_sign else "Signing is for the approver or reviewer."
    has_signed = services.has_signed(request.user, revision, history)
    uploaded = request.user.pk in {other.uploaded_by_id for other in history}
    may_act = may_sign and not mailing.is_locked and not uploaded and around.is_newest
    open_findings = [found for found in walk.findings if found.is_open]
    in_force = next((one for one in releases if one.taken_back_at is None), None)
    return Page(
        gives_room=not around.findings,
        history=[(other, list(other.sign_offs.all())) for other in history],
        missing=ready.missing,
        next_step="" if ready.missing else ready.holding,
        held_words=" ".join(one.words for one in ready.missing if one.holds),
        why_not=why_not,
        may_refuse=may_act,
        rule=sentences(rule_for(mailing)),
        excuses=list(dict.fromkeys(found.excuse for found in walk.findings if found.excuse is not None)),
        open_fixes=open_findings,
        left_out=[(state.name, state.left_out, state.left_out_by) for state in walk.stations if state.left_out],
        conditions=conditions_of(revision, open_findings) if why_not is None else [],
        others=others_of(request, revision, history) if may_act and not has_signed else [],
        may_release_now=ready.stage == "cleared" and not ready.missing,
        has_signed=has_signed,
        may_release="approval:release" in around.allowed,
        release=in_force,
        packing=jobs.latest(PACKAGE, f"release:{in_force.pk}") if in_force is not None and not in_force.package_sha256 else None,
        releases=[one for one in releases if one.taken_back_at is not None],
        log=LogEntry.objects.filter(mailing_id=mailing.pk).select_related("actor").order_by("-id")[:40],
    )


def conditions_of(revision: Revision, open_findings: list[ShownFinding]) -> list[tuple[str, str]]:
    """What a signature may wait for: open findings, then open comments."""
    found = [(f"finding:{one.record.fingerprint}", one.record.sentence) for one in open_findings]
    found += [(f"comment:{thread['pk']}", f"Comment at {thread['named']}") for thread in OPEN_THREADS.of(revision)]
    return found[:_MOST_CHOICES]


def others_of(request: PersonRequest, revision: Revision, history: list[Revision]) -> list[tuple[int, str]]:
    """Numbers and names of those to whom the person may hand the sign-off on, from what came with the revision."""
    uploaded = {other.uploaded_by_id for other in history}
    signed = {one.by_id for other in history if other.pk == revision.pk for one in other.sign_offs.all() if one.voided_at is None}
    shared = request.roles & {role.value for role in roles_for("approval:sign")}
    return [
        (row["pk"], row["name"])
        for row in PEOPLE.of(revision)
        if row["pk"] not in uploaded | signed | {request.user.pk} and shared & set(row["roles"])
    ]


def _back(request: PersonRequest, revision: Revision) -> str:
    """Where a press leads: to the approver's page, if it was made there, or to the station."""
    if request.POST.get("from") == "approve":
        return reverse("approve", args=[revision.mailing_id, revision.number])
    return station_address(revision, _SLUG)


@require_POST
@asks(send="approval:sign")
@once
def sign(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Sign off a revision, with a condition or without."""
    revision = revision_for(request.user, mailing_id, number)
    made = services.sign(request.user, revision, request.POST.get("comment", ""), request.POST.get("condition", ""))
    said = f"You signed off revision {revision.number}."
    messages.success(request, f"{said} It counts once {made.condition['words']}." if made.condition else said)
    return redirect(_back(request, revision))


@require_POST
@asks(send="approval:sign")
@once
def refuse(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Refuse a revision, which sends it back to its author."""
    revision = revision_for(request.user, mailing_id, number)
    services.refuse(request.user, revision, request.POST.get("reason", ""))
    messages.success(request, f"You refused revision {revision.number}. It is sent back to its author with your reasons.")
    return redirect(_back(request, revision))


@require_POST
@asks(send="approval:sign")
@once
def hand_on(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Ask a colleague of the same role to sign in one's place."""
    revision = revision_for(request.user, mailing_id, number)
    to = get_object_or_404(
        User, pk=whole_number(request.POST, "to") or 0, memberships__workspace=request.workspace, memberships__deactivated_at=None
    )
    services.hand_on(request.user, revision, to, request.POST.get("words", ""))
    messages.success(request, f"{to.shown_name} is asked to sign revision {revision.number} in your place.")
    return redirect(_back(request, revision))


@require_POST
@asks(send="mailing:view")
@once
def take_back(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Take one's own sign-off back."""
    revision = revision_for(request.user, mailing_id, number)
    services.take_back(request.user, revision, request.POST.get("reason", ""))
    messages.success(request, f"You took your sign-off of revision {revision.number} back.")
    return redirect(_back(request, revision))


@require_POST
@asks(send="approval:release")
@once
def release(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Release a cleared revision."""
    revision = revision_for(request.user, mailing_id, number)
    services.release(request.user, revision)
    messages.success(request, f"Revision {revision.number} is released and locked.")
    return redirect(station_address(revision, _SLUG))


@require_POST
@asks(send="approval:release")
@once
def take_release_back(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Take the release of a message back."""
    revision = revision_for(request.user, mailing_id, number)
    services.take_release_back(request.user, revision.mailing, request.POST.get("reason", ""))
    messages.success(request, f"The release of “{revision.mailing.title}” is taken back; the message may change again.")
    return redirect(station_address(revision, _SLUG))


@require_POST
@asks(send="approval:release")
@once
def make_package(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Have the package made once more, where that failed."""
    revision = revision_for(request.user, mailing_id, number)
    found = Release.objects.filter(mailing=revision.mailing, taken_back_at=None, package_sha256="").first()
    if found is None:
        raise Refused("There is no package of this message that could be made.")
    ask_for_package(found)
    return redirect(station_address(revision, _SLUG))


@require_GET
@asks("mailing:view")
def package(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """The package of a released message as a file."""
    mailing = mailing_for(request.user, mailing_id)
    found = Release.objects.select_related("revision").filter(mailing=mailing, taken_back_at=None).first()
    if found is None or not found.package_sha256:
        raise Http404("this message has no package")
    try:
        data = store.fetch(found.package_sha256)
    except store.BlobMissing:
        raise Http404("the package is no longer in the store") from None
    response = HttpResponse(data, content_type="application/zip")
    plain = slugify(mailing.title) or "message"
    response["Content-Disposition"] = f'attachment; filename="{plain}-r{found.revision.number}.zip"'
    return response


@require_GET
@asks("mailing:view")
def clearance(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """The clearance record as a file."""
    mailing = mailing_for(request.user, mailing_id)
    found = Release.objects.select_related("revision").filter(mailing=mailing, taken_back_at=None).first()
    if found is None:
        raise Http404("this message is not released")
    response = HttpResponse(as_bytes(found.record), content_type="application/json")
    response["Content-Disposition"] = f'attachment; filename="clearance-{mailing.pk}-r{found.revision.number}.json"'
    return response


STATION = StationPage(
    "sign-off",
    "approvals/station.html",
    page,
    routes=(
        path("sign-off/sign/", sign, name="sign"),
        path("sign-off/refuse/", refuse, name="refuse"),
        path("sign-off/hand-on/", hand_on, name="hand-sign-off-on"),
        path("sign-off/take-back/", take_back, name="take-sign-off-back"),
        path("sign-off/release/", release, name="release"),
        path("sign-off/make-package/", make_package, name="make-package"),
        path("sign-off/take-release-back/", take_release_back, name="take-release-back"),
    ),
)
