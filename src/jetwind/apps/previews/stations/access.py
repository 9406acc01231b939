"""The Access station: the message with its pictures and with their words in their place, every text outlined by its contrast."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

from django.http import HttpRequest
from django.utils.safestring import SafeString

from jetwind.apps.intake.selectors import message_of
from jetwind.apps.previews.as_whom import as_whom
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN
from jetwind.apps.previews.places import on_picture
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.ui.many import many
from jetwind.apps.workspace.access import PersonRequest
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.checks.rendered import element_of, says_something
from jetwind.core.markup import Document
from jetwind.core.message import Message
from jetwind.core.profiles import REFERENCE, Profile, profiles
from jetwind.core.renders.measured import Block, Measured
from jetwind.core.renders.spoken import Spoken
from jetwind.core.styles.contrast import as_hex, ratio
from jetwind.core.styles.sight import SIGHTS, Sight

SLUG = "access"
#: Outlines that are drawn, and rows of the tables.
_MOST_OUTLINES, _MOST_ROWS, _MOST_HEARD = 400, 60, 400
#: How wide each of the two renders is shown at most, in px of the screen.
_WIDE = 350


@dataclass(frozen=True)
class View:
    """One of the two renders: as what it is shown, the choices, its outlines."""

    words: str
    profile: Profile | None
    choices: list[tuple[str, str, bool]]
    shot: Render | None
    layout: Measured | None
    outlines: SafeString

    @property
    def width(self) -> int:
        """The width at which it is shown, in px of the screen."""
        return min(_WIDE, self.layout.width) if self.layout is not None else _WIDE


@dataclass(frozen=True, slots=True)
class Faint:
    """A text with its contrast, the weakest first."""

    ratio: str
    needed: str
    is_faint: bool
    colours: str
    size: str
    words: str
    line: int | str


@dataclass(frozen=True, slots=True)
class Page:
    """The two renders; none while nothing is rendered. ``sights`` are the ways of seeing that can be tried."""

    views: list[View]
    sights: Sequence[Sight]
    texts: list[Faint]
    #: What a screen reader says: number, role, words, language, line.
    spoken: list[tuple[int, str, str, str, int | str]]
    #: Every picture: line, picture, what a screen reader says of it, whether it is the chosen one.
    pictures: list[tuple[int | str, str, str, bool]]


def page(request: PersonRequest, around: Frame) -> Page:
    """Two renders side by side, the texts by their contrast, and what a screen reader says."""
    revision, message = around.revision, message_of(around.revision)
    ids = chosen_profiles(revision.mailing.workspace)
    rows = Render.objects.filter(revision=revision, mode=OWN, state=Render.State.DONE, profile__in=ids, **as_whom(revision).here).defer(
        "changes"
    )
    shots = {row.profile: row for row in rows}
    shown = [name for name in ids if name in shots and profiles()[name].images == "on"]
    blocked = [name for name in ids if name in shots and profiles()[name].images == "blocked"]
    asked = (_asked(request, "profile", shown), _asked(request, "words", blocked))
    document = message.document

    def address(**changed: str) -> str:
        query = {"profile": asked[0], "words": asked[1]} | changed
        return f"{around.here}?{urlencode({name: value for name, value in query.items() if value})}"

    views = [
        _view(words, which, names=names, name=name, shots=shots, document=document, address=address)
        for words, which, names, name in (
            ("With pictures", "profile", shown, asked[0]),
            ("Words in place of pictures", "words", blocked, asked[1]),
        )
    ]
    first = views[0].layout
    return Page(
        views=views if shots else [],
        sights=SIGHTS,
        texts=_texts(message, document, first) if first is not None and document is not None else [],
        spoken=_heard(message, shots.get(REFERENCE)),
        pictures=_pictures(message, around),
    )


def _asked(request: HttpRequest, name: str, names: list[str]) -> str:
    wanted = request.GET.get(name, "")
    return wanted if wanted in names else (names[0] if names else "")


def _view(words: str, which: str, names: list[str], name: str, shots: dict[str, Render], document: Document | None, address: Any) -> View:
    shot = shots.get(name)
    layout = shot.layout if shot is not None else None
    choices = [(address(**{which: other}), profiles()[other].name, other == name) for other in names]
    outlines = _outlines(document, layout) if layout is not None and document is not None else SafeString("")
    return View(words, profiles()[name] if name else None, choices=choices, shot=shot, layout=layout, outlines=outlines)


def _spoken(document: Document, layout: Measured) -> list[Block]:
    """Blocks of letters that say something, alternative texts of blocked pictures among them."""
    found = []
    for block in layout.of("text", "image"):
        element = element_of(document, block)
        if element is None or not block.characters or (block.kind == "text" and not says_something(element)):
            continue
        found.append(block)
    return found


def _outlines(document: Document, layout: Measured) -> SafeString:
    """Each text in a box: by a line of its own kind where it is too faint, with the ratio, and where nothing can be told."""
    outlines = []
    for block in _spoken(document, layout)[:_MOST_OUTLINES]:
        value = block.contrast
        left, top, width, height = on_picture((block.x, block.y, block.width, block.height), layout)
        kind = "unknown" if value is None else "faint" if value < block.needed_contrast else "clear"
        said = ratio(value) if kind == "faint" and value is not None else ""
        style = f"left: {left:.3f}%; top: {top:.3f}%; width: {width:.3f}%; height: {height:.3f}%"
        outlines.append({"kind": kind, "style": style, "ratio": said})
    return many("previews/outlines.html", outlines=outlines)


def _texts(message: Message, document: Document, layout: Measured) -> list[Faint]:
    assert message.html is not None
    found: dict[tuple[str, str, float], tuple[float, Block]] = {}
    for block in _spoken(document, layout):
        value = block.contrast
        if value is None or block.colour is None or block.ground is None:
            continue
        key = (as_hex(block.colour), as_hex(block.ground), block.size)
        if key not in found:
            found[key] = (value, block)
    rows = []
    for (colour, ground, size), (value, block) in sorted(found.items(), key=lambda item: item[1][0]):
        element = document.all_elements[block.element]
        line = message.html.source.position(element.start_tag.start).line if element.start_tag is not None else ""
        words = " ".join((element.text or element.get("alt") or "").split())
        shown = f"{words[:70]}…" if len(words) > 70 else words
        rows.append(
            Faint(
                ratio(value),
                f"{block.needed_contrast:g}",
                is_faint=value < block.needed_contrast,
                colours=f"{colour} on {ground}",
                size=f"{size:g} px",
                words=shown,
                line=line,
            )
        )
    return rows[:_MOST_ROWS]


def _heard(message: Message, render: Render | None) -> list[tuple[int, str, str, str, int | str]]:
    """The words that a screen reader says: number, role, words, language, line."""
    if render is None or message.document is None or message.html is None:
        return []
    rows = []
    for number, row in enumerate(render.spoken[:_MOST_HEARD], 1):
        one = Spoken.from_row(row)
        element = message.document.all_elements[one.element] if 0 <= one.element < len(message.document.all_elements) else None
        line = message.html.source.position(element.start_tag.start).line if element is not None and element.start_tag is not None else ""
        rows.append((number, f"{one.role}, level {one.level}" if one.level else one.role, one.words, one.language, line))
    return rows


def _pictures(message: Message, around: Frame) -> list[tuple[int | str, str, str, bool]]:
    """Every picture in words: line, picture, what a screen reader says of it, whether it is the chosen one."""
    if message.document is None or message.html is None:
        return []
    chosen = around.chosen.record.element if around.chosen is not None else None
    rows = []
    for image in message.document.elements("img"):
        alt = image.get("alt")
        said = "nothing is given: its address" if alt is None else alt.strip() or "nothing: it is decoration"
        line = message.html.source.position(image.start_tag.start).line if image.start_tag else ""
        rows.append((line, (image.get("src") or "no address")[:120], said, image.index == chosen))
    return rows[:_MOST_ROWS]


STATION = StationPage(SLUG, "previews/access.html", page)
