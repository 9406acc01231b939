"""The facts of the workers' machines: each worker publishes its own, and everybody reads them from the database (decision 0034)."""

from __future__ import annotations

import hashlib
import json
import os
import secrets
import socket
from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import timedelta
from functools import lru_cache
from typing import Any

from django.conf import settings
from django.contrib.postgres.expressions import ArraySubquery
from django.db import connection, transaction
from django.db.models import Q, QuerySet, Subquery
from django.db.models.functions import JSONObject, Now
from django.utils import timezone

from jetwind.apps.jobs.models import Machine
from jetwind.engines.machine import MachineFacts, Needs, facts_here

#: A worker that has not been seen for so long has gone; its place is free for others.
GONE_AFTER = timedelta(seconds=max(6 * settings.STALLED_AFTER_SECONDS, 60))


def publish() -> str:
    """Write down what this process works with; returns the name of its row. Rows of this machine's workers that have ended go."""
    host, facts, now, name = socket.gethostname()[:100], facts_here(), timezone.now(), _own_name()
    table = facts.as_json()
    key = hashlib.sha256(json.dumps(table, sort_keys=True).encode()).hexdigest()[:16]
    with transaction.atomic():
        Machine.objects.filter(host=host).filter(Q(is_stopped=True) | Q(seen_at__lt=now - GONE_AFTER)).delete()
        told = {"host": host, "key": key, "facts": table, "started_at": now, "seen_at": now, "is_stopped": False}
        Machine.objects.update_or_create(name=name, defaults=told)
    return name


@lru_cache(maxsize=1)
def _own_name() -> str:
    # Containers may share a host's name and the numbers of processes.
    return f"{socket.gethostname()[:80]}:{os.getpid()}:{secrets.token_hex(4)}"


def seen(name: str, *, is_stopped: bool = False) -> None:
    """Note that a worker lives, or that it ends; a worker whose row somebody removed writes it again."""
    if not Machine.objects.filter(name=name).update(seen_at=timezone.now(), is_stopped=is_stopped) and not is_stopped:
        publish()


def own_facts() -> MachineFacts:
    """The facts of the worker that this process belongs to."""
    return _published(settings.MACHINE) if settings.MACHINE else facts_here()


@lru_cache(maxsize=2)
def _published(name: str) -> MachineFacts:
    # The helpers of a worker are told its name: finding its facts out again would take each of them seconds.
    row = Machine.objects.filter(name=name).first()
    # A worker that was paused for long comes back to find its row removed, until it writes it again.
    return MachineFacts.from_json(row.facts) if row is not None else facts_here()


def in_the_house() -> ArraySubquery:
    """The facts of the machines that count, one of each kind, as an expression of another query."""
    return ArraySubquery(_counting().values_list(JSONObject(facts="facts", is_stopped="is_stopped")))


def known(rows: Sequence[Mapping[str, Any]] | None = None) -> tuple[MachineFacts, ...]:
    """The facts of the machines that count, one of each kind, from what ``in_the_house`` gave or from the database.

    Those at work count, and the one that was seen last: an answer does not go out of date because nobody works.
    Before the first worker has begun, this process counts.
    """
    if rows is None:
        rows = list(_counting().values("facts", "is_stopped"))
    return tuple(MachineFacts.from_json({**row["facts"], "is_leaving": row["is_stopped"]}) for row in rows) or (facts_here(),)


def _at_work() -> QuerySet[Machine]:
    # The database's clock, since this is part of a query that is put together once.
    return Machine.objects.filter(seen_at__gt=Now() - GONE_AFTER)


def _counting() -> QuerySet[Machine]:
    last = Subquery(Machine.objects.order_by("-seen_at").values("pk")[:1])
    return Machine.objects.filter(Q(seen_at__gt=Now() - GONE_AFTER) | Q(pk=last)).order_by("key", "is_stopped").distinct("key")


def holds(value: str, machines: Iterable[MachineFacts], of: Callable[[MachineFacts], str]) -> bool:
    """Whether an answer that used a fact of this value still holds beside what the machines have; "" is for none. ``of`` gives the fact.

    Another value makes it no worse while one machine still has this one, or while no machine that takes work has any.
    """
    there = [(of(facts), facts.is_leaving) for facts in machines]
    return any(other == value != "" for other, _ in there) or not any(other and not is_leaving for other, is_leaving in there)


def queue_for(needs: Needs) -> str:
    """The queue of the machines that do this work best: those with the newest code, then those with the most.

    While no such machine is at work, the queue is that of every machine that can do the work at all.
    """
    best = best_for(needs)
    return f"{needs}:{best.key(needs)}" if best is not None else needs


def best_for(needs: Needs) -> MachineFacts | None:
    """The machine at work that does this work best; None where none can do it."""
    rows = _at_work().filter(is_stopped=False).order_by("-started_at").values_list("facts", flat=True)
    able = [facts for facts in map(MachineFacts.from_json, rows) if facts.key(needs)]
    return max(able, key=lambda facts: (facts.code == able[0].code, _worth(facts, needs), facts.key(needs)), default=None)


def _worth(facts: MachineFacts, needs: Needs) -> tuple[Any, ...]:
    """The rank of a machine for this work: higher for a machine that has more of what the work needs."""
    if needs == "checks":
        return (len(facts.words),)
    return (-len(facts.scripts), facts.browser) if needs == "renders" else (facts.reading.count(","), facts.reading)


def queues_of(facts: MachineFacts) -> list[str]:
    """The queues from which a machine takes work: what it can do at all, and what it does as the best one does."""
    able: list[Needs] = [needs for needs in NEEDS if facts.key(needs)]
    return ["default", *able, *(f"{needs}:{facts.key(needs)}" for needs in able)]


NEEDS: tuple[Needs, ...] = ("checks", "renders", "pictures")


def pass_on() -> int:
    """Move work that waits for machines that are gone, or that waits for any, to the best that are at work now. Returns how much."""
    moved = 0
    with connection.cursor() as cursor:
        for needs in NEEDS:
            rows = _at_work().filter(is_stopped=False).values_list("facts", flat=True)
            there = {f"{needs}:{MachineFacts.from_json(row).key(needs)}" for row in rows}
            best = queue_for(needs)
            cursor.execute(
                "UPDATE procrastinate_jobs SET queue_name = %s WHERE status = 'todo' AND queue_name <> %s AND queue_name <> ALL(%s)"
                " AND (queue_name = %s OR starts_with(queue_name, %s))",
                [best, best, sorted(there), needs, f"{needs}:"],
            )
            moved += cursor.rowcount
    return moved
