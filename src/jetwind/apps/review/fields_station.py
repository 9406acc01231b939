"""The Fields station: readers × fields, the copy of one reader beside its source, conditional parts, the fewest readers that show all."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlencode

from django.conf import settings
from django.http import HttpRequest

from jetwind.apps.intake.selectors import newest_open
from jetwind.apps.review.envelope_station import RowDrawing
from jetwind.apps.review.selectors import Walk, station_address
from jetwind.apps.workspace.models import SampleReader
from jetwind.core.checking.overview import Cell, Change, Column, FieldOverview, Row
from jetwind.core.fields import fill
from jetwind.core.message import Message
from jetwind.core.profiles.inbox import ROWS, draw
from jetwind.engines.bounded import PastBudget, overview_bounded

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


def page(request: HttpRequest, walk: Walk, message: Message) -> dict[str, Any]:
    """What the station's template needs."""
    revision = walk.revision
    chosen, is_few = request.GET.get("reader", ""), request.GET.get("show") == "fewest"
    common: dict[str, Any] = {
        "syntax": message.syntax,
        "syntax_id": revision.mailing.syntax_id,
        "syntaxes": list(revision.mailing.workspace.syntaxes.values_list("pk", "name")),
        "show": "fewest" if is_few else "",
    }
    try:
        found = _overview(walk, message, chosen)
    except PastBudget as past:
        return common | {"past": f"The fields cannot be laid out for these readers: {past}.", "overview": None}
    rows = [row for row in found.rows if not is_few or row.reader in found.fewest]
    shown = found.copy.reader if found.copy is not None else ""

    def here(**changed: str) -> str:
        query = {"reader": chosen, "show": "fewest" if is_few else ""} | changed
        kept = {name: value for name, value in query.items() if value}
        return station_address(revision, _SLUG) + (f"?{urlencode(kept)}" if kept else "")

    return common | {
        "overview": found,
        "rows": [
            GridRow(row, list(zip(found.columns, row.cells, strict=True)), here(reader=row.reader) + "#as-reader", row.reader == shown)
            for row in rows[:_MOST_ROWS]
        ],
        "more_rows": max(0, len(rows) - _MOST_ROWS),
        "readers_number": len(found.rows),
        "all_address": here(show=""),
        "fewest_address": here(show="fewest"),
        "inbox": _inbox(found),
        "other_changes": _of_no_line(found),
        "appearance": f"{station_address(revision, 'appearance')}?{urlencode({'reader': shown})}" if shown else "",
    }


def _overview(walk: Walk, message: Message, chosen: str) -> FieldOverview:
    """Worked out once for a message, its readers and what the renders said of them."""
    context = walk.context
    wide = sorted(
        (str(one.record.data.get("name", "")), str(one.record.data["reader"]))
        for one in walk.findings
        if one.record.check_id == "fields.overflow" and one.record.data.get("reader")
    )
    readers = [(reader.name, sorted(reader.values.items())) for reader in context.readers]
    asked = repr((readers, sorted(context.known_fields or ()), wide, chosen))
    key = hashlib.sha256(asked.encode("utf-8", "surrogatepass")).hexdigest()
    return message.shared(
        f"overview {key}",
        lambda: overview_bounded(message, context.readers, context.known_fields, wide, chosen, start=settings.HELPERS_START),
    )


def _inbox(found: FieldOverview) -> RowDrawing | None:
    """The chosen reader's row in an inbox of the widest kind."""
    copy = found.copy
    if copy is None:
        return None
    row = max(ROWS, key=lambda one: one.width)
    return RowDrawing(row, draw(row, copy.sender, " ".join(copy.subject.split()), copy.preview))


def _of_no_line(found: FieldOverview) -> list[Change]:
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
