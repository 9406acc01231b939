"""Planned sends as iCalendar, read back by two libraries that share no code with the writer's: PyPI vobject 0.9.9 and ics 0.7.3."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta, timezone

import ics
import pytest
import vobject
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.reports.calendar import PlannedSend, as_calendar

NOW = datetime(2027, 3, 1, 8, 0, tzinfo=UTC)
AT = datetime(2027, 3, 9, 9, 0, tzinfo=timezone(timedelta(hours=1)))


def send(title: str = "Spring glaze sale", words: str = "Twelve glazes\nCleared.", at: datetime = AT) -> PlannedSend:
    """A planned send."""
    return PlannedSend("1@departures.jetwind.invalid", title, at, words, "https://jetwind.kiln.org/mailings/1/", "CONFIRMED", 7, NOW)


def test_read_by_vobject() -> None:
    """Each property as it was meant (RFC 5545 §3.6.1, §3.8)."""
    calendar = vobject.readOne(as_calendar("Kiln: departures", [send()], NOW).decode())
    event = calendar.vevent
    assert (calendar.method.value, calendar.contents["name"][0].value) == ("PUBLISH", "Kiln: departures")
    assert event.summary.value == "Spring glaze sale"
    assert event.description.value == "Twelve glazes\nCleared."
    assert event.dtstart.value == AT and event.dtstamp.value == NOW
    assert (event.uid.value, event.status.value, event.sequence.value) == ("1@departures.jetwind.invalid", "CONFIRMED", "7")
    assert event.url.value == "https://jetwind.kiln.org/mailings/1/"


def test_read_by_ics() -> None:
    """The other library sees the same events, in any order."""
    events = ics.Calendar(as_calendar("Kiln", [send(), send("Courses")], NOW).decode()).events
    assert sorted(event.name for event in events) == ["Courses", "Spring glaze sale"]
    assert {event.begin.datetime for event in events} == {AT} and {event.status for event in events} == {"CONFIRMED"}


def test_an_hour_of_every_zone() -> None:
    """A message that leaves at the planned hour of each reader's zone has a time without one (§3.3.5, form 1)."""
    raw = as_calendar("Kiln", [send(at=datetime(2027, 3, 9, 9, 0))], NOW)
    assert b"\r\nDTSTART:20270309T090000\r\n" in raw
    assert b"\r\nDTSTART:20270309T080000Z\r\n" in as_calendar("Kiln", [send()], NOW)
    assert vobject.readOne(raw.decode()).vevent.dtstart.value == datetime(2027, 3, 9, 9, 0)


def test_lines() -> None:
    """At most 75 octets of a line, ended by CR LF, and no character is cut in two (§3.1)."""
    raw = as_calendar("Kiln", [send("Глазурь " * 30)], NOW)
    lines = raw.split(b"\r\n")
    assert max(map(len, lines)) <= 75 and b"\n" not in b"".join(lines)
    assert vobject.readOne(raw.decode()).vevent.summary.value == ("Глазурь " * 30)[:200].strip()
    assert as_calendar("Kiln", [], NOW).count(b"VEVENT") == 0


@settings(max_examples=80, deadline=None)
@given(st.text(max_size=60), st.text(max_size=120))
def test_no_text_becomes_a_property(title: str, words: str) -> None:
    """Whatever a message is called: one event, with nothing but its own properties, and the title as it was but for control characters."""
    raw = as_calendar(title, [send(title, words)], NOW)
    (event,) = vobject.readOne(raw.decode()).vevent_list
    names = {child.name for child in event.getChildren()}
    assert names <= {
        "UID",
        "DTSTAMP",
        "DTSTART",
        "SUMMARY",
        "DESCRIPTION",
        "URL",
        "STATUS",
        "SEQUENCE",
        "LAST-MODIFIED",
        "TRANSP",
    }
    if title.isascii() and title.isprintable():
        assert event.summary.value == " ".join(title.split())


@pytest.mark.parametrize("title", ["a\r\nATTENDEE:mailto:x@y.example", "a\rBEGIN:VEVENT", "a\u2028b", "\ud800", "a\0b", 'a;b,c\\d:"e"'])
def test_hostile_titles(title: str) -> None:
    """Line ends of any kind, a lone surrogate, a NUL, and the marks that the format itself uses."""
    raw = as_calendar("Kiln", [send(title, title)], NOW)
    assert raw.split(b"\r\n").count(b"BEGIN:VEVENT") == 1 and b"\nATTENDEE" not in raw
    assert len(vobject.readOne(raw.decode()).vevent_list) == 1
