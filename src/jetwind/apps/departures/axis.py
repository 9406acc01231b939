"""The time axis of Departures: what leaves when, named without overlap, however many messages there are."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, tzinfo
from functools import cached_property

from django.utils import timezone

from jetwind.apps.departures.selectors import Planned

#: Lines of names below the axis.
LANES = 3
#: The axis is drawn for a window of this width; per cent of it hold in every other.
_WIDTH = 1180
#: A letter of the names, at 12 px, as a share of the axis in per cent; and the air around a name.
_LETTER, _AIR = 100 * 6.2 / _WIDTH, 100 * 14 / _WIDTH
#: Longer titles are cut, in letters.
_LONGEST = 24
#: Windsocks nearer than this, in per cent, would cover each other, or the number beside the one before.
_SOCK, _WITH_NUMBER = 100 * 20 / _WIDTH, 100 * 60 / _WIDTH
_LEFT, _RIGHT = 6, 94


@dataclass
class AxisMark:
    """Messages that leave at, or near, one time: ``left`` in per cent, the line that its name stands in, counted from the axis down."""

    left: float
    lane: int
    rows: list[Planned] = field(default_factory=list)
    #: The end of the address that shows its messages alone; empty where that would show the same.
    opens: str = ""

    @property
    def worst(self) -> Planned:
        """The message that is furthest from leaving: its windsock is drawn for all."""
        return min(self.rows, key=lambda row: (row.is_cleared, row.stripes))

    def days(self, zone: tzinfo) -> tuple[date, date]:
        """The first day and the last on which its messages leave, in a zone."""
        found = [row.planned_at.astimezone(zone).date() for row in self.rows]
        return min(found), max(found)

    @cached_property
    def name(self) -> str:
        """The line below a windsock; asked for once all messages of the mark are known."""
        days = [timezone.localtime(row.planned_at) for row in self.rows]
        first, last = (f"{day.day} {day:%b}" for day in (days[0], days[-1]))
        when = first if first == last else f"{first} – {last}"
        if len(self.rows) > 1:
            return f"{len(self.rows)} messages, {when}"
        title = self.rows[0].title
        return f"{title if len(title) <= _LONGEST else title[: _LONGEST - 1] + '…'}, {when}"

    @property
    def whole_name(self) -> str:
        """Every message by its title, for those who hear the page or point at the mark."""
        titles = [row.title for row in self.rows[:12]]
        more = f" and {len(self.rows) - 12} more" if len(self.rows) > 12 else ""
        return f"{self.name}: {', '.join(titles)}{more}" if len(self.rows) > 1 else f"{self.rows[0].title}, {self.name}"


@dataclass(frozen=True, slots=True)
class Axis:
    """Marks from left to right, the place of now in per cent, and how many lines of names there are."""

    marks: list[AxisMark]
    now: float
    lanes: int


def axis(rows: Sequence[Planned], now: datetime) -> Axis:
    """Planned messages on an axis that runs from the first time shown to the last."""
    times = sorted(((row.planned_at.timestamp(), row) for row in rows), key=lambda pair: pair[0])
    if not times:
        return Axis([], 0.0, 0)
    first = min(now.timestamp(), times[0][0])
    width = max(now.timestamp(), times[-1][0], first + 86_400.0) - first

    def place(moment: float) -> float:
        return _LEFT + (_RIGHT - _LEFT) * (moment - first) / width

    marks: list[AxisMark] = []
    for moment, row in times:
        left = place(moment)
        if marks and left - marks[-1].left < _room(marks[-1]):
            marks[-1].rows.append(row)
        else:
            marks.append(AxisMark(left, 0, [row]))
    placed = _named(marks)
    return Axis(placed, round(place(now.timestamp()), 2), max((mark.lane for mark in placed), default=0) + 1)


def _named(marks: list[AxisMark]) -> list[AxisMark]:
    """Each mark gets a line in which its name covers no other; where none is free, or it is too near, it joins the mark before it."""
    placed: list[AxisMark] = []
    for mark in marks:
        while True:
            lane = _free_lane(placed, mark) if not placed or mark.left - placed[-1].left >= _room(placed[-1]) else None
            if lane is not None:
                mark.lane, mark.left = lane, round(mark.left, 2)
                placed.append(mark)
                break
            # The joined mark's name is longer and is placed anew.
            before = placed.pop()
            mark = AxisMark(before.left, 0, [*before.rows, *mark.rows])
    return placed


def _room(mark: AxisMark) -> float:
    return _SOCK if len(mark.rows) == 1 else _WITH_NUMBER


def _free_lane(placed: list[AxisMark], mark: AxisMark) -> int | None:
    start, end = _extent(mark)
    for lane in range(LANES):
        if all(other.lane != lane or _extent(other)[1] <= start or _extent(other)[0] >= end for other in placed):
            return lane
    return None


def _extent(mark: AxisMark) -> tuple[float, float]:
    """Where a name begins and ends; at the edges of the axis it is moved inwards, as the page does it."""
    half = (len(mark.name) * _LETTER + _AIR) / 2
    middle = min(max(mark.left, half), 100 - half)
    return middle - half, middle + half
