"""The page of mends: what is offered, what is chosen, and the mended copy."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils.http import content_disposition_header
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.blobs import store
from jetwind.apps.intake.known import NEWEST_NUMBER
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import revision_for
from jetwind.apps.jobs import services as jobs
from jetwind.apps.mends import in_sets, services
from jetwind.apps.mends.models import MendedRender, PreparedMends
from jetwind.apps.mends.services import Chosen, Outcome, Sums
from jetwind.apps.review.questions import newest_run
from jetwind.apps.review.selectors import station_address
from jetwind.apps.sets.models import MessageSet
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of
from jetwind.core.profiles import profiles
from jetwind.core.reports import STATIONS

#: Before the fingerprint of a finding: the name of the field for the word that its mend needs.
_WORD = "word-"


@dataclass(frozen=True, slots=True)
class StationMends:
    """The mends of one station's findings."""

    name: str
    offers: list[dict[str, Any]]


@require_http_methods(["GET", "HEAD", "POST"])
@asks("mailing:view", send="mailing:change", works="long")
@once
def mends(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """The mends of a revision; sent, take those that are chosen as the next revision. What was refused comes back as it was chosen."""
    revision = revision_for(request.user, mailing_id, number)
    if request.method == "POST":
        chosen = _chosen(request)
        try:
            made, outcome = services.take(request.user, revision, chosen)
        except Refused as refused:
            messages.error(request, refused.sentence)
            return _page(request, revision, chosen, status=409)
        taken = len(outcome.done.taken)
        messages.success(request, f"Revision {made.number} has {'one mend' if taken == 1 else f'{taken} mends'}.{_left_out(outcome)}")
        return redirect(station_address(made, "envelope"))
    return _page(request, revision, None)


def _page(request: PersonRequest, revision: Revision, chosen: Chosen | None, status: int = 200) -> HttpResponse:
    prepared = PreparedMends.objects.filter(revision=revision).first()
    run = newest_run(revision)
    stations = _stations(prepared, chosen) if prepared is not None else []
    allowed = permissions_of(request.user, revision.mailing.workspace)
    page = {
        "revision": revision,
        "mailing": revision.mailing,
        "prepared": prepared,
        "stations": stations,
        "picked": sum(one["is_chosen"] for group in stations for one in group.offers),
        "is_stale": prepared is not None and run is not None and prepared.rests_on != services.rests_on(run),
        "is_checked": run is not None,
        "work": services.work_of(revision),
        "sums": _rows(Sums(**prepared.sums["now"]), Sums(**prepared.sums["sure"])) if prepared is not None and chosen is None else [],
        "newest_number": NEWEST_NUMBER.of(revision),
        "is_newest": NEWEST_NUMBER.of(revision) == revision.number,
        "may_take": "mailing:change" in allowed and not revision.mailing.is_locked and NEWEST_NUMBER.of(revision) == revision.number,
        "longest_word": services.LONGEST_WORD,
        "section": "departures",
    }
    return render(request, "mends/mends.html", page | _looks(request, revision), status=status)


def _looks(request: PersonRequest, revision: Revision) -> dict[str, Any]:
    """The pictures of one profile, as the message is and as it is mended; nothing where none was made."""
    rows = list(MendedRender.objects.filter(revision=revision))
    sides = {side for side in (MendedRender.Side.SURE, MendedRender.Side.ALL) if any(row.side == side for row in rows)}
    names = list(dict.fromkeys(row.profile for row in rows if row.profile in profiles()))
    if not sides or not names:
        return {}
    side = request.GET.get("with", "")
    side = side if side in sides else next(one for one in (MendedRender.Side.ALL, MendedRender.Side.SURE) if one in sides)
    changed = {row.profile for row in rows if row.side == side and row.areas}
    name = request.GET.get("profile", "")
    name = name if name in names else next((one for one in names if one in changed), names[0])
    by_side = {row.side: row for row in rows if row.profile == name}
    return {
        "look": by_side.get(side),
        "look_now": by_side.get(MendedRender.Side.NOW),
        "looks_same": by_side[side].blob_sha256 == by_side[MendedRender.Side.NOW].blob_sha256
        if len(by_side) > 1 and side in by_side
        else False,
        "look_side": side,
        "look_sides": [(one.value, one.label) for one in MendedRender.Side if one in sides],
        "look_profile": profiles()[name],
        "look_profiles": [(one, profiles()[one].name, one in changed) for one in names],
        "look_unmade": sorted({row.problem for row in by_side.values() if row.problem}),
    }


@require_GET
@asks("mailing:view", works=False)
def mended_render(request: PersonRequest, mailing_id: int, number: int, which: str, profile: str) -> HttpResponse:
    """A picture of a revision in a profile: as it is, or with its mends."""
    revision = revision_for(request.user, mailing_id, number)
    shot = get_object_or_404(MendedRender, revision=revision, side=which, profile=profile, problem="")
    try:
        data = store.fetch(shot.blob_sha256)
    except store.BlobMissing:
        raise Http404("the picture is no longer in the blob store") from None
    return HttpResponse(data, content_type=shot.content_type)


def _stations(prepared: PreparedMends, chosen: Chosen | None) -> list[StationMends]:
    found = []
    for station in STATIONS:
        own = [
            {
                **one,
                "is_chosen": one["kind"] == "sure" if chosen is None else one["finding"] in chosen.findings,
                "word": chosen.words.get(one["finding"], "") if chosen is not None else "",
            }
            for one in prepared.offers
            if one["station"] == station.slug
        ]
        if own:
            found.append(StationMends(station.name, own))
    return found


def _chosen(request: PersonRequest) -> Chosen:
    words = {name.removeprefix(_WORD): request.POST[name] for name in request.POST if name.startswith(_WORD)}
    return Chosen(frozenset(request.POST.getlist("mend")), {finding: word for finding, word in words.items() if word.strip()})


def _left_out(outcome: Outcome) -> str:
    withheld = outcome.done.withheld
    if not withheld:
        return ""
    said = "1 mend does not hold and is left out" if len(withheld) == 1 else f"{len(withheld)} mends do not hold and are left out"
    return f" {said}: {withheld[0].why}"


def _rows(now: Sums, then: Sums) -> list[tuple[str, str, str]]:
    """What a message comes to, now and with its mends."""
    return [
        ("stops", str(now.stops), str(then.stops)),
        ("fixes", str(now.fixes), str(then.fixes)),
        ("notes", str(now.notes), str(then.notes)),
        ("spam risk", now.spam, then.spam),
        ("HTML", f"{now.octets / 1024:.1f} KB", f"{then.octets / 1024:.1f} KB"),
    ]


@require_POST
@asks(send="mailing:view")
@once
def look_for(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Have mends looked for."""
    services.ask_for_mends(request.user, revision_for(request.user, mailing_id, number))
    return redirect("mends", mailing_id, number)


@require_GET
@asks("mailing:view", works=False)
def progress(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """How far the search is; once done, the page loads itself anew."""
    revision = revision_for(request.user, mailing_id, number)
    work = services.work_of(revision)
    page = {"work": work, "revision": revision, "mailing": revision.mailing, "is_fresh": work is None or not work.is_open}
    return render(request, "mends/_progress.html", page)


@require_POST
@asks(send="mailing:view", works="long")
def sums(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """What the message comes to with the mends that are chosen, worked out now. Nothing is written."""
    revision = revision_for(request.user, mailing_id, number)
    chosen = _chosen(request)
    page: dict[str, Any] = {"picked": len(chosen.findings | set(chosen.words))}
    try:
        outcome = services.outcome_of(revision, chosen) if page["picked"] else None
    except Refused as refused:
        page["refused"] = refused.sentence
        outcome = None
    if outcome is not None:
        page |= {
            "sums": _rows(outcome.now, outcome.then),
            "now": outcome.now,
            "then": outcome.then,
            "withheld": outcome.done.withheld,
            "filled": outcome.filled,
        }
    return render(request, "mends/_sums.html", page)


@require_POST
@asks(send="mailing:view", works="long")
def as_file(request: PersonRequest, mailing_id: int, number: int, form: str) -> HttpResponse:
    """Save the mended copy, or the mends as a patch."""
    if form not in ("message", "patch"):
        raise Http404("no such form")
    data, name = services.saved(revision_for(request.user, mailing_id, number), _chosen(request), "patch" if form == "patch" else "message")
    # The octets are a stranger's: a browser is to save them, never to show them.
    response = HttpResponse(data, content_type="application/octet-stream")
    response["Content-Disposition"] = content_disposition_header(as_attachment=True, filename=name) or "attachment"
    return response


@require_POST
@asks(send="mailing:change")
@once
def mend_set(request: PersonRequest, set_id: int) -> HttpResponse:
    """Have what one check finds mended in every message of a set."""
    shown = get_object_or_404(MessageSet.objects.select_related("workspace"), pk=set_id, workspace=request.workspace)
    in_sets.ask(request.user, shown, request.POST.get("check", ""))
    return redirect("set", shown.pk)


@require_GET
@asks("mailing:view")
def mend_set_progress(request: PersonRequest, set_id: int) -> HttpResponse:
    """How far that is; once done, the page loads itself anew."""
    shown = get_object_or_404(MessageSet, pk=set_id, workspace=request.workspace)
    work = jobs.latest(in_sets.KIND, f"{in_sets.KIND}:{shown.pk}")
    return render(request, "sets/_mending.html", {"shown": shown, "mend_work": work, "is_fresh": work is None or not work.is_open})
