"""The Images station: what each picture weighs, as bars to one scale, and what it would weigh; where it is shown and how large."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.http import HttpRequest
from django.template.defaultfilters import truncatechars

from jetwind.apps.accounts.models import User
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.services import add_revision
from jetwind.apps.review.evidence import kilobytes
from jetwind.apps.review.picture_words import in_form, name_of_reader, rows_of
from jetwind.apps.review.questions import message_to_check
from jetwind.apps.review.selectors import ShownFinding, Walk, walk_of
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.selectors import options_of
from jetwind.core.checking import DoesNotApply
from jetwind.core.checks.images.lighter import SavingOptions, shown_width
from jetwind.core.checks.images.shown import sizes
from jetwind.core.checks.images.weight import TotalOptions
from jetwind.core.checks.needs import pictures_in
from jetwind.core.images import measure
from jetwind.core.images.collecting import Picture
from jetwind.core.images.handing_out import Handed, package_of
from jetwind.core.images.lighter import Candidate
from jetwind.core.images.placing import can_take, with_lighter
from jetwind.core.images.words import may_hold_words, words_key
from jetwind.core.message import Message
from jetwind.engines.bounded import PastBudget, before_and_after_bounded, lighter_bounded

#: Pictures that are shown; the heaviest come first.
_MOST_ROWS = 200
#: Width of the longest bar and height of a row, in px of the drawing.
_BAR, _ROW = 330, 22
#: Octets that a line of a phone brings in a second: 3G as browsers' own tools simulate it, and a fixed line (from memory).
LINES = (("slow phone line", 50_000), ("home line", 2_500_000))


@dataclass(frozen=True, slots=True)
class InWords:
    """What stands in a picture in letters: the words, who says so, and what to enter others by."""

    key: str
    text: str
    by: str
    is_read: bool


@dataclass(frozen=True, slots=True)
class Entry:
    """A picture as a row: its bar now and after, in px of the drawing, and its facts in words."""

    picture: Picture
    y: int
    bar: float
    after: float | None
    weight: str
    saved: str
    pixels: str
    shown: str
    lines: str
    alternative: str
    how: str
    is_chosen: bool
    words: InWords | None

    @property
    def name(self) -> str:
        """As it fits."""
        return truncatechars(self.picture.name, 60)


def page(request: HttpRequest, walk: Walk, message: Message) -> dict[str, Any]:
    """What the station's template needs."""
    try:
        pictures = pictures_in(message, walk.context)
    except DoesNotApply:
        return {"entries": []}
    weighed = [(picture, _octets(picture)) for picture in pictures]
    known = [octets for _, octets in weighed if octets is not None]
    savings = {str(found.record.data.get("key")): found for found in walk.findings if found.record.check_id == "images.saving"}
    # What saves most comes first, then what weighs most; what nobody weighed comes last.
    weighed.sort(key=lambda pair: (-_saved(savings.get(pair[0].key)), -(pair[1] if pair[1] is not None else -1)))
    scale = max(known, default=1)
    chosen = next((found.record.element for found in walk.findings if found.record.fingerprint == request.GET.get("finding")), None)
    words = _in_words(walk, [picture for picture, _ in weighed[:_MOST_ROWS] if may_hold_words(picture)])
    entries = [
        _entry(message, walk, picture, octets, scale, number, savings.get(picture.key), chosen, words.get(picture.key))
        for number, (picture, octets) in enumerate(weighed[:_MOST_ROWS])
    ]
    most = options_of(walk.revision.mailing.workspace, "images.total-heavy")
    assert isinstance(most, TotalOptions)
    total, saved = sum(known), sum(_saved(found) for found in savings.values())
    return {
        "entries": entries,
        "height": _ROW * len(entries) + 24,
        "total": kilobytes(total),
        "after": kilobytes(total - saved) if saved else "",
        "limit": kilobytes(most.most_octets),
        "lines": [(name, _seconds(total, rate), _seconds(total - saved, rate) if saved else "") for name, rate in LINES],
        "wiper": _wiper(savings, request.GET.get("finding", "")),
        "can_place": any(picture.key in savings and can_take(message, picture) for picture in pictures),
        "reader": name_of_reader(),
        "unknown": sum(octets is None and not picture.is_tracking and not picture.is_lost for picture, octets in weighed),
    }


def lighter_files(revision: Revision) -> bytes:
    """A zip of the lighter files that ``images.saving`` told of.

    Raises:
        Refused: it told of none, or making them takes more than it may.
    """
    _, made = _lighter(revision)
    return package_of([Handed(one.name, one.key if one.where == "elsewhere" else "", len(one.data or b""), file) for one, file in made])


def put_lighter_in(user: User, revision: Revision) -> tuple[Revision, list[str]]:
    """The next revision, with the lighter files in the place of the pictures that travel along; and the names of these.

    Raises:
        Refused: as for :func:`lighter_files`; the revision is not the newest, or its pictures lie elsewhere.
        NotAllowed: the person may not change the message.
    """
    newest = revision.mailing.revisions.last()
    if newest is None or newest.pk != revision.pk:
        raise Refused(f"Revision {revision.number} is not the newest; put the pictures into the newest one.")
    message, made = _lighter(revision)
    chosen = {picture.key: file for picture, file in made if can_take(message, picture)}
    data, placed = with_lighter(message, chosen)
    if not placed:
        raise Refused("The pictures that could be lighter lie elsewhere; save the lighter files and put them on their server.")
    name = revision.file_name if message.form == "eml" else f"{revision.file_name.rpartition('.')[0] or 'message'}.zip"
    return add_revision(user, revision.mailing, data, name), placed


def _lighter(revision: Revision) -> tuple[Message, list[tuple[Picture, Candidate]]]:
    walk = walk_of(revision)
    told = {str(found.record.data.get("key")) for found in walk.findings if found.record.check_id == "images.saving"}
    if not told:
        raise Refused("No picture of this revision is known to be lighter with the same look.")
    message = message_to_check(revision)
    wanted = [picture for picture in pictures_in(message, walk.context) if picture.key in told and picture.data is not None]
    least = options_of(revision.mailing.workspace, "images.saving")
    assert isinstance(least, SavingOptions)
    given = [(picture.data or b"", shown_width(message, walk.context, picture)) for picture in wanted]
    try:
        made = lighter_bounded(given, least.least_likeness, start=settings.HELPERS_START)
    except PastBudget as past:
        raise Refused(f"The lighter pictures cannot be made: {past}.") from past
    return message, [(picture, candidate) for picture, candidate in zip(wanted, made, strict=True) if candidate is not None]


def looked_at(revision: Revision, fingerprint: str, side: str) -> bytes | None:
    """A picture that could be lighter, ``before`` or ``after``, as a PNG of our own making; None where no finding told of it.

    Raises:
        Refused: making it takes more than it may.
    """
    walk = walk_of(revision)
    found = next((one for one in walk.findings if one.record.check_id == "images.saving" and one.record.fingerprint == fingerprint), None)
    message = message_to_check(revision)
    pictures = pictures_in(message, walk.context) if found is not None else []
    picture = next((one for one in pictures if found is not None and one.key == found.record.data.get("key")), None)
    if picture is None or picture.data is None:
        return None
    least = options_of(revision.mailing.workspace, "images.saving")
    assert isinstance(least, SavingOptions)
    shown = shown_width(message, walk.context, picture)
    try:
        both = before_and_after_bounded(picture.data, shown, least.least_likeness, start=settings.HELPERS_START)
    except PastBudget as past:
        raise Refused(f"The picture cannot be shown: {past}.") from past
    return both[side == "after"] if both is not None else None


def _wiper(savings: dict[str, ShownFinding], fingerprint: str) -> dict[str, Any] | None:
    """The picture that is looked at before and after: that of the chosen finding, else the one that saves most."""
    found = next((one for one in savings.values() if one.record.fingerprint == fingerprint), None) or max(
        savings.values(), key=_saved, default=None
    )
    if found is None:
        return None
    data = found.record.data
    return {"finding": found.record, "width": min(round(float(data.get("shown", 0))) or _WIPER, _WIPER), "data": data}


#: The widest that a picture is shown under the wiper, in px of the screen.
_WIPER = 700


def _octets(picture: Picture) -> int | None:
    if picture.data is not None:
        return len(picture.data)
    return picture.known.octets if picture.known is not None else None


def _saved(found: ShownFinding | None) -> int:
    return int(found.record.data.get("saved", 0)) if found is not None else 0


def _why_unknown(picture: Picture) -> str:
    return "does not come" if picture.is_lost else "counts openings" if picture.is_tracking else "not fetched"


def _seconds(octets: int, rate: int) -> str:
    seconds = octets / rate
    return "under 0.1 s" if seconds < 0.05 else f"{seconds:.1f} s" if seconds < 10 else f"{seconds:.0f} s"


def _entry(
    message: Message,
    walk: Walk,
    picture: Picture,
    octets: int | None,
    scale: int,
    number: int,
    found: ShownFinding | None,
    chosen: int | None,
    words: InWords | None,
) -> Entry:
    assert message.html is not None
    facts = measure(picture.data) if picture.data is not None else picture.known
    shown = [size for use in picture.uses for size in sizes(message, walk.context, use)]
    widths = sorted({round(size.width) for size in shown})
    lines = sorted({message.html.source.position(use.span.start).line for use in picture.uses})
    said = next((use.element.get("alt") for use in picture.images if use.element is not None), None)
    saved = _saved(found)
    return Entry(
        picture=picture,
        y=_ROW * number,
        bar=round(_BAR * (octets or 0) / scale, 1),
        after=round(_BAR * (octets - saved) / scale, 1) if saved and octets else None,
        weight=kilobytes(octets) if octets is not None else _why_unknown(picture),
        saved=kilobytes(saved) if saved else "",
        pixels=f"{facts.width:,} × {facts.height:,} {facts.format}" if facts is not None and facts.width else "unknown",
        shown=f"{widths[0]}–{widths[-1]} px" if len(widths) > 1 else f"{widths[0]} px" if widths else "not said",
        lines=", ".join(str(line) for line in lines[:4]) + (" …" if len(lines) > 4 else ""),
        alternative="no alt attribute"
        if said is None and picture.images
        else said or ("empty: decoration" if picture.images else "background"),
        how=str(found.record.data.get("how", "")) if found is not None else "",
        is_chosen=chosen is not None and any(use.element is not None and use.element.index == chosen for use in picture.uses),
        words=words,
    )


def _in_words(walk: Walk, pictures: list[Picture]) -> dict[str, InWords]:
    """By picture, what is known to stand in it."""
    keys = {picture.key: words_key(picture) for picture in pictures}
    rows = rows_of(walk.revision.mailing.workspace, keys.values())
    found = {}
    for key, digest in keys.items():
        row = rows.get(digest)
        known = row.value if row is not None else None
        by = row.by.shown_name if row is not None and row.by is not None else known.reader if known is not None else ""
        found[key] = InWords(digest, in_form(known), by, known is not None)
    return found
