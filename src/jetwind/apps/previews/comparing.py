"""Two renders held against each other, and sheets of all renders to keep."""

from __future__ import annotations

import contextlib
import io
from dataclasses import dataclass
from urllib.parse import urlencode

from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, render
from django.utils.text import slugify
from django.views.decorators.http import require_GET

from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.jobs.machines import best_for
from jetwind.apps.previews.as_whom import AS_WRITTEN, AsWhom, as_whom, reader_choices
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN, in_words, mode_of, needed, shown_in, ways_of
from jetwind.apps.previews.sheets import as_pdf, as_png
from jetwind.apps.previews.stations.appearance import described
from jetwind.apps.review.frame import frame
from jetwind.apps.review.selectors import station_address
from jetwind.apps.ui.given import was_pressed, whole_number
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.images.difference import difference
from jetwind.core.markup import Document
from jetwind.core.markup.anchor import anchor_of, find
from jetwind.core.profiles import REFERENCE, Profile, profiles
from jetwind.core.renders.departure import Departure, departure
from jetwind.core.renders.measured import Measured
from jetwind.core.styles.sight import SIGHTS

VIEWS = (("side", "Side by side"), ("wiper", "Laid over, with a wiper"), ("map", "Difference map"))
_KINDS = {"gone": "gone", "new": "only here", "moved": "moved", "resized": "another size", "shortened": "fewer letters"}
_MOST_DIFFERENCES = 60


@dataclass(frozen=True, slots=True)
class _Side:
    """One half of a comparison."""

    revision: Revision
    name: str
    title: str
    whom: AsWhom
    shot: Render | None
    layout: Measured | None


@require_GET
@asks("mailing:view")
def compare(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Two profiles of one revision, or one profile in two revisions."""
    revision = revision_for(request.user, mailing_id, number)
    around = frame(request, revision, "appearance")
    ids = chosen_profiles(revision.mailing.workspace)
    left, right, mode, view = _asked(request, ids)
    other = revision.mailing.revisions.filter(number=whole_number(request.GET, "against")).first()
    whom = [as_whom(revision, request.GET.get(name, "")) for name in ("reader", "right_reader")]
    is_two = whom[0] != whom[1]
    sides = [
        _side(revision if other is None else other, left, mode=mode, whom=whom[0], is_dated=other is not None, is_named=is_two),
        _side(revision, right, mode=mode, whom=whom[1], is_dated=other is not None, is_named=is_two),
    ]
    asked = {"left": left, "right": right, "mode": "" if mode == OWN else mode, "against": str(other.number) if other else ""}
    asked |= {name: request.GET.get(name, "") for name in ("reader", "right_reader")}
    both = [side.shot.pk for side in sides if side.shot is not None and side.layout is not None]
    is_mixed = len(both) == 2 and len({side.shot.made_with for side in sides if side.shot is not None}) == 2
    page = around.context() | {
        "sides": sides,
        "has_tools": True,
        "view": view,
        "views": [(key, label, _address(request, asked | {"view": key})) for key, label in VIEWS],
        "left": left,
        "right": right,
        "mode": mode,
        "profile_names": [(name, profiles()[name].name) for name in dict.fromkeys((*ids, left, right))],
        "against": other.number if other else "",
        "revisions": [one.number for one in revision.mailing.revisions.all() if one.pk != revision.pk],
        "is_ready": len(both) == 2 and not is_mixed,
        "is_mixed": is_mixed,
        "was_pressed": was_pressed(request),
        "sights": SIGHTS,
        "both": both,
        "lacks": [
            (side.revision, side.name, side.whom.name or AS_WRITTEN)
            for side in sides
            if side.layout is None or (is_mixed and side.shot is not None and not _is_made_now(side.shot))
        ],
        "reader_choices": reader_choices(revision, whom[0]),
        "right_reader_choices": reader_choices(revision, whom[1]),
        "contact_sheet": station_address(revision, "appearance"),
    }
    if page["is_ready"]:
        page |= _differences(sides)
    return render(request, "previews/compare.html", page)


def _is_made_now(shot: Render) -> bool:
    """Whether the machine that renders now would make a render as it was made."""
    best = best_for("renders")
    return best is None or shot.made_with == best.renders_key


def _asked(request: PersonRequest, ids: list[str]) -> tuple[str, str, str, str]:
    """Left and right profile, mode and view: as asked for where there are such, else the first that fit."""
    left, right, view = (request.GET.get(name, "") for name in ("left", "right", "view"))
    left = left if left in profiles() else REFERENCE if REFERENCE in ids else ids[0]
    right = right if right in profiles() else next((name for name in ids if name != left), left)
    return left, right, mode_of(ways_of(request.GET.get("mode", ""))), view if view in dict(VIEWS) else "side"


def _address(request: PersonRequest, query: dict[str, str]) -> str:
    return f"{request.path}?{urlencode({name: value for name, value in query.items() if value})}"


def _side(revision: Revision, name: str, mode: str, whom: AsWhom, is_dated: bool, is_named: bool) -> _Side:
    # An earlier revision is shown as the same reader gets it, in whatever syntax it is read.
    whom = as_whom(revision, whom.name or AS_WRITTEN)
    shot = revision.renders.filter(profile=name, mode=needed(profiles()[name], mode), **whom.here).first()
    words = in_words(profiles()[name], mode)
    said = (f"as {whom.name}" if whom.name else "fields as written") if is_named else ""
    title = ", ".join(filter(None, (profiles()[name].name, words, said, f"revision {revision.number}" if is_dated else "")))
    return _Side(
        revision,
        name,
        title=title,
        whom=whom,
        shot=shot,
        layout=shot.layout if shot is not None and shot.state == Render.State.DONE else None,
    )


def _differences(sides: list[_Side]) -> dict[str, object]:
    """How far the right layout departs from the left one, block by block."""
    left, right = sides
    assert left.layout is not None and right.layout is not None
    same = None
    documents = [message_of(side.revision).document for side in sides]
    if left.revision.pk != right.revision.pk and documents[0] is not None and documents[1] is not None:
        same = _same_elements(documents[0], documents[1], left.layout)
    found: Departure = departure(left.layout, right.layout, same)
    rows = []
    for one in found.differences[:_MOST_DIFFERENCES]:
        document = documents[1] if one.kind == "new" else documents[0]
        if document is not None and 0 <= one.element < len(document.all_elements):
            rows.append((described(document.all_elements[one.element]), _KINDS[one.kind], round(one.by)))
    return {"score": found.score, "differences": rows, "more": max(0, len(found.differences) - _MOST_DIFFERENCES)}


def _same_elements(one: Document, other: Document, layout: Measured) -> dict[int, int]:
    """For the blocks of a layout, the elements of another revision that they have become."""
    same: dict[int, int] = {}
    for block in layout.of("text", "image"):
        if block.element not in same and 0 <= block.element < len(one.all_elements) and len(same) < 300:
            found = find(anchor_of(one.all_elements[block.element], one), other)
            if found is not None:
                same[block.element] = found.index
    return same


@require_GET
@asks("mailing:view")
def difference_map(request: PersonRequest, left_id: int, right_id: int) -> HttpResponse:
    """Where two renders differ, as a picture."""
    workspace = request.workspace
    pictures: list[tuple[bytes, int]] = []
    for render_id in (left_id, right_id):
        shot = get_object_or_404(
            Render.objects.defer("measured", "changes"), pk=render_id, revision__mailing__workspace=workspace, state=Render.State.DONE
        )
        try:
            pictures.append((store.fetch(shot.blob_sha256), shot.width))
        except store.BlobMissing:
            raise Http404("the picture is no longer in the blob store") from None
    found = difference(*pictures[0], *pictures[1])
    response = HttpResponse(found.drawn(), content_type="image/jpeg")
    response["Cache-Control"] = "private, max-age=3600"
    response["X-Different-Share"] = f"{found.share:.4f}"
    return response


@require_GET
@asks("mailing:view", works="long")
def sheet(request: PersonRequest, mailing_id: int, number: int, form: str) -> HttpResponse:
    """All renders of a mode on one sheet, or one render alone, as PNG or PDF to keep."""
    revision = revision_for(request.user, mailing_id, number)
    mode = mode_of(ways_of(request.GET.get("mode", "")))
    only = request.GET.get("profile", "")
    wanted = [only] if only in profiles() else chosen_profiles(revision.mailing.workspace)
    whom = as_whom(revision, request.GET.get("reader", ""))
    shots = shots_of(revision, wanted, mode, whom)
    if not shots:
        raise Http404("nothing is rendered in this way yet")
    title = f"{revision.mailing.title}, revision {revision.number}" + (f", as {whom.name} gets it" if whom.name else "")
    out = io.BytesIO()
    if form == "png":
        as_png(title, shots, out)
    else:
        as_pdf(title, shots, out)
    response = HttpResponse(out.getvalue(), content_type="image/png" if form == "png" else "application/pdf")
    plain = slugify(revision.mailing.title) or "renders"
    named = f"{plain}-r{revision.number}{'-' + only if only in profiles() else ''}.{form}"
    response["Content-Disposition"] = f'attachment; filename="{named}"'
    return response


def shots_of(revision: Revision, names: list[str], mode: str, whom: AsWhom) -> list[tuple[Profile, str, Render, bytes]]:
    """The pictures that are there, each with its profile as it is shown and its name in words."""
    shots = []
    for name in names:
        profile = profiles()[name]
        done = revision.renders.filter(profile=name, mode=needed(profile, mode), state=Render.State.DONE, **whom.here)
        shot = done.defer("measured", "changes").first()
        if shot is not None:
            with contextlib.suppress(store.BlobMissing):
                shots.append((shown_in(profile, mode), in_words(profile, mode), shot, store.fetch(shot.blob_sha256)))
    return shots
