"""The Appearance station: the contact sheet, one render large with pins and comments."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.urls import path, reverse
from django.views.decorators.http import require_GET, require_POST
from django_htmx.http import HttpResponseClientRefresh

from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, revision_for
from jetwind.apps.intake.services import set_measured_reader
from jetwind.apps.previews import services
from jetwind.apps.previews.as_whom import AS_WRITTEN, AsWhom, as_whom, reader_choices
from jetwind.apps.previews.captions import caption
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN, PAIRS, WORDS, images_in_words, in_words, mode_of, needed, shown_in, switched, ways_of
from jetwind.apps.previews.places import Pin, PlacedComments, box_of, comments_on, pins_on, share, within
from jetwind.apps.previews.selectors import element_at, told
from jetwind.apps.previews.services import Pointed, described
from jetwind.apps.review.comment_views import told_by
from jetwind.apps.review.frame import KEPT_WORDS, Frame
from jetwind.apps.review.selectors import ShownFinding, station_address
from jetwind.apps.review.station_page import Progress, StationPage, values_of
from jetwind.apps.ui.given import was_pressed, whole_number
from jetwind.apps.ui.once import once
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.markup import Document
from jetwind.core.profiles import REFERENCE, Profile, profiles
from jetwind.core.profiles.support import origin
from jetwind.core.renders.measured import Measured
from jetwind.core.styles.sight import SIGHTS, Sight

_SLUG = "appearance"
#: What apps above know of real pictures of a profile's client, for its sheet: made from a workspace and the profile's id.
real_pictures: list[Callable[[Workspace, str], Any]] = []
#: The common scale of the contact sheet, and how tall a render may stand there, in px of the screen.
SHEET_SCALE, SHEET_HEIGHT = 0.2, 420
ZOOMS = (50, 75, 100, 150, 200)
#: Blocks offered in the list of places for a comment.
_MOST_PLACES = 150


@dataclass(frozen=True, slots=True)
class Card:
    """A render on the contact sheet: sizes in px of the screen, the first screen's end in px, what is wrong in this profile."""

    profile: Profile
    words: str
    render: Render | None
    address: str
    width: int
    height: int
    is_long: bool
    first_screen: float | None
    counts: list[tuple[str, int]]
    share: float | None
    departs: str


@dataclass(frozen=True, kw_only=True)
class Tools:
    """The line of tools, and where the keys lead. Each choice comes with its address."""

    mode: str
    has_tools: bool
    #: Ways of showing: label, address, whether it holds.
    toggles: list[tuple[str, str, bool]]
    #: The contact sheet and every profile: identifier, name, address.
    profile_links: list[tuple[str, str, str]]
    chosen_profile: str
    previous_profile: str | None
    next_profile: str | None
    blocked_toggle: str
    night_toggle: str
    station: str
    contact_sheet: str
    compare_address: str
    #: As whom renders are shown: as the address says it, by name, the choices; and the reader whose copy is measured.
    reader: str
    as_whom: str
    reader_choices: list[tuple[str, str, bool]]
    measured_as: str
    order: str
    orders: list[tuple[str, str, str]]
    sights: Sequence[Sight]
    #: Whether a render is not there yet, and whether a press on a page of Jetwind led here.
    lacks: bool
    was_pressed: bool


@dataclass(frozen=True, kw_only=True)
class ContactSheet(Tools):
    """Every chosen profile as a card."""

    gives_room: bool
    cards: list[Card]


@dataclass(frozen=True, kw_only=True)
class Large(Tools):
    """One render at a zoom in per cent, with its layout where it is done."""

    profile: Profile
    words: str
    shot: Render | None
    layout: Measured | None
    caption: str
    zoom: int
    zooms: list[tuple[int, str]]
    #: In px of the screen; and where the first screen ends, in per cent.
    shown_width: int
    first_screen: float
    pins: list[Pin]
    threads: list[PlacedComments]
    #: Elements that a comment may be made at, by number and name.
    places: list[tuple[int, str]]
    told: list[Any]
    images: str
    modelled_on: str
    table: Any
    compare: str
    #: What pictures of real screens say of the profile; empty where nobody brought one.
    real: list[Any]


@dataclass(frozen=True, slots=True)
class _Asked:
    """The choice that the address holds. ``profile`` is empty for the contact sheet; ``ids`` are the profiles to choose from."""

    revision: Revision
    ids: list[str]
    profile: str
    mode: str
    order: str
    zoom: str
    finding: str
    whom: AsWhom
    reader: str

    @classmethod
    def of(cls, request: PersonRequest, revision: Revision) -> _Asked:
        """Read off a request; what names nothing is left out."""
        ids = chosen_profiles(revision.mailing.workspace)
        profile = request.GET.get("profile", "")
        if profile in profiles() and profile not in ids:
            ids = [*ids, profile]
        return cls(
            revision,
            ids,
            profile if profile in ids else "",
            mode_of(ways_of(request.GET.get("mode", ""))),
            "departure" if request.GET.get("order") == "departure" else "",
            request.GET.get("zoom", ""),
            request.GET.get("finding", ""),
            *_whom_of(request, revision),
        )

    def here(self, **changed: str) -> str:
        """The station's address with something else chosen."""
        query = {
            "profile": self.profile,
            "mode": self.mode,
            "order": self.order,
            "zoom": self.zoom,
            "finding": self.finding,
            "reader": self.reader,
        }
        return _here(self.revision, query | changed)


def _whom_of(request: PersonRequest, revision: Revision) -> tuple[AsWhom, str]:
    """As whom a page shows the renders, and what its address says of it: nothing for the reader that is shown first."""
    asked = request.GET.get("reader", "")
    whom = as_whom(revision, asked)
    return whom, asked if asked == AS_WRITTEN or whom.name == asked else ""


def page(request: PersonRequest, around: Frame) -> ContactSheet | Large:
    """The contact sheet; one render alone where a profile is chosen."""
    revision = around.revision
    asked = _Asked.of(request, revision)
    wanted = [asked.profile] if asked.profile else asked.ids
    found = _renders(revision, asked.mode, wanted, asked.whom)
    lacks = any(name not in found or found[name].state == Render.State.WAITING for name in wanted)
    tools = _tools(asked, lacks=lacks, was_pressed=was_pressed(request))
    if asked.profile:
        profile, shot = profiles()[asked.profile], found.get(asked.profile)
        return _large(request, around, profile=profile, asked=asked, shot=shot, tools=tools)
    cards = _cards(around.walk.findings, revision, mode=asked.mode, found=found, ids=asked.ids, order=asked.order, here=asked.here)
    # Without findings the pane beside them is folded away, and the renders take its width.
    return ContactSheet(**values_of(tools), gives_room=not (around.findings or around.comments.own), cards=cards)


def _tools(asked: _Asked, *, lacks: bool, was_pressed: bool) -> Tools:
    """The line of tools, and where the keys lead."""
    one = profiles()[asked.profile] if asked.profile else None
    other_ways = {first: asked.here(mode=switched(one, asked.mode, (first, second))) for first, second in PAIRS}
    steps = ["", *asked.ids]
    at = steps.index(asked.profile)
    return Tools(
        mode=asked.mode,
        has_tools=True,
        toggles=[
            (WORDS[first].capitalize(), other_ways[first], _is_on(one, asked.mode, first))
            for first, _ in PAIRS
            if one is None or first != "turned" or one.can_turn
        ],
        profile_links=[(step, profiles()[step].name if step else "Contact sheet", asked.here(profile=step)) for step in steps],
        chosen_profile=asked.profile,
        previous_profile=asked.here(profile=steps[at - 1]) if at else None,
        next_profile=asked.here(profile=steps[at + 1]) if at + 1 < len(steps) else None,
        blocked_toggle=other_ways["blocked"],
        night_toggle=other_ways["night"],
        station=asked.here(),
        contact_sheet=asked.here(profile=""),
        compare_address=_compare_address(asked.revision),
        reader=asked.reader,
        as_whom=asked.whom.name,
        reader_choices=reader_choices(asked.revision, asked.whom),
        measured_as=asked.revision.mailing.measured_as,
        order=asked.order,
        orders=[("", "In their order", asked.here(order="")), ("departure", "Odd one out first", asked.here(order="departure"))],
        sights=SIGHTS,
        lacks=lacks,
        was_pressed=was_pressed,
    )


def _is_on(profile: Profile | None, mode: str, way: str) -> bool:
    """Whether a way of showing holds: for one profile as it is shown, for all where the mode says so."""
    if profile is None:
        return way in ways_of(mode)
    now = shown_in(profile, mode)
    return {"blocked": now.images == "blocked", "night": now.is_night, "turned": now.is_turned}[way]


def _renders(revision: Revision, mode: str, wanted: list[str], whom: AsWhom) -> dict[str, Render]:
    """Renders of a copy in a mode; of a device that a mode does not change, its own."""
    modes = {name: needed(profiles()[name], mode) for name in wanted}
    rows = revision.renders.filter(profile__in=wanted, mode__in=set(modes.values()), **whom.here).defer(
        "measured" if len(wanted) > 1 else "problem", "changes" if len(wanted) > 1 else "problem"
    )
    return {row.profile: row for row in rows if row.mode == modes[row.profile]}


def _cards(
    findings: list[ShownFinding], revision: Revision, mode: str, found: dict[str, Render], ids: list[str], order: str, here: Any
) -> list[Card]:
    audience = revision.mailing.workspace.audience
    counts: dict[str, Counter[str]] = {}
    for one in findings:
        if one.is_open:
            for name in one.record.data.get("profile_ids") or ():
                counts.setdefault(name, Counter())[one.record.level] += 1
    cards: list[Card] = []
    for name in ids:
        profile = shown_in(profiles()[name], mode)
        shot = found.get(name)
        height = round((shot.height if shot is not None and shot.height else 700) * SHEET_SCALE)
        screen = profile.viewport[1] * SHEET_SCALE
        cards.append(
            Card(
                profile,
                in_words(profiles()[name], mode),
                render=shot,
                address=here(profile=name),
                width=round(profile.content_width * SHEET_SCALE),
                height=min(height, SHEET_HEIGHT),
                is_long=height > SHEET_HEIGHT,
                first_screen=screen if screen < min(height, SHEET_HEIGHT) else None,
                counts=[(level, counts[name][level]) for level in ("stop", "fix", "note") if name in counts and counts[name][level]],
                share=float(audience.get(name, 0)) if audience else None,
                departs=f"{shot.departure:.0f}" if shot is not None and (shot.departure or 0) >= 1 else "",
            )
        )
    if order:
        cards.sort(key=lambda card: -(card.render.departure or 0) if card.render is not None else 0)
    return cards


def _large(request: PersonRequest, around: Frame, *, profile: Profile, asked: _Asked, shot: Render | None, tools: Tools) -> Large:
    """One render by itself: its picture at a zoom, pins, comments, what was dropped, and the profile's sheet."""
    shown = shown_in(profile, asked.mode)
    given = whole_number(request.GET, "zoom")
    zoom = given if given in ZOOMS else (100 if shown.content_width <= 720 else 75)
    message = message_of(asked.revision)
    document = message.document
    layout = shot.layout if shot is not None and shot.state == Render.State.DONE else None
    return Large(
        **values_of(tools),
        profile=shown,
        words=in_words(profile, asked.mode),
        shot=shot,
        layout=layout,
        caption=caption(shown, shot, layout),
        zoom=zoom,
        zooms=[(value, asked.here(zoom=str(value))) for value in ZOOMS],
        shown_width=round(shown.content_width * zoom / 100),
        first_screen=share(layout.first_screen, layout.height) if layout else 0,
        pins=pins_on(around.walk.findings, document, layout=layout, profile_id=profile.id, chosen=asked.finding, here=asked.here)
        if layout and document
        else [],
        threads=comments_on(around.comments.own, document, layout) if layout and document else [],
        places=_places(document, layout) if layout and document else [],
        told=told(shot, message.html.source if message.html else None) if shot is not None else [],
        images=images_in_words(shown),
        modelled_on=profile.modelled_on,
        table=origin(),
        real=[found for tell in real_pictures if (found := tell(asked.revision.mailing.workspace, profile.id)) is not None],
        compare=f"{_compare_address(asked.revision)}?{urlencode({'left': REFERENCE, 'right': profile.id, 'mode': asked.mode})}",
    )


def _compare_address(revision: Revision) -> str:
    return reverse("compare-renders", args=[revision.mailing_id, revision.number])


def _here(revision: Revision, query: dict[str, str]) -> str:
    """The station's address with the choices that differ from the default."""
    kept = {name: value for name, value in query.items() if value and (name, value) != ("mode", OWN)}
    return station_address(revision, _SLUG) + (f"?{urlencode(kept)}" if kept else "")


def _places(document: Document, layout: Measured) -> list[tuple[int, str]]:
    """Blocks of a render by name, for a comment without a mouse."""
    named: dict[int, str] = {}
    for block in layout.blocks:
        if 0 <= block.element < len(document.all_elements) and len(named) < _MOST_PLACES:
            named.setdefault(block.element, described(document.all_elements[block.element]))
    return list(named.items())


@require_GET
@asks("mailing:view")
def picture(request: PersonRequest, render_id: int) -> HttpResponse:
    """The picture of a render; it never changes under its digest."""
    shot = get_object_or_404(
        Render.objects.defer("measured", "changes"),
        pk=render_id,
        revision__mailing__workspace=request.workspace,
        state=Render.State.DONE,
    )
    try:
        data = store.fetch(shot.blob_sha256)
    except store.BlobMissing:
        raise Http404("the picture is no longer in the blob store") from None
    response = HttpResponse(data, content_type=shot.content_type)
    response["Cache-Control"] = "private, max-age=31536000, immutable"
    return response


@require_POST
@asks(send="mailing:view")
@once
def steer(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Cancel rendering, go on with it, render what a mode still lacks, or choose whose copy is measured."""
    revision = revision_for(request.user, mailing_id, number)
    if request.POST.get("do") == "cancel":
        services.cancel_renders(request.user, revision)
    elif request.POST.get("do") == "measure":
        set_measured_reader(request.user, revision.mailing, request.POST.get("reader", ""))
    else:
        only = [name for name in request.POST.getlist("profile") if name]
        mode = mode_of(ways_of(request.POST.get("mode", "")))
        services.show_mode(request.user, revision, mode, only, request.POST.get("reader", ""))
    if request.htmx:
        return HttpResponseClientRefresh()
    return redirect(station_address(revision, _SLUG))


@require_POST
@asks(send="comment:write")
@once
def comment(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Begin a thread at a point of a render, or at an element chosen from the list. Refused words come back to be mended, not lost."""
    revision = revision_for(request.user, mailing_id, number)
    profile, words = request.POST.get("profile", ""), request.POST.get("words", "")
    back = _here(revision, {name: request.POST.get(name, "") for name in ("profile", "mode", "zoom", "reader")})
    try:
        thread = services.comment_on(request.user, revision, profile, _pointed(request, revision, profile), words, told=told_by(request))
    except Refused as refused:
        messages.error(request, refused.sentence)
        request.session[KEPT_WORDS] = ["new", words[:5000]]
        return redirect(back)
    return redirect(f"{back}#thread-{thread.pk}")


def _pointed(request: PersonRequest, revision: Revision, profile: str) -> Pointed:
    """The element that was chosen from the list, or the one under the point.

    Raises:
        Refused: no such profile; no point; nothing of the message there.
    """
    if profile not in profiles():
        raise Refused("Choose a profile first.")
    chosen = whole_number(request.POST, "element", -1)
    if chosen >= 0:
        return Pointed(chosen)
    whom = as_whom(revision, request.POST.get("reader", ""))
    mode = needed(profiles()[profile], request.POST.get("mode", ""))
    shot = get_object_or_404(Render, revision=revision, profile=profile, mode=mode, state=Render.State.DONE, **whom.here)
    try:
        x, y = float(request.POST.get("x", "")), float(request.POST.get("y", ""))
    except ValueError:
        raise Refused("Click on the picture where the comment belongs, or choose a place from the list.") from None
    layout, document = shot.layout, message_of(revision).document
    found = element_at(layout, x, y)
    if document is None or found is None or not 0 <= found < len(document.all_elements):
        raise Refused("There is nothing of the message at this place; click on a text, a picture or a button.")
    return Pointed(found, *within(box_of(document, layout, document.all_elements[found]), x, y))


STATION = StationPage(
    _SLUG,
    lambda page: "previews/large.html" if isinstance(page, Large) else "previews/contact_sheet.html",
    page,
    progress=Progress((services.RENDERS,), "previews/_progress.html"),
    routes=(path("renders/steer/", steer, name="renders-steer"), path("renders/comment/", comment, name="comment-on-render")),
)
