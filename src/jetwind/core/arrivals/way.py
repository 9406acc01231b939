"""The way that a mail took: its Received fields, each written by the server that took it (RFC 5321 §4.4)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from itertools import islice, pairwise

from jetwind.core.message import Message

#: Fields that are read, and characters of each; RFC 5321 §6.3 takes a hundred for a sign of a loop.
_MOST_HOPS, _MOST_CHARACTERS = 100, 2_000
_CLAUSE = re.compile(r"(?:^|\s)(?P<name>from|by|with|id|for)\s+(?P<value>[^\s;]+)", re.IGNORECASE)
_COMMENT = re.compile(r"\([^()]{0,400}\)")


@dataclass(frozen=True, slots=True)
class Hop:
    """One server's note: from whom it took the mail, who it is, by which protocol, and when; ``at`` is None where it does not say.

    ``delay`` are the seconds since the hop before, below zero where the clocks of the two differ; None where one of them gives no time.
    """

    sender: str
    receiver: str
    protocol: str
    at: datetime | None
    delay: float | None = None


@dataclass(frozen=True, slots=True)
class LateHop:
    """The hop on which a mail lay longest, and the seconds of the whole way."""

    receiver: str
    seconds: float
    total: float


def hops_of(message: Message) -> tuple[Hop, ...]:
    """The hops in the order in which the mail took them: each server puts its field above those that are there."""
    found: list[Hop] = []
    for header in reversed(list(islice(message.header_fields("Received"), _MOST_HOPS))):
        body = header.value[:_MOST_CHARACTERS]
        plain = body
        for _ in range(4):
            # Comments may stand inside one another.
            plain = _COMMENT.sub(" ", plain)
        clauses = {match["name"].lower(): match["value"] for match in _CLAUSE.finditer(plain.rpartition(";")[0] or plain)}
        at = _time(plain.rpartition(";")[2])
        before = next((hop.at for hop in reversed(found) if hop.at is not None), None)
        delay = (at - before).total_seconds() if at is not None and before is not None else None
        found.append(Hop(clauses.get("from", ""), clauses.get("by", ""), clauses.get("with", ""), at, delay))
    return tuple(found)


def _time(text: str) -> datetime | None:
    try:
        found = parsedate_to_datetime(text.strip())
    except (ValueError, TypeError, IndexError, OverflowError):
        return None
    # "-0000" says UTC of a place that is not told (RFC 5322 §3.3).
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)


def late_hop(hops: tuple[Hop, ...], handed_over: datetime | None, arrived: datetime | None) -> LateHop | None:
    """Where a mail lay longest; None where no two times are known.

    The times of both ends, where they are given, count as hops: before the first server, and behind the last one.
    """
    stops = [(handed_over, "")] if handed_over is not None else []
    stops += [(hop.at, hop.receiver) for hop in hops if hop.at is not None]
    stops += [(arrived, "the inbox")] if arrived is not None else []
    times = [(at, receiver) for at, receiver in stops if at is not None]
    if len(times) < 2:
        return None
    # A clock that is behind makes a step of less than nothing, and the next one longer by as much: no step begins before the latest time.
    latest, waits = times[0][0], []
    for (_, _), (at, receiver) in pairwise(times):
        waits.append((max((at - latest).total_seconds(), 0.0), receiver))
        latest = max(latest, at)
    seconds, receiver = max(waits)
    return LateHop(receiver or "its first server", seconds, (latest - times[0][0]).total_seconds())
