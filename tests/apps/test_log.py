"""The log of a workspace: looked through, and saved as files that hold without the database."""

from __future__ import annotations

import csv
import io
import json
from datetime import timedelta
from typing import Any

import pytest
from django.db import connection

from jetwind.apps.approvals.services import sign
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.audit.services import record
from jetwind.core.log import verify_lines
from tests.apps.helpers import page_of, taken_in


def saved(client: Any, address: str) -> str:
    """A file as it is saved."""
    return b"".join(client.get(address).streaming_content).decode()


@pytest.fixture
def told(house: Any) -> Any:
    """A house in which two messages were taken in, one signed and one changed; and another house's entry."""
    first = taken_in(house)
    sign(house.reviewer, first)
    second = taken_in(house)
    record("mailing.changed", actor=house.author, mailing=second.mailing, fields="=cmd|the title")
    record("workspace.changed", actor=house.owner, house=house.workspace.pk, what="what links are opened")
    record("mailing.changed", actor=house.outsider, house=house.workspace.pk + 1, fields="nobody's business")
    return first


def test_looked_through(house: Any, told: Any) -> None:
    """By person, kind, message and day; each entry with its message and content; another house's stay out."""
    client = house.client(house.operator)
    whole = page_of(client.get("/log/"))
    assert "signed off revision 1" in whole and "changed what links are opened" in whole and "nobody" not in whole
    assert told.content_sha256[:12] in whole or told.content_sha256[:8] in whole
    by_kind = page_of(client.get("/log/?kind=sign-off"))
    assert "signed off revision 1" in by_kind and "took in" not in by_kind
    by_person = page_of(client.get(f"/log/?person={house.owner.pk}"))
    assert "changed what links are opened" in by_person and "signed off" not in by_person
    by_message = page_of(client.get(f"/log/?message={told.mailing_id}"))
    assert "signed off" in by_message and "the title" not in by_message
    # The day of the entry in the zone of the person who asks: neither is the day of this machine's clock.
    day = LogEntry.objects.get(action="approval.signed").at.astimezone(house.operator.zone).date()
    assert "signed off" in page_of(client.get(f"/log/?since={day}&until={day}"))
    assert "No entry fits" in page_of(client.get(f"/log/?since={day + timedelta(days=1)}"))
    assert "No entry fits" in page_of(client.get(f"/log/?until={day - timedelta(days=1)}"))


@pytest.mark.parametrize(
    "query", ["person=x", "kind=%3Cb%3E", "since=2026-99-99", "since=0001-01-01&until=9999-12-31", "message=9", "page=999"]
)
def test_nonsense_is_asked_for(house: Any, told: Any, query: str) -> None:
    """What is no person, kind or day leaves everything in; a message of nobody has no entries."""
    answer = house.client(house.reviewer).get(f"/log/?{query}")
    assert answer.status_code == 200
    assert ("No entry fits" in page_of(answer)) == (query == "message=9")


def test_saved_it_holds(house: Any, told: Any) -> None:
    """The whole log follows entry by entry; a selection holds as one; a change behind the database's back is seen in the file."""
    client = house.client(house.reviewer)
    found = verify_lines(saved(client, "/log.jsonl").splitlines())
    assert (found.wrong, found.entries) == ("", LogEntry.objects.filter(workspace_id=house.workspace.pk).count())
    assert found.newest == LogEntry.objects.filter(chain=house.workspace.pk).latest("id").hash
    selection = saved(client, f"/log.jsonl?person={house.author.pk}").splitlines()
    assert verify_lines(selection).wrong != "" and verify_lines(selection, is_selection=True).wrong == ""
    with connection.cursor() as cursor:
        cursor.execute("set session_replication_role = replica")
        cursor.execute('update audit_logentry set data = \'{"revision": 2, "content": "x"}\' where action = \'approval.signed\'')
        cursor.execute("set session_replication_role = origin")
    assert "content is not that of its hash" in verify_lines(saved(client, "/log.jsonl").splitlines()).wrong


def test_saved_as_csv(house: Any, told: Any) -> None:
    """Read by the standard library; a text that a spreadsheet would run stays text; no entry is of another house."""
    rows = list(csv.DictReader(io.StringIO(saved(house.client(house.reviewer), "/log.csv"), newline="")))
    assert len(rows) == LogEntry.objects.filter(workspace_id=house.workspace.pk).count()
    signed = next(row for row in rows if row["action"] == "approval.signed")
    assert (signed["person"], signed["content"], signed["revision"]) == ("Reviewer", told.content_sha256, "1")
    assert not any(cell.startswith(("=", "+", "@")) for row in rows for cell in row.values())


def test_many_entries_are_saved_by_a_few_questions(house: Any, django_assert_max_num_queries: Any) -> None:
    """A thousand entries at a time, each with its message and content by two questions more."""
    revision = taken_in(house)
    for number in range(30):
        record("review.rechecked", actor=house.reviewer, mailing=revision.mailing, revision=1 + number % 2)
    client = house.client(house.reviewer)
    with django_assert_max_num_queries(12):
        lines = saved(client, "/log.jsonl").splitlines()
    assert json.loads(lines[-2])["content"] in ("", revision.content_sha256)
    assert len(lines) > 30
