"""The axis of Departures: everything planned is named, and no name covers another."""

import random
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest

from jetwind.apps.departures.axis import LANES, AxisMark, _extent, axis
from jetwind.apps.departures.selectors import Leaving
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.review.models import ReadinessFacts
from jetwind.apps.review.readiness import Readiness

NOW = datetime(2027, 1, 1, tzinfo=UTC)


def leaving(title: str, days: float | None) -> Leaving:
    """A row of the list; nothing is stored."""
    mailing = Mailing(title=title, planned_at=NOW + timedelta(days=days) if days is not None else None)
    return Leaving(mailing, Revision(mailing=mailing, number=1), ReadinessFacts(), Readiness(0, "under-review", ()), since=None)


def apart(marks: list[AxisMark]) -> bool:
    """Whether no two names of a lane overlap."""
    return all(
        one is other or one.lane != other.lane or _extent(one)[1] <= _extent(other)[0] or _extent(one)[0] >= _extent(other)[1]
        for one in marks
        for other in marks
    )


def test_few_are_named_by_their_titles() -> None:
    """In order, with their days."""
    found = axis([leaving("Spring glaze sale", 67), leaving("Pick-up notice", 2), leaving("Undated", None)], NOW)
    assert [mark.name for mark in found.marks] == ["Pick-up notice, 3 Jan", "Spring glaze sale, 9 Mar"]
    assert found.now < found.marks[0].left < found.marks[1].left


def test_nothing_planned() -> None:
    """No axis."""
    assert axis([leaving("Undated", None)], NOW).marks == []


@pytest.mark.parametrize("count", [2, 10, 60, 200])
@pytest.mark.parametrize("spread", [0.01, 3, 400])
def test_up_to_two_hundred(count: int, spread: float) -> None:
    """Each message is in exactly one mark, whose name says how many it stands for; all names lie inside the axis and apart."""
    chance = random.Random(count)
    rows = [leaving(f"Message {number} of the kiln works", chance.random() * spread) for number in range(count)]
    found = axis(rows, NOW)
    assert sorted(row.mailing.title for mark in found.marks for row in mark.rows) == sorted(row.mailing.title for row in rows)
    assert apart(found.marks)
    assert all(mark.lane < LANES and _extent(mark)[0] >= 0 and _extent(mark)[1] <= 100 for mark in found.marks)
    assert all(mark.name.startswith(f"{len(mark.rows)} messages") for mark in found.marks if len(mark.rows) > 1)


def test_the_list_pages(house: Any) -> None:
    """Forty on a page; a page that does not exist is the last."""
    from jetwind.apps.intake.services import Details, take_in

    for number in range(52):
        raw = f"Subject: Number {number}\nFrom: a@kiln.org\n\nx\n".encode()
        take_in(house.author, house.workspace, raw, "x.eml", details=Details(f"Number {number}", planned_at=NOW + timedelta(days=number)))
    client = house.client(house.author)
    first, last = (client.get(f"/?page={page}").content.decode() for page in ("1", "99"))
    assert (first.count('<tr id="m'), last.count('<tr id="m')) == (40, 12)
    assert "41–52 of 52" in last
    assert "messages, " in first
