"""Planned sends as iCalendar (RFC 5545), written by the library icalendar."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Literal

from icalendar import Calendar, Event

#: How often a program that subscribed asks again (RFC 7986 §5.7).
REFRESH = timedelta(hours=1)
#: Characters of a title, and of the words below it.
_LONGEST_TITLE, _LONGEST_WORDS = 200, 2_000
PlanStatus = Literal["TENTATIVE", "CONFIRMED", "CANCELLED"]


@dataclass(frozen=True, slots=True)
class PlannedSend:
    """One message with its planned time.

    ``at`` is the planned time. A time without a zone means this hour in each reader's own zone (RFC 5545 §3.3.5, form 1). ``sequence`` is the
    number of changes so far: calendar programs keep the event with the highest number (§3.8.7.4). ``changed_at`` is the time of the last change.
    """

    identity: str
    title: str
    at: datetime
    words: str
    address: str
    status: PlanStatus
    sequence: int
    changed_at: datetime


def as_calendar(name: str, sends: Iterable[PlannedSend], now: datetime) -> bytes:
    """A calendar with these sends, as UTF-8 with CR LF line ends."""
    calendar = Calendar()
    calendar.add("prodid", "-//Jetwind//Planned sends//EN")
    calendar.add("version", "2.0")
    calendar.add("calscale", "GREGORIAN")
    calendar.add("method", "PUBLISH")
    calendar.add("name", _line(name)[:_LONGEST_TITLE].strip())
    calendar.add("refresh-interval", REFRESH, parameters={"VALUE": "DURATION"})
    for send in sends:
        event = Event()
        event.add("uid", send.identity)
        event.add("dtstamp", now.astimezone(UTC))
        event.add("dtstart", send.at if send.at.tzinfo is None else send.at.astimezone(UTC))
        event.add("summary", _line(send.title)[:_LONGEST_TITLE].strip())
        if words := "\n".join(map(_line, send.words.splitlines()))[:_LONGEST_WORDS]:
            event.add("description", words)
        event.add("url", send.address)
        event.add("status", send.status)
        event.add("sequence", send.sequence)
        event.add("last-modified", send.changed_at.astimezone(UTC))
        # A send takes no time of anybody's day (§3.8.2.7).
        event.add("transp", "TRANSPARENT")
        calendar.add_component(event)
    return bytes(calendar.to_ical())


def _line(text: str) -> str:
    """A text as one line that UTF-8 can hold: a line end inside of a value would begin another property (§3.1)."""
    kept = "".join(char if char.isprintable() else " " for char in text)
    return " ".join(kept.encode("utf-8", "replace").decode("utf-8").split())
