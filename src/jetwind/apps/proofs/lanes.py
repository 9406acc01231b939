"""The way of each copy of a test send as a lane, all on one time axis."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import datetime

from jetwind.apps.proofs.looked import Asked, ReplyShown
from jetwind.apps.proofs.models import ReportKind, TestCopy, TestSend

#: The least seconds that an axis shows, so that a send of which nothing is known yet has an axis as well.
_LEAST = 2.0
#: Labels of an axis: seconds, and their words.
_TICKS = ((0, "0"), (1, "1 s"), (10, "10 s"), (60, "1 min"), (600, "10 min"), (3_600, "1 h"), (86_400, "1 day"), (864_000, "10 days"))
#: The shapes of reports.
_SHAPES = {
    ReportKind.BOUNCED: "refused",
    ReportKind.COMPLAINED: "refused",
    ReportKind.DELAYED: "put-off",
    ReportKind.ANSWERED: "answered",
}


@dataclass(frozen=True, slots=True)
class Moment:
    """A moment on a lane: where, in per cent of the axis, what it is, and the words for those who hear the page."""

    left: float
    kind: str
    words: str


@dataclass(frozen=True, slots=True)
class Lane:
    """The lane of one copy: the bars from moment to moment, in per cent, and the moments; ``tail`` is where a wait that goes on begins."""

    copy: TestCopy
    moments: list[Moment]
    begin: float
    length: float
    tail: float | None


@dataclass(frozen=True, slots=True)
class Lanes:
    """The lanes of a send, and the labels of their axis: place in per cent and words."""

    rows: list[Lane]
    ticks: list[tuple[float, str]]

    @property
    def waiting(self) -> int:
        """The number of copies that have not gone yet."""
        return sum(lane.copy.state in (TestCopy.State.WAITING, TestCopy.State.PUT_OFF) for lane in self.rows)

    @property
    def lacking(self) -> int:
        """The number of copies that ended without reaching anybody: refused, cancelled or sent back."""
        return sum(lane.copy.state in (TestCopy.State.REFUSED, TestCopy.State.CANCELLED) or _is_back(lane.copy) for lane in self.rows)


def lanes_of(send: TestSend, copies: Iterable[TestCopy], asked: Iterable[Asked] = ()) -> Lanes:
    """The copies of a send on the axis from its start to the last thing that happened; ``asked`` are the people with their answers.

    The axis is logarithmic: most copies arrive within seconds, and a bounce may come after hours.
    """
    copies = list(copies)
    said = {one.address: one.replies for one in asked}
    whole = max([*((at - send.at).total_seconds() for copy in copies for at in _times(copy, said.get(copy.address, []))), _LEAST])

    def left(seconds: float) -> float:
        return round(math.log1p(min(max(seconds, 0.0), whole)) / math.log1p(whole) * 100, 2)

    return Lanes(
        [_lane(copy, said.get(copy.address, []), lambda at: left((at - send.at).total_seconds())) for copy in copies],
        [(left(seconds), words) for seconds, words in _TICKS if seconds <= whole],
    )


def _is_back(copy: TestCopy) -> bool:
    """Whether a copy that was handed over came back."""
    return copy.state == TestCopy.State.HANDED_OVER and any(report.kind == ReportKind.BOUNCED for report in copy.reported)


def _times(copy: TestCopy, replies: list[ReplyShown]) -> list[datetime]:
    mails = [*(reply.at for reply in replies), *(arrival.at for arrival in copy.arrived), *(report.at for report in copy.reported)]
    return [at for at in (copy.first_try_at, copy.handed_over_at, *mails) if at is not None]


def _lane(copy: TestCopy, replies: list[ReplyShown], left: Callable[[datetime], float]) -> Lane:
    moments = [Moment(0.0, "asked", "asked for")]
    if copy.state == TestCopy.State.REFUSED and copy.first_try_at is not None:
        moments.append(Moment(left(copy.first_try_at), "refused", "refused"))
    elif copy.state in (TestCopy.State.PUT_OFF, TestCopy.State.UNSURE) and copy.first_try_at is not None:
        moments.append(Moment(left(copy.first_try_at), "put-off", copy.get_state_display()))
    elif copy.state == TestCopy.State.CANCELLED:
        moments.append(Moment(left(copy.first_try_at) if copy.first_try_at is not None else 0.0, "cancelled", "cancelled"))
    if copy.handed_over_at is not None:
        moments.append(Moment(left(copy.handed_over_at), "handed-over", "handed over"))
    for arrival in reversed(copy.arrived):
        kind = "differs" if arrival.differences else "arrived"
        moments.append(Moment(left(arrival.at), kind, "arrived with differences" if arrival.differences else "arrived"))
    moments.extend(Moment(left(report.at), _SHAPES[report.kind], report.kind.label) for report in copy.reported)
    for reply in replies:
        words = "answered: it looks right" if reply.looks_right else "answered: something is wrong"
        moments.append(Moment(left(reply.at), "right" if reply.looks_right else "wrong", words))
    moments.sort(key=lambda moment: moment.left)
    goes_on = copy.state in (TestCopy.State.WAITING, TestCopy.State.ON_ITS_WAY, TestCopy.State.PUT_OFF)
    return Lane(copy, moments, moments[0].left, moments[-1].left - moments[0].left, moments[-1].left if goes_on else None)
