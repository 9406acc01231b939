"""The axis of Departures: everything planned is named, and no name covers another."""

import random
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from typing import Any

import pytest

from jetwind.apps.departures.axis import LANES, AxisMark, _extent, axis
from jetwind.apps.departures.selectors import Planned

NOW = datetime(2027, 1, 1, tzinfo=UTC)


def planned(title: str, days: float) -> Planned:
    """A message on the axis; nothing is stored."""
    return Planned(0, 1, title, NOW + timedelta(days=days), stripes=0, is_cleared=False)


def apart(marks: list[AxisMark]) -> bool:
    """Whether no two names of a lane overlap."""
    return all(
        one is other or one.lane != other.lane or _extent(one)[1] <= _extent(other)[0] or _extent(one)[0] >= _extent(other)[1]
        for one in marks
        for other in marks
    )


def test_few_are_named_by_their_titles() -> None:
    """In order, with their days."""
    found = axis([planned("Spring glaze sale", 67), planned("Pick-up notice", 2)], NOW)
    assert [mark.name for mark in found.marks] == ["Pick-up notice, 3 Jan", "Spring glaze sale, 9 Mar"]
    assert found.now < found.marks[0].left < found.marks[1].left


def test_nothing_planned() -> None:
    """No axis."""
    assert axis([], NOW).marks == []


@pytest.mark.parametrize("count", [2, 10, 60, 200])
@pytest.mark.parametrize("spread", [0.01, 3, 400])
def test_up_to_two_hundred(count: int, spread: float) -> None:
    """Each message is in exactly one mark, whose name says how many it stands for; all names lie inside the axis and apart."""
    chance = random.Random(count)
    rows = [planned(f"Message {number} of the kiln works", chance.random() * spread) for number in range(count)]
    found = axis(rows, NOW)
    assert sorted(row.title for mark in found.marks for row in mark.rows) == sorted(row.title for row in rows)
    assert apart(found.marks)
    # Of 1,180 px a windsock has 20, and one that is raised with the number of its messages beside it 60.
    for mark, after in pairwise(found.marks):
        assert (after.left - mark.left) * 11.8 > (19.8 if len(mark.rows) == 1 else 59.8)
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
    # The axis shows all of them, not only those of the page.
    numbers = [row.title for mark in client.get("/").context["axis"].marks for row in mark.rows]
    assert numbers == [f"Number {number}" for number in range(52)]


def test_the_windsock_of_the_axis_is_the_one_of_the_list(house: Any) -> None:
    """A mark lifts as many stripes as the row of its message."""
    from jetwind.apps.intake.services import Details, take_in

    one = take_in(house.author, house.workspace, b"Subject: x\nFrom: a@kiln.org\n\nx\n", "x.eml", details=Details("One", planned_at=NOW))
    page = house.client(house.author).get("/").context
    (mark,), (row,) = page["axis"].marks, page["rows"]
    assert (mark.worst.stripes, mark.worst.is_cleared) == (row.readiness.stripes, row.readiness.is_cleared)
    assert (mark.worst.number, mark.worst.address) == (one.pk, row.address)
