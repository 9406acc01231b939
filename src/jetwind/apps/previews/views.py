"""The Appearance station: renders with pins."""

from __future__ import annotations

from collections import Counter
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
from jetwind.apps.review.selectors import ShownFinding, Walk, station_address
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
    stack: int


@require_GET
def appearance(request: HttpRequest, mailing_id: int, number: int) -> HttpResponse:
    """Renders on one vertical scale; one alone where a profile is chosen."""
    assert isinstance(request.user, User)
    revision = revision_for(request.user, mailing_id, number)
    page = frame(request, revision, _SLUG)
    mode = request.GET.get("mode", "light")
    if mode not in Render.Mode.values:
        mode = "light"
    ids = list(profiles())
    chosen = request.GET.get("profile", "")
    chosen = chosen if chosen in ids else ""
    renders = {render.profile: render for render in revision.renders.filter(mode=mode)}
    steps = ["", *ids]
    at = steps.index(chosen)
    sheets: list[dict[str, Any]] = [
        {
            "profile": profiles()[profile_id],
            "render": renders.get(profile_id),
            "pins": _pins(page["walk"], revision, renders[profile_id], request.GET) if profile_id in renders else [],
            "first_screen": _share(profiles()[profile_id].first_screen, renders[profile_id].height) if profile_id in renders else 0,
        }
        for profile_id in ([chosen] if chosen else ids)
    ]

    def here(*, profile: str = chosen, mode: str = mode) -> str:
        return _here(revision, {"profile": profile, "mode": mode, "finding": request.GET.get("finding", "")})

    page |= {
        "sheets": sheets,
        "mode": mode,
        "modes": [(value, label, here(mode=value)) for value, label in Render.Mode.choices],
        "profile_links": [(step, profiles()[step].name if step else "All side by side", here(profile=step)) for step in steps],
        "chosen_profile": chosen,
        "previous_profile": here(profile=steps[at - 1]) if at else None,
        "next_profile": here(profile=steps[at + 1]) if at + 1 < len(steps) else None,
        "blocked_toggle": here(mode="light" if mode == "blocked" else "blocked"),
        "night_toggle": here(mode="light" if mode == "night" else "night"),
        "renders_work": jobs.latest(services.RENDERS, f"revision:{revision.pk}"),
        "dropped": [item for sheet in sheets[:1] if sheet["render"] for item in sheet["render"].dropped],
    }
    return render(request, "previews/appearance.html", page)


def _here(revision: Revision, query: dict[str, str]) -> str:
    """The station's address with what is chosen; what is the default is left out."""
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
    placed: list[tuple[ShownFinding, list[Any]]] = []
    for found in walk.findings:
        index = found.record.element
        if index is None or document is None or index >= len(document.all_elements):
            continue
        element = document.all_elements[index]
        box = next((boxes[step.index] for step in (element, *element.ancestors()) if step.index in boxes), None)
        box = box or next((boxes[inner.index] for inner in element.elements() if inner.index in boxes), None)
        if box is not None and element.tag not in ("html", "body"):
            placed.append((found, box))
    # Numbered as the eye goes down the picture; pins that share a place have their numbers one below the other.
    placed.sort(key=lambda pair: (pair[1][3], pair[1][2]))
    stacks: Counter[tuple[int, int]] = Counter()
    pins: list[Pin] = []
    for found, (_, _, x, y, width, height) in placed:
        here = (round(x / 12), round(y / 12))
        pins.append(
            Pin(
                number=len(pins) + 1,
                address=_here(
                    revision, {name: query.get(name, "") for name in ("profile", "mode")} | {"finding": found.record.fingerprint}
                ),
                sentence=found.record.sentence,
                level=found.record.level,
                is_open=found.is_open,
                is_chosen=query.get("finding") == found.record.fingerprint,
                left=_share(max(x, 0), shot.width),
                top=_share(y, shot.height),
                width=_share(min(width, shot.width - max(x, 0)), shot.width),
                height=_share(height, shot.height),
                stack=stacks[here],
            )
        )
        stacks[here] += 1
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
