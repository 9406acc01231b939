"""Starting, reporting, cancelling and retrying background work."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from django.db import close_old_connections, connection, transaction

from jetwind.apps.jobs.models import Work


class Cancelled(Exception):
    """The person asked for this work to stop."""


def start(kind: str, subject: str, *, doing: str, enqueue: Callable[[int], Any], total: int = 1) -> Work:
    """Open a piece of work and enqueue its task in the same transaction; while one is open, that one is returned.

    The open one is locked until the transaction ends: it cannot be done before what the asker wrote can be read. Whoever looks after
    its end for what was asked meanwhile therefore finds it.
    """
    with transaction.atomic():
        work, is_new = Work.objects.select_for_update().get_or_create(
            kind=kind,
            subject=subject,
            state__in=[Work.State.WAITING, Work.State.RUNNING],
            defaults={"doing": doing, "total": total, "state": Work.State.WAITING},
        )
        if is_new:
            enqueue(work.pk)
    return work


def _drop_broken_connections() -> None:
    """A worker's threads live on: a connection that the database closed in the meantime must not fail every later task."""
    if not connection.in_atomic_block:
        close_old_connections()


def report(work_id: int, *, done: int, total: int, doing: str) -> None:
    """Say how far it is.

    Raises:
        Cancelled: somebody asked for it to stop.
    """
    _drop_broken_connections()
    Work.objects.filter(pk=work_id).update(state=Work.State.RUNNING, done=done, total=total, doing=doing[:120])
    if Work.objects.filter(pk=work_id, cancel_requested=True).exists():
        raise Cancelled


@contextmanager
def carried_out(work_id: int) -> Iterator[None]:
    """Around the body of a task: marks the work done, cancelled or failed by how the body ends."""
    _drop_broken_connections()
    try:
        yield
    except Cancelled:
        Work.objects.filter(pk=work_id).update(state=Work.State.CANCELLED, doing="cancelled")
    except Exception as failure:
        Work.objects.filter(pk=work_id).update(state=Work.State.FAILED, problem=f"{type(failure).__name__}: {failure}"[:2000])
        raise
    else:
        Work.objects.filter(pk=work_id).update(state=Work.State.DONE, doing="done")


def cancel(work: Work) -> None:
    """Ask for work to stop; what waits stops at once, what runs after its current step."""
    Work.objects.filter(pk=work.pk, state=Work.State.WAITING).update(state=Work.State.CANCELLED, doing="cancelled", cancel_requested=True)
    Work.objects.filter(pk=work.pk, state=Work.State.RUNNING).update(cancel_requested=True)


def latest(kind: str, subject: str) -> Work | None:
    """The newest work of a kind for a subject."""
    return Work.objects.filter(kind=kind, subject=subject).order_by("-id").first()
