"""The Appearance station: renders with pins."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from jetwind.apps.accounts.models import User
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.jobs import services as jobs
from jetwind.apps.previews import services
from jetwind.apps.previews.models import Render
from jetwind.apps.review.frame import frame
from jetwind.apps.review.selectors import Walk, station_address
from jetwind.apps.workspace.access import workspace_of
from jetwind.core.profiles import profiles

_SLUG = "appearance"


@dataclass(frozen=True, slots=True)
class Pin:
    """A finding's place on a render, in percent of the picture's width and height."""

    number: int
    address: str
    sentence: str
    level: str
    is_open: bool
    is_chosen: bool
    left: float
    top: float
    width: float
    height: float


@require_GET
def appearance(request: HttpRequest, mailing_id: int, number: int) -> HttpResponse:
    """Renders on one vertical scale; one alone where a profile is chosen."""
    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    page = frame(request, revision, _SLUG)
    mode = request.GET.get("mode", "light")
    if mode not in Render.Mode.values:
        mode = "light"
    chosen = request.GET.get("profile", "")
    ids = list(profiles())
    shown = [chosen] if chosen in ids else ids
    renders = {render.profile: render for render in revision.renders.filter(mode=mode)}
    steps = ["", *ids]
    at = steps.index(chosen) if chosen in steps else 0
    sheets = [
        {
            "profile": profiles()[profile_id],
            "render": renders.get(profile_id),
            "pins": _pins(page["walk"], revision, renders[profile_id], request.GET) if profile_id in renders else [],
            "address": _here(revision, {"profile": profile_id, "mode": mode}),
            "first_screen": _share(profiles()[profile_id].first_screen, renders[profile_id].height) if profile_id in renders else 0,
        }
        for profile_id in shown
    ]
    page |= {
        "sheets": sheets,
        "mode": mode,
        "modes": [(value, label, _here(revision, {"profile": chosen, "mode": value, "finding": request.GET.get("finding", "")})) for value, label in Render.Mode.choices],
        "profile_links": [(profile_id, profiles()[profile_id].name if profile_id else "All side by side", _here(revision, {"profile": profile_id, "mode": mode})) for profile_id in steps],
        "chosen_profile": chosen if chosen in ids else "",
        "previous_profile": _here(revision, {"profile": steps[at - 1], "mode": mode}) if at else None,
        "next_profile": _here(revision, {"profile": steps[at + 1], "mode": mode}) if at + 1 < len(steps) else None,
        "blocked_toggle": _here(revision, {"profile": chosen, "mode": "light" if mode == "blocked" else "blocked"}),
        "night_toggle": _here(revision, {"profile": chosen, "mode": "light" if mode == "night" else "night"}),
        "renders_work": jobs.latest(services.RENDERS, f"revision:{revision.pk}"),
        "dropped": [item for sheet in sheets[:1] if sheet["render"] for item in sheet["render"].dropped],
    }
    return render(request, "previews/appearance.html", page)


def _here(revision: Revision, query: dict[str, str]) -> str:
    kept = {name: value for name, value in query.items() if value and (name, value) != ("mode", "light")}
    return station_address(revision, _SLUG) + (f"?{urlencode(kept)}" if kept else "")


def _share(part: float, whole: float) -> float:
    return round(100 * part / whole, 3) if whole else 0


def _pins(walk: Walk, revision: Revision, shot: Render, query: Any) -> list[Pin]:
    """Pins of every finding whose element, or the nearest one around it, is on the picture."""
    if shot.state != Render.State.DONE:
        return []
    boxes = {box[0]: box for box in shot.boxes}
    document = message_of(revision).document
    pins: list[Pin] = []
    for found in walk.findings:
        index = found.record.element
        if index is None or document is None or index >= len(document.all_elements):
            continue
        element = document.all_elements[index]
        box = next((boxes[step.index] for step in (element, *element.ancestors()) if step.index in boxes), None)
        box = box or next((boxes[inner.index] for inner in element.elements() if inner.index in boxes), None)
        if box is None or element.tag in ("html", "body"):
            continue
        _, _, x, y, width, height = box
        query_now = {"profile": query.get("profile", ""), "mode": query.get("mode", ""), "finding": found.record.fingerprint}
        kept = {name: value for name, value in query_now.items() if value}
        slug = found.record.station
        target = station_address(revision, slug) + f"?{urlencode(kept if slug == _SLUG else {'finding': found.record.fingerprint})}"
        pins.append(
            Pin(
                len(pins) + 1,
                target,
                found.record.sentence,
                found.record.level,
                found.is_open,
                query.get("finding") == found.record.fingerprint,
                _share(max(x, 0), shot.width),
                _share(y, shot.height),
                _share(min(width, shot.width - max(x, 0)), shot.width),
                _share(height, shot.height),
            )
        )
    return pins


@require_GET
def picture(request: HttpRequest, render_id: int) -> HttpResponse:
    """The picture of a render; it never changes under its digest."""
    assert isinstance(request.user, User)
    shot = get_object_or_404(Render, pk=render_id, revision__mailing__workspace=workspace_of(request.user), state=Render.State.DONE)
    try:
        data = store.fetch(shot.blob_sha256)
    except store.BlobMissing:
        raise Http404("the picture is no longer in the blob store") from None
    response = HttpResponse(data, content_type=shot.content_type)
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


@require_GET
def progress(request: HttpRequest, mailing_id: int, number: int) -> HttpResponse:
    """How far rendering is; once it ends the page is loaded anew."""
    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    work = jobs.latest(services.RENDERS, f"revision:{revision.pk}")
    response = render(request, "previews/_progress.html", {"renders_work": work, "revision": revision, "mailing": revision.mailing})
    if work is None or not work.is_open:
        response["HX-Refresh"] = "true"
    return response


@require_POST
def steer(request: HttpRequest, mailing_id: int, number: int) -> HttpResponse:
    """Cancel rendering, or go on with it."""
    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    if request.POST.get("do") == "cancel":
        services.cancel_renders(request.user, revision)
    else:
        services.retry_renders(request.user, revision)
    return redirect(station_address(revision, _SLUG))
