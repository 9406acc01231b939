"""The Links station: the map, the table of every address, one link with its hops and its page."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from urllib.parse import urlencode

from django.http import HttpRequest
from django.utils.dateparse import parse_datetime

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.links.answering import digest_of, listing
from jetwind.apps.links.drawing import Drawing, draw, shortened
from jetwind.apps.links.house import keeping_of, known_wire
from jetwind.apps.links.known import OPENED, SEEN
from jetwind.apps.links.models import Kind, LinkAnswer, ShortAnswer, When, Wire
from jetwind.apps.links.services import LINKS, PICTURES
from jetwind.apps.links.standing import Standing, standing_of
from jetwind.apps.previews.as_whom import as_whom
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.modes import OWN
from jetwind.apps.review.frame import Frame, Gauge
from jetwind.apps.review.selectors import Walk
from jetwind.apps.review.station_page import Progress, StationPage
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.many import many
from jetwind.apps.workspace.access import PersonRequest
from jetwind.apps.workspace.selectors import options_of
from jetwind.core.checks.links.parameters import RequiredOptions
from jetwind.core.errors import PastBudget
from jetwind.core.links.answers import Answer
from jetwind.core.links.listing import Destination, Listing, Row
from jetwind.core.links.parameters import with_parameters
from jetwind.core.source import Excerpt, Span

SLUG = "links"
_HISTORY = 8
#: The outline is drawn from one of these, the first that is there.
_OUTLINES = ("desktop-pane", "webmail-wide", "webmail-prefix", "tablet-upright", "phone-upright")


@dataclass(frozen=True, slots=True)
class Entry:
    """A row of the table: one place of an address, or the first of several that lead to one page."""

    row: Row
    destination: Destination | None
    standing: Standing | None
    answer: Answer | None
    places: int
    address: str
    is_chosen: bool
    with_parameters: str

    @property
    def name(self) -> str:
        """The name of the place, as far as the column has room."""
        return shortened(self.row.name or "no name", 70)

    @property
    def leads_to(self) -> str:
        """The address, as far as the column has room."""
        return shortened((self.destination.address if self.destination is not None else self.row.written) or "nothing", 120)

    @property
    def heading(self) -> str:
        """The heading of the page; empty where there is none."""
        return shortened(self.answer.page.heading, 60) if self.answer is not None and self.answer.page is not None else ""


@dataclass(frozen=True, slots=True)
class Bar:
    """A hop on the timeline, in per cent of the whole."""

    number: int
    status: int
    method: str
    address: str
    took_ms: int
    left: float
    width: float
    to: str


@dataclass(frozen=True, slots=True)
class SeenLink:
    """Who opened a link by hand, and when."""

    who: str
    at: datetime | None

    @classmethod
    def of(cls, row: Mapping[str, str]) -> SeenLink:
        """From what a revision's page knows of it."""
        return cls(f"{row['first']} {row['last']}".strip() or row["name"], parse_datetime(row["at"]))


@dataclass(frozen=True)
class Chosen:
    """Everything about one link."""

    number: int
    destination: Destination
    rows: list[Row]
    standing: Standing
    answer: Answer | None
    bars: list[Bar]
    history: list[LinkAnswer]
    changed: str
    excerpt: Excerpt | None
    seen: SeenLink | None
    why_shut: str
    landing: ShortAnswer | None
    with_parameters: str

    @cached_property
    def words(self) -> str:
        """The words around it that promise something."""
        return next((row.words for row in self.rows if row.words), "")


class Station:
    """The values that the page of a revision's links shows."""

    def __init__(self, revision: Revision) -> None:
        self.revision = revision
        self.listing: Listing = listing(revision)
        self.wire = known_wire(revision)
        self.keeping = keeping_of(revision)
        opened = OPENED.of(revision)
        rows = LinkAnswer.objects.filter(pk__in=[*opened["links"], *opened["pictures"]]).short() if opened is not None else []
        self.rows = {(row.kind, row.address): row for row in rows}
        self.values = {address: row.value for (kind, address), row in self.rows.items() if kind == Kind.LINK}

    @cached_property
    def parameters(self) -> dict[str, str]:
        """The campaign parameters that the house and the brief ask for."""
        required = options_of(self.revision.mailing.workspace, "links.parameters-missing")
        assert isinstance(required, RequiredOptions)
        house = {name: value for name, _, value in (one.partition("=") for one in required.required.split())}
        return house | {str(name): str(value) for name, value in self.revision.mailing.brief.get("parameters", {}).items()}

    def standings(self, doubts: dict[int, frozenset[str]]) -> list[Standing]:
        """How each destination stands."""
        return [
            standing_of(self.values.get(one.address), self.keeping.why_shut(one), doubts.get(number, frozenset()))
            for number, one in enumerate(self.listing.destinations)
        ]


def gauge(walk: Walk) -> Gauge:
    """How many of the addresses that were opened are there; before that, how many links the message has."""
    opened = OPENED.of(walk.revision)
    if opened is not None and opened["links"]:
        asked = len(opened["links"])
        return Gauge("links", f"{opened['there']}/{asked}", opened["there"] / asked)
    return Gauge("links", str(walk.run.summary.get("links", "")) if walk.run else "not yet")


@dataclass(frozen=True, slots=True)
class Page:
    """Where the links cannot be listed, ``past`` says why, and nothing else is there."""

    past: str = ""
    has_links: bool = False
    #: What the workspace opens, and whether that is links, and pictures that the message shows.
    wire: Wire | None = None
    opens: bool = False
    fetches: bool = False
    drawing: Drawing | None = None
    entries: Sequence[Entry] = ()
    table_rows: str = ""
    #: Rows that the page does not show, and how all destinations stand, in words.
    more_entries: int = 0
    counts: str = ""
    #: The destination that is looked at.
    one: Chosen | None = None
    #: Campaign parameters that are asked for; those of the brief as they are typed.
    parameters: Mapping[str, str] = field(default_factory=dict)
    parameters_text: str = ""
    #: Pictures that lie elsewhere: address, answer, whether it only counts readers.
    pictures: Sequence[tuple[str, ShortAnswer | None, bool]] = ()


def page(request: PersonRequest, around: Frame) -> Page:
    """Make the page: the map, the table, and one link."""
    revision = around.revision
    try:
        station = Station(revision)
    except PastBudget as past:
        return Page(past=f"The links cannot be listed: {past}.")
    found = station.listing
    doubts = _doubts(around, found)
    standings = station.standings(doubts)
    chosen = _chosen(request, around, found)
    addresses = [_address(around, number) for number in range(len(found.destinations))]
    hops = [len(answer.redirects) if (answer := station.values.get(one.address)) is not None else 0 for one in found.destinations]
    entries = _entries(station, standings, addresses, chosen)
    counts: dict[str, int] = defaultdict(int)
    for standing in standings:
        counts["stop" if standing.is_stop else standing.state] += 1
    return Page(
        past="",
        has_links=bool(found.rows),
        wire=station.wire,
        opens=station.wire.links != When.NEVER,
        fetches=station.wire.pictures != When.NEVER and any(not one.is_tracking for one in found.pictures),
        drawing=draw(found, standings, hops=hops, addresses=addresses, chosen=chosen, render=_render(revision))
        if found.destinations
        else None,
        entries=entries[:_MOST_ROWS],
        table_rows=many("links/rows.html", entries=entries[:_MOST_ROWS]),
        more_entries=max(0, len(entries) - _MOST_ROWS),
        counts=_in_words(counts, len(standings)),
        one=_one(station, standings, chosen) if chosen is not None else None,
        parameters=station.parameters,
        parameters_text=" ".join(
            f"{name}={value}" if value else name for name, value in revision.mailing.brief.get("parameters", {}).items()
        ),
        pictures=[(one.address, station.rows.get((Kind.PICTURE, one.address)), one.is_tracking) for one in found.pictures],
    )


def _in_words(counts: dict[str, int], total: int) -> str:
    there = counts["fine"] + counts["led"] + counts["doubtful"]
    parts = [f"{total} {'address' if total == 1 else 'addresses'}", f"{there} there"]
    parts += [
        f"{counts[name]} {said}"
        for name, said in (("stop", "that readers do not reach"), ("shut", "not opened"), ("waiting", "not asked yet"))
        if counts[name]
    ]
    return ", ".join(parts)


def _address(around: Frame, number: int) -> str:
    return f"{around.here}?{urlencode({'link': number + 1})}#link"


def _doubts(around: Frame, found: Listing) -> dict[int, frozenset[str]]:
    """For each destination, the checks of links that found something at it."""
    by_address: dict[str, set[str]] = defaultdict(set)
    for one in around.walk.findings:
        for address in one.record.values("address") if one.record.check_id.startswith("links.") else ():
            by_address[str(address)].add(one.record.check_id)
    return {number: frozenset(by_address.get(one.address, ())) for number, one in enumerate(found.destinations)}


def _chosen(request: HttpRequest, around: Frame, found: Listing) -> int | None:
    """The destination that is looked at: the one asked for, or that of the selected finding."""
    number = whole_number(request.GET, "link", 0)
    if 1 <= number <= len(found.destinations):
        return number - 1
    record = around.chosen.record if around.chosen is not None else None
    if record is None or record.station != SLUG:
        return None
    address = str(record.data.get("address", ""))
    for index, one in enumerate(found.destinations):
        if one.address == address or any(found.rows[row].start == record.start and found.rows[row].part == record.part for row in one.rows):
            return index
    return None


def _render(revision: Revision) -> Render | None:
    """The render that the outline is drawn from."""
    rows = Render.objects.filter(revision=revision, mode=OWN, state=Render.State.DONE, **as_whom(revision).here).defer("changes")
    known = {row.profile: row for row in rows}
    return next((known[name] for name in _OUTLINES if name in known), next(iter(known.values()), None))


def _entries(station: Station, standings: list[Standing], addresses: list[str], chosen: int | None) -> list[Entry]:
    """Every place that leads somewhere of its own: one row for each page, and one for each address that is none of the web."""
    found = station.listing
    entries = []
    for number, one in enumerate(found.destinations):
        row = found.rows[one.rows[0]]
        answer = station.values.get(one.address)
        entries.append(
            Entry(
                row,
                one,
                standing=standings[number],
                answer=answer,
                places=len(one.rows),
                address=addresses[number],
                is_chosen=number == chosen,
                with_parameters=_parametered(station, one),
            )
        )
    others: dict[str, list[Row]] = defaultdict(list)
    for row in found.rows:
        if not row.addresses:
            others[row.written].append(row)
    entries += [
        Entry(rows[0], None, standing=None, answer=None, places=len(rows), address="", is_chosen=False, with_parameters="")
        for rows in others.values()
    ]
    return sorted(entries, key=lambda entry: entry.row.number)


#: Rows of the table on the page; the files hold all.
_MOST_ROWS = 500


def _parametered(station: Station, one: Destination) -> str:
    """The address with the campaign parameters that are asked for, where that changes it."""
    if not station.parameters or one.is_closed or one.role in ("social", "legal", "view-online", "contact"):
        return ""
    made = with_parameters(one.address, station.parameters)
    return made if made != one.address else ""


def _one(station: Station, standings: list[Standing], number: int) -> Chosen:
    one = station.listing.destinations[number]
    answer = station.values.get(one.address)
    row = station.rows.get((Kind.LINK, one.address))
    rows = [station.listing.rows[index] for index in one.rows]
    workspace = station.revision.mailing.workspace
    history = list(LinkAnswer.objects.filter(workspace=workspace, kind=Kind.LINK, address_sha256=digest_of(one.address))[:_HISTORY])
    seen = next((SeenLink.of(known) for known in SEEN.of(station.revision) if known["address"] == one.address), None)
    return Chosen(
        number + 1,
        one,
        rows=rows,
        standing=standings[number],
        answer=answer,
        bars=_bars(answer) if answer is not None else [],
        history=history,
        changed=_changed(history),
        excerpt=_excerpt(station.revision, rows[0]),
        seen=seen,
        why_shut=station.keeping.why_shut(one),
        landing=row if row is not None and "phone" in row.landing else None,
        with_parameters=_parametered(station, one),
    )


def _bars(answer: Answer) -> list[Bar]:
    whole = max(answer.took_ms, max((hop.started_ms + hop.took_ms for hop in answer.hops), default=1), 1)
    return [
        Bar(
            number,
            hop.status,
            method=hop.method,
            address=hop.address,
            took_ms=hop.took_ms,
            left=100 * hop.started_ms / whole,
            width=max(0.6, 100 * hop.took_ms / whole),
            to=hop.to,
        )
        for number, hop in enumerate(answer.hops, 1)
    ]


def _changed(history: list[LinkAnswer]) -> str:
    """How it stood before, where that was otherwise: “there on 24 November, 404 now”."""
    told = [(row, standing_of(row.value, "")) for row in history if row.value.problem != "not-opened"]
    if len(told) < 2:
        return ""
    (_, now), *before = told
    other = next((pair for pair in before if pair[1].is_stop != now.is_stop), None)
    if other is None:
        return ""
    return f"{'It was there' if now.is_stop else f'It was not ({other[1].words})'} when it was opened before."


def _excerpt(revision: Revision, row: Row) -> Excerpt | None:
    source = message_of(revision).source_of(row.part)
    if source is None or row.start is None or row.end is None:
        return None
    return source.excerpt(Span(row.start, row.end), lines=1, width=160)


STATION = StationPage(SLUG, "links/station.html", page, progress=Progress((LINKS, PICTURES), "links/_progress.html"))
