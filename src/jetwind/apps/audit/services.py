"""Writing to the log, and proving that nobody rewrote it."""

from __future__ import annotations

from typing import Any, Protocol

from django.db import connection, transaction
from django.utils import timezone

from jetwind.apps.audit.actions import ACTIONS
from jetwind.apps.audit.models import LogEntry, Verified
from jetwind.core.log import FIRST_HASH, Entry, hash_of
from jetwind.core.log.chain import NO_WORKSPACE

#: First key of the advisory locks that put the entries of a chain in one row; any constant does. The second key is the number of the chain.
_LOCK = 7_310_001
#: A key of an advisory lock has 31 bits.
_KEYS = 2**31


class OfAWorkspace(Protocol):
    """A mailing, as far as the log knows it."""

    pk: Any
    workspace_id: Any


def record(action: str, *, actor: Any, mailing: OfAWorkspace | None = None, house: int | None = None, **data: Any) -> LogEntry:
    """Add an entry to the chain of a workspace: that of ``mailing``, or the one with the number ``house``; with neither, to the chain of no workspace.

    The entry is part of the caller's transaction: an entry of a transaction that is rolled back was never logged. Each workspace has a chain
    of its own, so that writers of two workspaces do not wait for each other. A transaction that writes to the chain of no workspace and to
    another takes the former first.

    Raises:
        ValueError: the action is not in the catalogue, or its sentence lacks data.
    """
    if action not in ACTIONS:
        raise ValueError(f"the log does not know the action {action!r}")
    try:
        ACTIONS[action].format(**data)
    except KeyError as missing:
        raise ValueError(f"{action} needs {missing}") from missing
    workspace = mailing.workspace_id if mailing is not None else house
    chain = workspace or NO_WORKSPACE
    with transaction.atomic():
        # Held to the end of the transaction, so that two writers cannot both follow the same entry.
        with connection.cursor() as cursor:
            cursor.execute("select pg_advisory_xact_lock(%s, %s)", [_LOCK, chain % _KEYS])
        last = LogEntry.objects.filter(chain=chain).order_by("-id").values_list("hash", flat=True).first() or FIRST_HASH
        entry = LogEntry(
            at=timezone.now(),
            actor=actor,
            action=action,
            chain=chain,
            workspace_id=workspace,
            mailing_id=mailing.pk if mailing is not None else None,
            data=data,
            previous_hash=last,
        )
        entry.hash = entry_hash(entry)
        entry.save()
    return entry


def entry_hash(entry: LogEntry) -> str:
    """SHA-256 over the entry's content and the hash before it in its chain."""
    return hash_of(
        Entry(
            previous_hash=entry.previous_hash,
            at=entry.at.isoformat(),
            actor=entry.actor_id,
            action=entry.action,
            mailing=entry.mailing_id,
            data=entry.data,
            chain=entry.chain,
        )
    )


def verify() -> Verified:
    """Verify every chain, and keep the result: a hundred thousand entries take seconds, which no page may."""
    entries, broken = 0, None
    chain, previous = NO_WORKSPACE, FIRST_HASH
    for entry in LogEntry.objects.order_by("chain", "id").iterator():
        entries += 1
        if entry.chain != chain:
            chain, previous = entry.chain, FIRST_HASH
        moved = entry.chain != NO_WORKSPACE and entry.workspace_id != entry.chain
        if moved or entry.previous_hash != previous or entry.hash != entry_hash(entry):
            broken = entry.pk
            break
        previous = entry.hash
    found, _ = Verified.objects.update_or_create(only=True, defaults={"at": timezone.now(), "entries": entries, "broken": broken})
    return found


def verified() -> Verified | None:
    """The outcome of the last verification of the log; None where nobody verified it yet."""
    return Verified.objects.first()
