"""The Images station: what each picture weighs, as bars to one scale, and what it would weigh; where it is shown and how large."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.http import HttpRequest
from django.template.defaultfilters import truncatechars
from django.urls import path

from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import picture_views
from jetwind.apps.review.balance import Balance, balance_of
from jetwind.apps.review.frame import Frame, chosen_place
from jetwind.apps.review.lighter_files import candidate_of, chosen_of, forms_of, least_likeness, work_of
from jetwind.apps.review.models import LighterFile
from jetwind.apps.review.picture_words import in_form, name_of_reader, rows_of
from jetwind.apps.review.selectors import ShownFinding, Walk
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.workspace.access import PersonRequest
from jetwind.apps.workspace.selectors import options_of
from jetwind.core.checking import DoesNotApply
from jetwind.core.checks.images.lighter import shown_width
from jetwind.core.checks.images.shown import sizes
from jetwind.core.checks.images.weight import TotalOptions
from jetwind.core.checks.needs import pictures_in
from jetwind.core.images import ImageFacts, measure
from jetwind.core.images.collecting import Picture
from jetwind.core.images.facts import PictureFacts
from jetwind.core.images.lighter import way_in_words
from jetwind.core.images.placing import can_take
from jetwind.core.images.words import may_hold_words
from jetwind.core.message import Message

#: Pictures that are shown; the heaviest come first.
_MOST_ROWS = 200
#: Width of the longest bar and height of a row, in px of the drawing.
_BAR, _ROW = 330, 22
#: Octets that a line of a phone brings in a second: 3G as browsers' own tools simulate it, and a fixed line (from memory).
LINES = (("slow phone line", 50_000), ("home line", 2_500_000))


@dataclass(frozen=True, slots=True)
class InWords:
    """The words in a picture in letters: the words, the person who entered them, empty for a program; what to enter others by."""

    key: str
    text: str
    by: str
    is_read: bool


@dataclass(frozen=True, slots=True)
class Entry:
    """A picture as a row: its bar now and after, in px of the drawing, and its facts in words."""

    picture: Picture
    number: int
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
    may_choose: bool

    @property
    def name(self) -> str:
        """The words, as far as the row has room."""
        return truncatechars(self.picture.name, 60)

    @property
    def elements(self) -> list[int]:
        """The elements that show it."""
        return [use.element.index for use in self.picture.uses if use.element is not None]


@dataclass(frozen=True, slots=True)
class Less:
    """The octets that a picture would save, and the file that saves them, in words."""

    octets: int = 0
    how: str = ""


@dataclass(frozen=True, slots=True)
class Cell:
    """One file to choose: its weight and likeness in words, and whether it is alike enough."""

    file: LighterFile
    how: str
    weight: str
    likeness: str
    is_alike: bool
    is_proposed: bool
    is_chosen: bool


@dataclass(frozen=True, slots=True)
class Choice:
    """The files of one picture: rows by width, columns by format and quality; the one that is looked at under the wiper."""

    picture: Picture
    octets: str
    shown_width: int
    work: Work | None
    columns: list[str]
    rows: list[tuple[int, str, list[Cell | None]]]
    looked_at: Cell | None
    keeps: bool
    least: float
    newer: str


@dataclass(frozen=True, slots=True)
class Page:
    """The pictures, heaviest savings first, and the height of their drawing in px."""

    entries: list[Entry]
    height: int
    #: What all weigh now and with what is chosen or proposed, the limit, and how long a reader waits: line, seconds now, seconds then.
    total: str
    after: str
    limit: str
    lines: list[tuple[str, str, str]]
    whole: str
    whole_after: str
    #: The files of the picture that is looked at.
    choice: Choice | None
    balance: Balance | None
    wiper: dict[str, Any] | None
    can_place: bool
    #: The program that reads words in pictures; empty where none is installed.
    reader: str
    #: How many pictures nobody weighed.
    unknown: int


def page(request: PersonRequest, around: Frame) -> Page | None:
    """The pictures by their weight, and the files that may stand for one of them."""
    walk, message = around.walk, message_of(around.revision)
    try:
        pictures = pictures_in(message, walk.context)
    except DoesNotApply:
        return None
    weighed = [(picture, _octets(picture)) for picture in pictures]
    known = [octets for _, octets in weighed if octets is not None]
    savings = {str(found.record.data.get("key")): found for found in walk.findings if found.record.check_id == "images.saving"}
    files = chosen_of(walk.revision)
    less = {picture.key: _less(picture, octets, savings, files) for picture, octets in weighed}
    # What saves most comes first, then what weighs most; what nobody weighed comes last.
    weighed.sort(key=lambda pair: (-less[pair[0].key].octets, -(pair[1] if pair[1] is not None else -1)))
    scale = max(known, default=1)
    finding = next((found for found in walk.findings if found.record.fingerprint == request.GET.get("finding")), None)
    chosen = finding.record.at_place(chosen_place(request, finding)).element if finding is not None else None
    words = _in_words(walk, [picture for picture, _ in weighed[:_MOST_ROWS] if may_hold_words(picture)])
    entries = [
        _entry(
            message,
            walk,
            picture=picture,
            octets=octets,
            scale=scale,
            number=number,
            less=less[picture.key],
            chosen=chosen,
            words=words.get(picture.key),
        )
        for number, (picture, octets) in enumerate(weighed[:_MOST_ROWS])
    ]
    most = options_of(walk.revision.mailing.workspace, "images.total-heavy")
    assert isinstance(most, TotalOptions)
    total, saved = sum(known), sum(one.octets for one in less.values())
    # What a reader waits for: the copy and its pictures.
    whole = total + (message.html.octets if message.html is not None else 0)
    choice = _choice(request, walk, message, pictures, files)
    return Page(
        entries=entries,
        height=_ROW * len(entries) + 24,
        total=kilobytes(total),
        after=kilobytes(total - saved) if saved else "",
        limit=kilobytes(most.most_octets),
        lines=[(name, _seconds(whole, rate), _seconds(whole - saved, rate) if saved else "") for name, rate in LINES],
        whole=kilobytes(whole),
        whole_after=kilobytes(whole - saved) if saved else "",
        choice=choice,
        balance=balance_of(walk, {index: entry.number for entry in entries for index in entry.elements}),
        wiper=_wiper(savings, request.GET.get("finding", "")) if choice is None else None,
        can_place=any(less[picture.key].octets > 0 and can_take(message, picture) for picture in pictures),
        reader=name_of_reader(walk.revision),
        unknown=sum(octets is None and not picture.is_tracking and not picture.is_lost for picture, octets in weighed),
    )


def _less(picture: Picture, octets: int | None, savings: Mapping[str, ShownFinding], files: Mapping[str, LighterFile | None]) -> Less:
    """By the file that was chosen; where nobody chose, by the one that the check told of."""
    if picture.digest in files:
        file = files[picture.digest]
        return Less((octets or file.octets) - file.octets, candidate_of(file).words) if file is not None else Less(0, "stays as it is")
    found = savings.get(picture.key)
    return Less(_saved(found), str(found.record.data.get("how", ""))) if found is not None else Less()


def _choice(
    request: HttpRequest, walk: Walk, message: Message, pictures: Sequence[Picture], files: Mapping[str, LighterFile | None]
) -> Choice | None:
    """The files of the picture that the address names."""
    wanted = request.GET.get("picture", "")
    picture = next((one for one in pictures if one.digest == wanted and _may_choose(one)), None) if wanted else None
    if picture is None:
        return None
    shown = round(shown_width(message, walk.context, picture))
    workspace = walk.revision.mailing.workspace
    made = list(LighterFile.objects.filter(workspace=workspace, picture=wanted, shown_width=shown))
    least = _least(request, least_likeness(walk.revision))
    proposed = min((file for file in made if file.likeness >= least), key=lambda file: file.octets, default=None)
    chosen = files.get(wanted)
    cells = {
        (file.width, _column(file)): Cell(
            file,
            candidate_of(file).words,
            weight=kilobytes(file.octets),
            likeness=f"{file.likeness:.3f}",
            is_alike=file.likeness >= least,
            is_proposed=file == proposed,
            is_chosen=chosen is not None and file == chosen,
        )
        for file in made
    }
    columns = list(dict.fromkeys(_column(file) for file in sorted(made, key=lambda file: (file.form, -file.quality))))
    rows = [
        (width, _times(width, shown), [cells.get((width, column)) for column in columns])
        for width in sorted({file.width for file in made}, reverse=True)
    ]
    looked_at = next((cell for cell in cells.values() if cell.is_chosen), None) or next(
        (cell for cell in cells.values() if cell.is_proposed), None
    )
    newer = " and ".join(sorted(form for form in forms_of(walk.revision) if form in ("WEBP", "AVIF")))
    keeps = wanted in files and files[wanted] is None
    octets = _octets(picture)
    return Choice(
        picture,
        kilobytes(octets) if octets is not None else "",
        shown_width=shown,
        work=work_of(walk.revision, wanted),
        columns=columns,
        rows=rows,
        looked_at=looked_at,
        keeps=keeps,
        least=least,
        newer=newer,
    )


def _column(file: LighterFile) -> str:
    return way_in_words(file.form, file.quality)


def _times(width: int, shown: int) -> str:
    """How many px of a file come to a CSS px of the widest place."""
    return f"{width / shown:.1f} ×" if shown else ""


def _least(request: HttpRequest, usual: float) -> float:
    """How alike a file must look: as asked for, 0.8 to 1; else as the house says."""
    try:
        asked = float(request.GET.get("least", ""))
    except ValueError:
        return usual
    return min(1.0, max(0.8, asked)) if asked == asked else usual


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


def kilobytes(octets: int) -> str:
    """Octets as KB of 1,024 octets, to one decimal place."""
    return f"{octets / 1024:,.1f} KB"


def _head(picture: Picture) -> ImageFacts | PictureFacts | None:
    """The facts in the file's head."""
    return measure(picture.data) if picture.data is not None else picture.known


def _may_choose(picture: Picture) -> bool:
    """Whether lighter files can be made of a picture: it is made of pixels, and its file is at hand."""
    facts = _head(picture)
    return facts is not None and facts.width > 0 and facts.format != "SVG"


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
    less: Less,
    chosen: int | None,
    words: InWords | None,
) -> Entry:
    assert message.html is not None
    facts = _head(picture)
    shown = [size for use in picture.uses for size in sizes(message, walk.context, use)]
    widths = sorted({round(size.width) for size in shown})
    lines = sorted({message.html.source.position(use.span.start).line for use in picture.uses})
    said = next((use.element.get("alt") for use in picture.images if use.element is not None), None)
    saved = less.octets
    return Entry(
        picture=picture,
        number=number + 1,
        y=_ROW * number,
        bar=round(_BAR * (octets or 0) / scale, 1),
        after=round(_BAR * (octets - saved) / scale, 1) if saved and octets else None,
        weight=kilobytes(octets) if octets is not None else _why_unknown(picture),
        saved=kilobytes(saved) if saved else "",
        pixels=f"{facts.width:,} × {facts.height:,} {facts.format}" if facts is not None and facts.width else "unknown",
        shown=f"{widths[0]}–{widths[-1]} px" if len(widths) > 1 else f"{widths[0]} px" if widths else "a size that nobody says",
        lines=", ".join(str(line) for line in lines[:4]) + (" …" if len(lines) > 4 else ""),
        alternative="no alt attribute"
        if said is None and picture.images
        else said or ("empty: decoration" if picture.images else "background"),
        how=less.how,
        is_chosen=chosen is not None and any(use.element is not None and use.element.index == chosen for use in picture.uses),
        words=words,
        may_choose=_may_choose(picture),
    )


def _in_words(walk: Walk, pictures: list[Picture]) -> dict[str, InWords]:
    """By picture, what is known to stand in it."""
    keys = {picture.key: picture.digest for picture in pictures}
    rows = rows_of(walk.revision.mailing.workspace, keys.values())
    found = {}
    for key, digest in keys.items():
        row = rows.get(digest)
        known = row.value if row is not None else None
        by = row.by.shown_name if row is not None and row.by is not None else ""
        found[key] = InWords(digest, in_form(known), by, known is not None)
    return found


STATION = StationPage(
    "images",
    "review/images.html",
    page,
    routes=(
        path("lighter-pictures.zip", picture_views.lighter_pictures, name="lighter-pictures"),
        path("lighter-pictures/<str:fingerprint>/<str:side>.png", picture_views.look_at_picture, name="look-at-picture"),
        path("lighter-files/<str:picture>/", picture_views.make_lighter_files, name="make-lighter-files"),
        path("lighter-files/<str:picture>/choose/", picture_views.choose_file, name="choose-file"),
        path("lighter-files/<str:picture>/progress/", picture_views.lighter_files_progress, name="lighter-files-progress"),
        path("lighter-files/<int:file_id>/<str:side>.png", picture_views.look_at_file, name="look-at-file"),
        path("lighter-pictures/", picture_views.put_lighter_in, name="put-lighter-in"),
        path("picture-words/<str:picture>/", picture_views.enter_words, name="enter-words"),
    ),
)
