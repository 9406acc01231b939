"""Calendars of planned sends: by an address that can be withdrawn, and as a file; what is moved moves there."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

import vobject
from django.test import Client
from django.utils import timezone

from jetwind.apps.audit.models import LogEntry
from jetwind.apps.departures import calendar as calendars
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.services import Details, change_details
from jetwind.apps.workspace.models import Workspace
from tests.apps.helpers import page_of, taken_in

SOON = datetime.now(UTC).replace(microsecond=0) + timedelta(days=3)


def opened(house: Any, act: str = "make") -> str:
    """The path of the feed after a press."""
    house.client(house.reviewer).post("/calendar/set/", {"act": act})
    return f"/calendar/{calendars.token_of(Workspace.objects.get(pk=house.workspace.pk))}.ics"


def events(path: str) -> list[Any]:
    """What a program that subscribed sees; it has no account."""
    answer = Client().get(path)
    assert answer.status_code == 200 and answer["Content-Type"].startswith("text/calendar")
    return list(vobject.readOne(answer.content.decode()).contents.get("vevent", []))


def planned(house: Any, title: str, at: datetime | None = SOON, **more: Any) -> Mailing:
    """A message with a planned time."""
    mailing = taken_in(house).mailing
    Mailing.objects.filter(pk=mailing.pk).update(title=title, planned_at=at, **more)
    return Mailing.objects.get(pk=mailing.pk)


def test_what_a_program_sees(house: Any) -> None:
    """Every planned message of the house, with its stage and what holds it back; no other house's, none without a time, none long gone."""
    planned(house, "Spring")
    planned(house, "Long ago", timezone.now() - timedelta(days=100))
    planned(house, "Unplanned", None)
    path = opened(house)
    (event,) = events(path)
    assert (event.summary.value, event.dtstart.value, event.status.value) == ("Spring", SOON, "TENTATIVE")
    assert "Taken in." in event.description.value
    assert event.url.value.startswith("http://testserver/mailings/")
    assert events(path)[0].uid.value == event.uid.value
    shown = page_of(house.client(house.author).get("/calendar/"))
    assert f"http://testserver{path}" in shown and "Withdraw" not in shown


def test_moved_and_withdrawn(house: Any) -> None:
    """A moved send has its new time, the same identity and a higher number; another address ends the old one, and so does withdrawing it."""
    mailing = planned(house, "Spring")
    path = opened(house)
    before = events(path)[0]
    details = Details(title="Spring", kind=mailing.kind, planned_at=SOON + timedelta(days=1), planned_zone="UTC")
    change_details(house.author, mailing, details)
    after = events(path)[0]
    assert after.dtstart.value == SOON + timedelta(days=1) and after.uid.value == before.uid.value
    assert int(after.sequence.value) > int(before.sequence.value)
    assert opened(house) == path
    other = opened(house, "again")
    assert other != path and Client().get(path).status_code == 404 and events(other)
    opened(house, "withdraw")
    assert Client().get(other).status_code == 404
    assert LogEntry.objects.filter(action="workspace.changed", data__what__startswith="the address of the calendar").count() == 3


def test_tokens_of_others(house: Any) -> None:
    """A token of another house, a changed one, an empty one and nonsense show nothing; who may not configure makes no address."""
    path = opened(house)
    token = path.removeprefix("/calendar/").removesuffix(".ics")
    number, nonce, signature = token.split(".")
    for wrong in (
        "x",
        "1..",
        f"{int(number) + 1}.{nonce}.{signature}",
        f"{number}.{nonce}.{signature[:-1]}",
        f"{number}..{signature}",
        "a.b.c",
    ):
        assert Client().get(f"/calendar/{wrong}.ics").status_code == 404
    assert calendars.workspace_of("") is None
    assert house.client(house.author).post("/calendar/set/", {"act": "withdraw"}).status_code == 403
    assert events(path) == []


def test_one_message_as_a_file(house: Any) -> None:
    """Its time; a sentence where it has none; at the planned hour of every zone where readers get it by their own clocks; nothing for strangers."""
    mailing = planned(house, "Spring", datetime(2027, 3, 9, 8, 0, tzinfo=UTC), planned_zone="Europe/Amsterdam", local_time=True)
    client = house.client(house.approver)
    answer = client.get(f"/mailings/{mailing.pk}/departure.ics")
    assert b"DTSTART:20270309T090000\r\n" in answer.content
    assert "attachment" in answer["Content-Disposition"]
    assert "Save the planned time for a calendar" in page_of(client.get(f"/mailings/{mailing.pk}/r1/envelope/"))
    assert house.client(house.outsider).get(f"/mailings/{mailing.pk}/departure.ics").status_code == 404
    unplanned = planned(house, "Later", None)
    refused = client.get(f"/mailings/{unplanned.pk}/departure.ics")
    assert refused.status_code == 409 and "has no planned time yet" in page_of(refused)


def test_two_hundred_messages(house: Any, django_assert_max_num_queries: Any) -> None:
    """A fixed number of questions to the database, however many messages there are."""
    first = planned(house, "Spring")
    path = opened(house)
    Mailing.objects.bulk_create(
        Mailing(
            created_by=house.author,
            workspace=house.workspace,
            title=f"M{n}",
            kind=first.kind,
            stage=first.stage,
            planned_at=SOON + timedelta(hours=n),
        )
        for n in range(200)
    )
    revision = Revision.objects.get(mailing=first)
    for mailing in Mailing.objects.filter(title__startswith="M"):
        revision.pk, revision.mailing = None, mailing
        revision.save()
    with django_assert_max_num_queries(6):
        assert len(events(path)) == 201
