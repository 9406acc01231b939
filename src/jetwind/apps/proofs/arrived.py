"""An arrival as its page shows it: what differs, row by row, and the hops of its way on a time line."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import datetime

from jetwind.apps.proofs.models import Arrival
from jetwind.core.arrivals import Compared, Difference, Hop, Verdicts, hops_of, verdicts_of
from jetwind.core.checking import Level, registry
from jetwind.core.message import Message

#: Px of the drawing: its width, the room for names at the left and for times at the right, the height of a row and of its bar.
_WIDE, _NAMES, _TIMES, _ROW, _BAR = 724, 250, 120, 34, 10
#: Seconds from which on a hop is drawn as slow, and by which two clocks may differ without being told.
_SLOW, _MOMENT = 600, 3


@dataclass(frozen=True, slots=True)
class DifferenceRow:
    """One difference: its level, the name of its kind, its sentence, and the two sides as they are written, shortened."""

    level: str
    name: str
    sentence: str
    part: str
    before: str
    after: str


def registry_levels() -> Mapping[str, tuple[Level, str]]:
    """The level and the name of each kind of difference, as its check declares them."""
    prefix = "sending.arrival-"
    return {check_id.removeprefix(prefix): (one.level, one.name) for check_id, one in registry().items() if check_id.startswith(prefix)}


def rows_of(compared: Compared, levels: Mapping[str, tuple[Level, str]]) -> list[DifferenceRow]:
    """The differences, stops first."""
    order = list(Level)
    rows = [(Level.STOP if one.is_stop else levels[one.kind][0], one) for one in compared.differences]
    rows.sort(key=lambda row: order.index(row[0]))
    return [_row(level.value, levels[one.kind][1], one) for level, one in rows]


def _row(level: str, name: str, one: Difference) -> DifferenceRow:
    return DifferenceRow(level, name, one.sentence, one.part, before=one.before[:600], after=one.after[:600])


@dataclass(frozen=True, slots=True)
class HopRow:
    """One hop in the drawing: who took the mail, after how long in words, its bar in px, and whether it is slow or its clock differs."""

    receiver: str
    protocol: str
    words: str
    y: float
    x: float
    width: float
    is_slow: bool = False
    is_skewed: bool = False


@dataclass(frozen=True, slots=True)
class Way:
    """The way that a mail took, as rows of a drawing with its height in px; and what the last receiver says of its papers."""

    hops: list[HopRow]
    height: float
    verdicts: Verdicts | None

    @classmethod
    def of(cls, message: Message, arrival: Arrival) -> Way:
        """The way of an arrival, from its hand-over on where that is known."""
        hops = hops_of(message)
        start = arrival.copy.handed_over_at if arrival.copy is not None else None
        return cls(_drawn(hops, start), len(hops) * _ROW + 8.0, verdicts_of(message))


def _drawn(hops: tuple[Hop, ...], start: datetime | None) -> list[HopRow]:
    times = [hop.at for hop in hops if hop.at is not None] + ([start] if start is not None else [])
    if not times:
        return [_row_of(hop, number, "no time") for number, hop in enumerate(hops)]
    first, whole = min(times), max((max(times) - min(times)).total_seconds(), 1.0)
    room = _WIDE - _NAMES - _TIMES
    rows, before = [], start
    for number, hop in enumerate(hops):
        seconds = (hop.at - before).total_seconds() if hop.at is not None and before is not None else None
        begins = min(before, hop.at) if before is not None and hop.at is not None else hop.at or before or first
        x = _NAMES + (begins - first).total_seconds() / whole * room
        width = max(abs(seconds or 0.0) / whole * room, 2.0)
        # Servers write whole seconds, and the hand-over is noted once its answer came.
        if seconds is not None and -_MOMENT <= seconds < 0:
            seconds = 0.0
        is_skewed = seconds is not None and seconds < 0
        words = _duration(seconds) if seconds is not None else "no time before it" if hop.at is not None else "no time"
        row = _row_of(hop, number, words)
        rows.append(replace(row, x=x, width=width, is_slow=(seconds or 0) > _SLOW, is_skewed=is_skewed))
        before = hop.at or before
    return rows


def _row_of(hop: Hop, number: int, words: str) -> HopRow:
    name = hop.receiver or hop.sender or "a server without a name"
    return HopRow(name, hop.protocol, words, y=number * _ROW + 8.0, x=float(_NAMES), width=0.0)


def _duration(seconds: float) -> str:
    if seconds < 0:
        return f"clock {_duration(-seconds)} behind"
    if seconds < 90:
        return f"{seconds:.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 5_400 else f"{seconds / 3_600:.1f} h"
