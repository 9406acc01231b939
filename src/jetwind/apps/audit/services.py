"""Writing to the log, and proving that nobody rewrote it."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from django.db import connection, transaction
from django.utils import timezone

from jetwind.apps.audit.actions import ACTIONS
from jetwind.apps.audit.models import LogEntry, Verified

#: Key of the advisory lock that puts entries in one row; any constant does, this one is the number of the table.
_LOCK = 7_310_001
FIRST_HASH = "0" * 64


def record(action: str, *, actor: Any, mailing_id: int | None = None, **data: Any) -> LogEntry:
    """Add an entry. Part of the caller's transaction: what is rolled back was never logged.

    Raises:
        ValueError: the action is not in the catalogue, or its sentence lacks data.
    """
    if action not in ACTIONS:
        raise ValueError(f"the log does not know the action {action!r}")
    try:
        ACTIONS[action].format(**data)
    except KeyError as missing:
        raise ValueError(f"{action} needs {missing}") from missing
    with transaction.atomic():
        # Held to the end of the transaction, so that two writers cannot both follow the same entry.
        with connection.cursor() as cursor:
            cursor.execute("select pg_advisory_xact_lock(%s)", [_LOCK])
        last = LogEntry.objects.order_by("-id").values_list("hash", flat=True).first() or FIRST_HASH
        entry = LogEntry(at=timezone.now(), actor=actor, action=action, mailing_id=mailing_id, data=data, previous_hash=last)
        entry.hash = entry_hash(entry)
        entry.save()
    return entry


def entry_hash(entry: LogEntry) -> str:
    """SHA-256 over the entry's content and the hash before it."""
    content = json.dumps(
        [entry.previous_hash, entry.at.isoformat(), entry.actor_id, entry.action, entry.mailing_id, entry.data],
        sort_keys=True,
        ensure_ascii=False,
    )
    return hashlib.sha256(content.encode()).hexdigest()


def verify() -> Verified:
    """Verify the whole chain, and keep what was found: a hundred thousand entries take seconds, which no page may."""
    entries, broken = 0, None
    previous = FIRST_HASH
    for entry in LogEntry.objects.order_by("id").iterator():
        entries += 1
        if entry.previous_hash != previous or entry.hash != entry_hash(entry):
            broken = entry.pk
            break
        previous = entry.hash
    found, _ = Verified.objects.update_or_create(only=True, defaults={"at": timezone.now(), "entries": entries, "broken": broken})
    return found


def verified() -> Verified | None:
    """What came of verifying the log last; None where that was never done."""
    return Verified.objects.first()
