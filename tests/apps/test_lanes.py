"""The lanes of a test send: one time axis for all copies, and a moment for each thing that happened."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

import numpy as np

from jetwind.apps.proofs.lanes import Lane, lanes_of
from jetwind.apps.proofs.models import ArrivalShown, ReportKind, ReportShown, TestCopy, TestSend

START = datetime(2026, 12, 1, 8, 0, tzinfo=UTC)


def _after(seconds: float) -> datetime:
    return START + timedelta(seconds=seconds)


def _copy(state: TestCopy.State, *arrived: ArrivalShown, **times: datetime) -> TestCopy:
    copy = TestCopy(state=state, address="rosa@saltmarsh-kiln.example", **times)
    copy.arrived, copy.reported = list(arrived), []
    return copy


def _log(seconds: float, whole: float) -> float:
    """The place on a logarithmic axis, by numpy."""
    return round(float(np.log1p(seconds) / np.log1p(whole)) * 100, 2)


def _said(lane: Lane) -> list[tuple[float, str]]:
    return [(moment.left, moment.words) for moment in lane.moments]


class TestLanes:
    def test_all_copies_share_the_axis_of_the_slowest(self) -> None:
        """The axis ends at the last thing that happened, and each moment has its place on it."""
        quick = _copy(TestCopy.State.HANDED_OVER, ArrivalShown(1, _after(10), True, 0), first_try_at=_after(5), handed_over_at=_after(5))
        slow = _copy(TestCopy.State.HANDED_OVER, ArrivalShown(2, _after(40), True, 3), first_try_at=_after(20), handed_over_at=_after(20))
        lanes = lanes_of(TestSend(at=START), [quick, slow])
        assert [_said(lane) for lane in lanes.rows] == [
            [(0.0, "asked for"), (_log(5, 40), "handed over"), (_log(10, 40), "arrived")],
            [(0.0, "asked for"), (_log(20, 40), "handed over"), (100.0, "arrived with differences")],
        ]
        assert lanes.ticks == [(0.0, "0"), (_log(1, 40), "1 s"), (_log(10, 40), "10 s")]
        assert [lane.tail for lane in lanes.rows] == [None, None]

    def test_a_wait_goes_on_to_the_end(self) -> None:
        """A copy that waits or was put off has a tail; a refused one ends."""
        waits = _copy(TestCopy.State.WAITING)
        put_off = _copy(TestCopy.State.PUT_OFF, first_try_at=_after(4))
        refused = _copy(TestCopy.State.REFUSED, first_try_at=_after(8))
        lanes = lanes_of(TestSend(at=START), [waits, put_off, refused])
        assert [lane.tail for lane in lanes.rows] == [0.0, _log(4, 8), None]
        assert _said(lanes.rows[2]) == [(0.0, "asked for"), (100.0, "refused")]

    def test_a_clock_that_ran_back_stays_on_the_axis(self) -> None:
        """An arrival that bears an earlier time than the press stands at the start of the axis."""
        early = _copy(TestCopy.State.HANDED_OVER, ArrivalShown(1, _after(-30), True, 0), handed_over_at=_after(1))
        assert [left for left, _ in _said(lanes_of(TestSend(at=START), [early]).rows[0])] == [0.0, 0.0, _log(1, 2)]

    def test_what_machines_wrote(self) -> None:
        """A bounce ends the lane, after the hand-over."""
        copy = _copy(TestCopy.State.HANDED_OVER, handed_over_at=_after(15))
        copy.reported = [ReportShown(1, _after(60), ReportKind.BOUNCED, "5.1.1", "no such box")]
        lane = lanes_of(TestSend(at=START), [copy]).rows[0]
        assert _said(lane) == [(0.0, "asked for"), (_log(15, 60), "handed over"), (100.0, "bounced")]
        assert [moment.kind for moment in lane.moments] == ["asked", "handed-over", "refused"]

    def test_every_copy_twice(self) -> None:
        """A mail that came twice shows both arrivals, and the axis has words for long waits."""
        copy = _copy(
            TestCopy.State.HANDED_OVER,
            ArrivalShown(2, _after(14_400), False, 0),
            ArrivalShown(1, _after(7_200), True, 0),
            handed_over_at=_after(1),
        )
        lanes = lanes_of(TestSend(at=START), [copy])
        assert [words for _, words in _said(lanes.rows[0])] == ["asked for", "handed over", "arrived", "arrived"]
        assert [words for _, words in lanes.ticks] == ["0", "1 s", "10 s", "1 min", "10 min", "1 h"]
