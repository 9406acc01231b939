"""The log of a workspace: looked through by person, kind, time and message, and as a file."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

from django.db.models import Q, QuerySet
from django.utils import timezone
from django.utils.dateparse import parse_date

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.actions import GROUPS
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.workspace.models import Workspace
from jetwind.core.source.cells import as_csv

#: The columns of the log as CSV.
COLUMNS = ("entry", "time", "person", "action", "what", "message", "title", "revision", "content", "previous hash", "hash")


@dataclass(frozen=True, slots=True)
class Asked:
    """The entries of the log that a person asks for. A field that is 0 or empty excludes no entry."""

    person: int = 0
    kind: str = ""
    since: str = ""
    until: str = ""
    message: int = 0

    @property
    def is_all(self) -> bool:
        """Whether the person asks for the whole log."""
        return self == Asked()


@dataclass(frozen=True, slots=True)
class Line:
    """One entry with the title of its message, the revision and the SHA-256 of the content that it concerns; empty where there is none."""

    entry: LogEntry
    title: str
    revision: int | None
    content: str


def log_of(workspace: Workspace, asked: Asked) -> QuerySet[LogEntry]:
    """The entries of a workspace that a person asks for, the newest first. An unknown kind and an unreadable day exclude no entry."""
    found = LogEntry.objects.filter(workspace_id=workspace.pk).select_related("actor").order_by("-id")
    if asked.person:
        found = found.filter(actor_id=asked.person)
    if asked.message:
        found = found.filter(mailing_id=asked.message)
    begins = next((begins for name, _, begins in GROUPS if name == asked.kind), ())
    if begins:
        of_kind = Q()
        for beginning in begins:
            of_kind |= Q(action__startswith=beginning)
        found = found.filter(of_kind)
    if since := _day(asked.since):
        found = found.filter(at__gte=since)
    if until := _day(asked.until):
        found = found.filter(at__lt=until + timedelta(days=1))
    return found


def _day(text: str) -> datetime | None:
    """The beginning of a day in the zone of the person who asks; None for what is no day."""
    try:
        day = parse_date(text)
    except ValueError:
        return None
    return timezone.make_aware(datetime(day.year, day.month, day.day)) if day is not None and 1970 < day.year < 9000 else None


def lines_of(entries: Sequence[LogEntry]) -> list[Line]:
    """The entries with the messages and contents that they concern, by two questions to the database."""
    numbers = {entry.mailing_id for entry in entries if entry.mailing_id is not None}
    titles = dict(Mailing.objects.filter(pk__in=numbers).values_list("pk", "title"))
    revisions = {number for entry in entries if entry.mailing_id is not None and (number := _revision(entry)) is not None}
    rows = Revision.objects.filter(mailing__in=numbers, number__in=revisions).values_list("mailing", "number", "content_sha256")
    contents = {(mailing, number): content for mailing, number, content in rows}
    return [
        Line(
            entry,
            titles.get(entry.mailing_id or 0, ""),
            _revision(entry),
            contents.get((entry.mailing_id or 0, _revision(entry) or 0), ""),
        )
        for entry in entries
    ]


def _revision(entry: LogEntry) -> int | None:
    # With a message its first revision comes in, which these entries do not name.
    number = 1 if entry.action in ("mailing.taken-in", "mailing.copied") else entry.data.get("revision")
    return number if isinstance(number, int) else None


def people_of(workspace: Workspace) -> list[User]:
    """Everybody who belongs to a workspace or did, by whom its log may be looked through."""
    members = workspace.memberships.select_related("user").order_by("user__first_name", "user__username")
    return [one.user for one in members]


def json_lines(entries: QuerySet[LogEntry]) -> Iterator[str]:
    """The entries in the order of their chain, as lines of JSON that ``./jetwind verify-log`` verifies."""
    for line in _in_order(entries):
        entry = line.entry
        told: dict[str, Any] = {
            "id": entry.pk,
            "at": entry.at.isoformat(),
            "actor": entry.actor_id,
            "person": entry.actor.shown_name if entry.actor is not None else "",
            "action": entry.action,
            "sentence": entry.sentence,
            "mailing": entry.mailing_id,
            "title": line.title,
            "content": line.content,
            "data": entry.data,
            "chain": entry.chain,
            "previous_hash": entry.previous_hash,
            "hash": entry.hash,
        }
        yield json.dumps(told, ensure_ascii=False) + "\n"


def csv_lines(entries: QuerySet[LogEntry]) -> Iterator[str]:
    """The entries in the order of their chain, as CSV (RFC 4180)."""
    yield as_csv(COLUMNS, ())
    for line in _in_order(entries):
        entry = line.entry
        row = (
            str(entry.pk),
            entry.at.isoformat(),
            entry.actor.shown_name if entry.actor is not None else "",
            entry.action,
            entry.sentence,
            str(entry.mailing_id or ""),
            line.title,
            str(line.revision or ""),
            line.content,
            entry.previous_hash,
            entry.hash,
        )
        yield as_csv(row, ())


def _in_order(entries: QuerySet[LogEntry]) -> Iterator[Line]:
    """The entries, the oldest first, a thousand at a time: a log may be longer than memory is wide."""
    last = 0
    while batch := list(entries.filter(pk__gt=last).order_by("id")[:1_000]):
        yield from lines_of(batch)
        last = batch[-1].pk
