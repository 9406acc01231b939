"""Saying something about a revision, and what is said about it."""

from __future__ import annotations

from dataclasses import dataclass

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.comments import services
from jetwind.apps.comments.models import Thread
from jetwind.apps.comments.selectors import PlacedThread, all_threads, named_subject, people_of, placed
from jetwind.apps.comments.services import Place
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.review.frame import KEPT_WORDS, Permitted
from jetwind.apps.review.selectors import known_fingerprints, station_address, walk_of
from jetwind.apps.ui.given import whole_numbers
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of
from jetwind.core.reports import STATIONS

#: The values of the field ``about`` besides fingerprints of findings.
_STATION, _SUBJECT = "station", "subject"


@require_POST
@asks(send="comment:write")
@once
def say(request: PersonRequest, mailing_id: int, number: int, slug: str) -> HttpResponse:
    """Begin a thread about a station, the subject, or a finding. Refused words come back to be mended, not lost."""
    revision = revision_for(request.user, mailing_id, number)
    words, back = request.POST.get("words", ""), _back(request, revision, slug)
    try:
        place = _place(revision, slug, request.POST.get("about", _STATION))
        thread = services.say(request.user, revision, place, words, told_by(request))
    except Refused as refused:
        messages.error(request, refused.sentence)
        request.session[KEPT_WORDS] = ["new", words[:5000]]
        return redirect(back)
    return redirect(f"{back}#thread-{thread.pk}")


def told_by(request: PersonRequest) -> set[int]:
    """The numbers of the people whom a form names."""
    return whole_numbers(request.POST, "told")


def _place(revision: Revision, slug: str, about: str) -> Place:
    """Where a thread begins.

    Raises:
        Refused: there is no such station or finding.
    """
    station = next((known for known in STATIONS if known.slug == slug), None)
    if station is None:
        raise Refused(f"There is no station “{slug[:40]}”.")
    if about == _STATION:
        return Place(Thread.Kind.STATION, slug, f"the station {station.name}")
    if about == _SUBJECT:
        return Place(Thread.Kind.SUBJECT, "envelope", named_subject(message_of(revision)))
    found = next((one.record for one in walk_of(revision).findings if one.record.fingerprint == about), None)
    if found is None:
        raise Refused("The finding is not there any more; say it about the station.")
    return Place(Thread.Kind.FINDING, found.station, found.sentence, fingerprint=found.fingerprint)


def _back(request: PersonRequest, revision: Revision, slug: str) -> str:
    """The page of the message that a form stands on, or the station."""
    back = request.POST.get("back", "")
    return back if back.startswith(f"/mailings/{revision.mailing_id}/") else station_address(revision, slug)


@require_http_methods(["GET", "HEAD", "POST"])
@asks("mailing:view", send="comment:write", works=True)
@once
def thread(request: PersonRequest, thread_id: int) -> HttpResponse:
    """Lead to a thread in the newest revision; add a comment to it, settle it, or open it again."""
    found = get_object_or_404(
        Thread.objects.select_related("mailing__workspace", "revision"), pk=thread_id, mailing__workspace=request.workspace
    )
    revision = revision_for(request.user, found.mailing_id)
    if request.method != "POST":
        return redirect(_address(revision, found))
    back = request.POST.get("back", "")
    address = f"{back}#thread-{found.pk}" if back.startswith(f"/mailings/{found.mailing_id}/") else _address(revision, found)
    act = request.POST.get("do")
    if act == "settle":
        services.settle(request.user, found)
    elif act == "open":
        services.open_again(request.user, found)
    else:
        words = request.POST.get("words", "")
        try:
            if services.answer(request.user, found, words, told_by(request)):
                messages.info(request, "This thread was settled; your comment opened it again.")
        except Refused as refused:
            messages.error(request, refused.sentence)
            request.session[KEPT_WORDS] = [f"thread-{found.pk}", words[:5000]]
    return redirect(address)


def _address(revision: Revision, found: Thread) -> str:
    """The page on which a thread stands: its station while it is open, else the list of all."""
    if found.settled_at is not None:
        return f"{station_address(revision, 'comments')}#thread-{found.pk}"
    query = {Thread.Kind.FINDING: f"?finding={found.fingerprint}", Thread.Kind.POINT: f"?profile={found.profile}"}
    return f"{station_address(revision, found.station)}{query.get(Thread.Kind(found.kind), '')}#thread-{found.pk}"


@dataclass(frozen=True, slots=True)
class StationThreads:
    """The threads of one station."""

    name: str
    slug: str
    threads: list[PlacedThread]


@require_GET
@asks("mailing:view")
def comments(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Everything that is said about a message up to a revision, settled or not, station by station."""
    revision = revision_for(request.user, mailing_id, number)
    found = placed(all_threads(revision), message_of(revision), known_fingerprints(walk_of(revision)))
    allowed = permissions_of(request.user, request.workspace)
    kept = request.session.pop(KEPT_WORDS) if KEPT_WORDS in request.session else None
    page = {
        "revision": revision,
        "mailing": revision.mailing,
        "stations": [
            StationThreads(one.name, one.slug, threads)
            for one in STATIONS
            if (threads := [place for place in found if place.thread.station == one.slug])
        ],
        "open_comments": sum(place.thread.settled_at is None for place in found),
        "people": people_of(revision),
        "may_comment": Permitted.of(allowed, revision.mailing).may_comment,
        "may_settle_all": "review:look" in allowed,
        "kept_words": kept,
        "section": "departures",
    }
    return render(request, "review/comments.html", page)
