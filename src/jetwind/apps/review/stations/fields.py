"""The Fields station: readers × fields, the copy of one reader beside its source, conditional parts, the fewest readers that show all."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from urllib.parse import urlencode

from jetwind.apps.intake.selectors import message_of, newest_open
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.overview import overview_of
from jetwind.apps.review.selectors import station_address
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.review.stations.envelope import RowDrawing
from jetwind.apps.workspace.access import PersonRequest
from jetwind.apps.workspace.models import SampleReader
from jetwind.core.checking.overview import Cell, Column, FieldOverview, MadePlace, Row
from jetwind.core.errors import PastBudget
from jetwind.core.fields import Syntax, fill
from jetwind.core.profiles.inbox import ROWS, draw

_SLUG = "fields"
#: Rows of the grid on one page; the others are counted, and found by the filter of the fewest.
_MOST_ROWS = 100


@dataclass(frozen=True, slots=True)
class GridRow:
    """A reader's row with the address of their copy and of their renders."""

    row: Row
    cells: list[tuple[Column, Cell]]
    address: str
    is_chosen: bool


@dataclass(frozen=True, slots=True)
class Page:
    """The field syntax of the message, those of the workspace by number and name, and whether the fewest readers are shown.

    Where the fields cannot be laid out, ``past`` says why, and nothing else is there.
    """

    syntax: Syntax
    syntax_id: int | None
    syntaxes: list[tuple[int, str]]
    show: str
    past: str = ""
    overview: FieldOverview | None = None
    rows: Sequence[GridRow] = ()
    #: Rows that the page does not show, and how many readers there are.
    more_rows: int = 0
    readers_number: int = 0
    all_address: str = ""
    fewest_address: str = ""
    inbox: RowDrawing | None = None
    #: Places that change and stand in no line of the copy.
    other_changes: Sequence[MadePlace] = ()
    #: Where the chosen reader's copy is seen rendered.
    appearance: str = ""


def page(request: PersonRequest, around: Frame) -> Page:
    """The grid, and one reader's copy beside its source."""
    walk, message = around.walk, message_of(around.revision)
    revision = walk.revision
    chosen, is_few = request.GET.get("reader", ""), request.GET.get("show") == "fewest"
    syntaxes = list(revision.mailing.workspace.syntaxes.values_list("pk", "name"))
    bare = Page(message.syntax, revision.mailing.syntax_id, syntaxes, "fewest" if is_few else "")
    try:
        found = overview_of(walk, message, chosen)
    except PastBudget as past:
        return replace(bare, past=f"The fields cannot be laid out for these readers: {past}.")
    rows = [row for row in found.rows if not is_few or row.reader in found.fewest]
    shown = found.copy.reader if found.copy is not None else ""

    def here(**changed: str) -> str:
        query = {"reader": chosen, "show": "fewest" if is_few else ""} | changed
        kept = {name: value for name, value in query.items() if value}
        return station_address(revision, _SLUG) + (f"?{urlencode(kept)}" if kept else "")

    return replace(
        bare,
        overview=found,
        rows=[
            GridRow(row, list(zip(found.columns, row.cells, strict=True)), here(reader=row.reader) + "#as-reader", row.reader == shown)
            for row in rows[:_MOST_ROWS]
        ],
        more_rows=max(0, len(rows) - _MOST_ROWS),
        readers_number=len(found.rows),
        all_address=here(show=""),
        fewest_address=here(show="fewest"),
        inbox=_inbox(found),
        other_changes=_of_no_line(found),
        appearance=f"{station_address(revision, 'appearance')}?{urlencode({'reader': shown})}" if shown else "",
    )


def _inbox(found: FieldOverview) -> RowDrawing | None:
    """The chosen reader's row in an inbox of the widest kind."""
    copy = found.copy
    if copy is None:
        return None
    row = max(ROWS, key=lambda one: one.width)
    return RowDrawing(row, draw(row, copy.sender, " ".join(copy.subject.split()), copy.preview))


def _of_no_line(found: FieldOverview) -> list[MadePlace]:
    """Changed places that stand in no line of the copy: in subject, addresses, alternative texts, styles."""
    if found.copy is None:
        return []
    in_lines = {number for line in found.copy.lines for _, number in line}
    return [change for change in found.copy.changes if change.number not in in_lines]


#: Messages on the page of one reader.
_MOST_MESSAGES = 50


def messages_of(reader: SampleReader) -> list[tuple[str, str, str]]:
    """The messages that have not been released, each with its subject as a reader gets it and the address of their copy."""
    values = {**{name: str(value) for name, value in reader.values.items()}, "email": reader.email, "time_zone": reader.time_zone}
    query = urlencode({"reader": reader.name})
    return [
        (
            f"{one.mailing.title}, r{one.number}",
            fill(one.subject, values, escape=False, syntax=one.mailing.field_syntax),
            f"{station_address(one, _SLUG)}?{query}#as-reader",
        )
        for one in newest_open(reader.workspace)[:_MOST_MESSAGES]
    ]


STATION = StationPage(_SLUG, "review/fields.html", page)
