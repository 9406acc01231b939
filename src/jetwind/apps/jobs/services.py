"""Starting, reporting, cancelling and retrying background work."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from datetime import datetime, timedelta
from typing import Any, TypeVar

from django.db import InterfaceError, InternalError, OperationalError, close_old_connections, connection, transaction
from django.db.models import QuerySet
from django.db.models.functions import JSONObject
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.contrib.django.django_connector import DjangoConnector
from procrastinate.contrib.django.models import ProcrastinateJob
from procrastinate.jobs import JobDeferrer
from procrastinate.manager import JobManager

from jetwind.apps.jobs.machines import NEEDS, queue_for
from jetwind.apps.jobs.models import OPEN, Work
from jetwind.core.errors import JetwindError
from jetwind.engines.machine import Needs

Thing = TypeVar("Thing")

OUR_FAULT = "Jetwind failed at it; the worker's log says how"
#: How often a worker takes interrupted work up again; after that the work waits for a person.
MOST_INTERRUPTIONS = 5


class Cancelled(JetwindError):
    """The person asked for this work to stop, or it is over already: another job of it came to its end first."""


class GivenBack(JetwindError):
    """The worker is being stopped; another goes on with the work."""


class Failed(JetwindError):
    """The work cannot be done, for a reason that people are told: the text of this."""


class PutOff(JetwindError):
    """The rest of the work is to be done later; ``doing`` says what it waits for."""

    def __init__(self, until: datetime, doing: str) -> None:
        super().__init__(doing)
        self.until, self.doing = until, doing


_stopping = threading.Event()


def give_back_soon() -> None:
    """Have every task of this process give its work back at its next step."""
    _stopping.set()


def start(kind: str, subject: str, *, doing: str, enqueue: Callable[[int], int], total: int = 1) -> Work:
    """Open a piece of work and enqueue its task in the same transaction; while one is open, that one is returned.

    ``enqueue`` is given the work's number and returns the job's.

    The open one is locked until the transaction ends: it cannot be done before what the asker wrote can be read. A task that looks after
    its end for what was asked meanwhile therefore finds it.
    """
    with transaction.atomic():
        work, is_new = Work.objects.select_for_update(no_key=True).get_or_create(
            kind=kind,
            subject=subject,
            state__in=OPEN,
            defaults={"doing": doing, "total": total, "state": Work.State.WAITING},
        )
        if is_new:
            work.job_id = enqueue(work.pk)
            work.save(update_fields=["job_id"])
    return work


#: Work on large messages, and on those that took long before: one of it at a time, so that the other places of a worker stay free for
#: small messages.
SLOW = "slow"


def defer(task: str, *, is_slow: bool = False, needs: Needs | None = None, **arguments: Any) -> int:
    """Enqueue a task by its name, in the caller's transaction; returns the number of its job. ``is_slow`` has it wait for others like it.

    ``needs`` says which facts of a machine its answer hangs on: the machines that have the best of these take it.
    """
    return _enqueued(app.configure_task(task, lock=SLOW if is_slow else None, queue=_queue_for(needs)), arguments)


def _enqueued(deferrer: JobDeferrer, arguments: Mapping[str, Any]) -> int:
    """Enqueue over Django's own connection.

    A worker process gives the app a connection of its own. Over that one the job would be there before the transaction that asked for
    it is committed: another worker would find no work for it, and call it cancelled.
    """
    deferrer.job_manager = JobManager(DjangoConnector(alias=connection.alias))
    return int(deferrer.defer(**arguments))


def drop_broken_connections() -> None:
    """A worker's threads live on: a connection that the database closed in the meantime must not fail every later task."""
    if not connection.in_atomic_block:
        close_old_connections()


def report(work_id: int, *, done: int, total: int, doing: str) -> None:
    """Tell how far the work is.

    Raises:
        Cancelled: somebody asked for it to stop, or it is over already.
        GivenBack: the worker is being stopped.
    """
    drop_broken_connections()
    if _stopping.is_set():
        raise GivenBack
    is_open = _open(work_id).update(state=Work.State.RUNNING, done=done, total=total, doing=doing[:120])
    if not is_open or Work.objects.filter(pk=work_id, cancel_requested=True).exists():
        raise Cancelled


def _open(work_id: int) -> QuerySet[Work]:
    """A piece of work while it goes on; ended work keeps the state in which it ended."""
    return Work.objects.filter(pk=work_id, state__in=OPEN)


@contextmanager
def carried_out(work_id: int) -> Iterator[None]:
    """Around the body of a task: marks the work done, cancelled or failed by how the body ends.

    Work that the database went away from stays open: it is taken up again by :func:`take_up_again`.
    """
    drop_broken_connections()
    try:
        yield
    except Cancelled:
        _open(work_id).update(state=Work.State.CANCELLED, doing="cancelled")
    except GivenBack:
        with transaction.atomic():
            work = Work.objects.select_for_update(no_key=True).get(pk=work_id)
            job = ProcrastinateJob.objects.filter(pk=work.job_id).first()
            if work.is_open and job is not None:
                _enqueue_again(work, job)
                work.save()
    except PutOff as rest:
        with transaction.atomic():
            work = Work.objects.select_for_update(no_key=True).get(pk=work_id)
            job = ProcrastinateJob.objects.filter(pk=work.job_id).first()
            if work.is_open and job is not None:
                _enqueue_again(work, job, at=rest.until)
                work.doing = rest.doing[:120]
                work.save()
    except Failed as failure:
        _open(work_id).update(state=Work.State.FAILED, problem=str(failure))
    except (OperationalError, InterfaceError, InternalError):
        # The database answers the last of these to a session that was paused in the middle of a transaction and was ended for that.
        raise
    except Exception:
        if _stopping.is_set():
            # What fails while its process ends around it is no failure of its own: it is taken up again by ``take_up_again``.
            raise
        # The queue logs the failure with its traceback; people are told what to do.
        _open(work_id).update(state=Work.State.FAILED, problem=OUR_FAULT)
        raise
    else:
        _open(work_id).update(state=Work.State.DONE, doing="done")


def cancel(work: Work) -> None:
    """Ask for work to stop; what waits stops at once, what runs after its current step."""
    Work.objects.filter(pk=work.pk, state=Work.State.WAITING).update(state=Work.State.CANCELLED, doing="cancelled", cancel_requested=True)
    Work.objects.filter(pk=work.pk, state=Work.State.RUNNING).update(cancel_requested=True)


def take_up_again() -> list[Work]:
    """Open work whose job is over is taken up again, or stopped with a reason where that happened too often. Returns that work.

    A job can end without its work: the database went away before the end could be written down, or somebody deleted it.
    """
    drop_broken_connections()
    found = []
    for number in Work.objects.filter(state__in=OPEN).values_list("pk", flat=True):
        with transaction.atomic():
            work = Work.objects.select_for_update(no_key=True).get(pk=number)
            job = ProcrastinateJob.objects.filter(pk=work.job_id).first()
            if not work.is_open or (job is not None and job.status in ("todo", "doing")):
                continue
            if work.cancel_requested:
                work.state, work.doing = Work.State.CANCELLED, "cancelled"
            elif job is None or work.interruptions >= MOST_INTERRUPTIONS:
                work.state, work.problem = Work.State.FAILED, f"It was interrupted {work.interruptions + 1} times"
            else:
                work.interruptions += 1
                _enqueue_again(work, job)
            work.save()
            found.append(work)
    return found


#: How long work that is over is remembered, besides the newest of its kind for its subject; and jobs of the queue that have ended.
REMEMBERED = timedelta(days=7)


def sweep() -> tuple[int, int]:
    """Forget work that was over long ago, but for the newest of each kind for a subject, and jobs that ended then. Returns how many."""
    before = timezone.now() - REMEMBERED
    with transaction.atomic(), connection.cursor() as cursor:
        cursor.execute(
            "DELETE FROM jobs_work AS old WHERE state IN ('done', 'failed', 'cancelled') AND changed_at < %s AND EXISTS"
            " (SELECT 1 FROM jobs_work AS newer WHERE newer.subject = old.subject AND newer.kind = old.kind AND newer.id > old.id)",
            [before],
        )
        works = cursor.rowcount
        cursor.execute(
            "DELETE FROM procrastinate_jobs AS job WHERE status NOT IN ('todo', 'doing', 'aborting')"
            " AND NOT EXISTS (SELECT 1 FROM procrastinate_events AS event WHERE event.job_id = job.id AND event.at >= %s)"
            " AND NOT EXISTS (SELECT 1 FROM jobs_work AS work WHERE work.job_id = job.id AND work.state IN ('waiting', 'running'))",
            [before],
        )
        return works, cursor.rowcount


def _enqueue_again(work: Work, job: ProcrastinateJob, *, at: datetime | None = None) -> None:
    """The same task once more, as a job of its own, now or at a time."""
    work.state, work.doing = Work.State.WAITING, "taken up again after an interruption"
    needs = _needs_of(job.queue_name)
    if at is not None and job.lock == SLOW:
        # A job that waits for its time would hold its lock all the while: the lock is taken when the time has come.
        later = app.configure_task("jobs.take_up_slow", priority=job.priority, schedule_at=at)
        arguments = {"task": job.task_name, "arguments": job.args, "work_id": work.pk, "needs": needs}
        work.job_id = _enqueued(later, arguments)
        return
    work.job_id = _enqueued(
        app.configure_task(
            job.task_name, priority=job.priority, lock=SLOW if job.lock == SLOW else None, schedule_at=at, queue=_queue_for(needs)
        ),
        job.args,
    )


def _needs_of(queue: str) -> Needs | None:
    """Which facts of a machine the work of a queue hangs on."""
    return next((needs for needs in NEEDS if queue.partition(":")[0] == needs), None)


def _queue_for(needs: Needs | None) -> str:
    return queue_for(needs) if needs is not None else "default"


def take_up_slow(task: str, arguments: Mapping[str, Any], work_id: int, priority: int, needs: Needs | None = None) -> None:
    """Enqueue slow work whose time has come, to wait for others like it; work that is over meanwhile is left alone."""
    with transaction.atomic():
        work = Work.objects.select_for_update(no_key=True).get(pk=work_id)
        if work.is_open:
            work.job_id = _enqueued(app.configure_task(task, priority=priority, lock=SLOW, queue=_queue_for(needs)), arguments)
            work.save(update_fields=["job_id"])


def hurry(work: Work) -> None:
    """Have work that waits for its time carried out now; the job that waits finds nothing left to do."""
    with transaction.atomic():
        locked = Work.objects.select_for_update(no_key=True).get(pk=work.pk)
        job = ProcrastinateJob.objects.filter(pk=locked.job_id, status="todo", scheduled_at__gt=timezone.now()).first()
        if locked.is_open and job is not None:
            _enqueue_again(locked, job)
            locked.save()


def each(work_id: int, things: Sequence[Thing], named: Callable[[Thing], str]) -> Iterator[Thing]:
    """Things that a work goes through one by one, told as its progress.

    Raises:
        Cancelled, GivenBack: as ``report`` does.
    """
    for number, thing in enumerate(things):
        report(work_id, done=number, total=len(things), doing=named(thing)[:80])
        yield thing
    report(work_id, done=len(things), total=len(things), doing="done")


_SHOWN = ("kind", "state", "done", "total", "doing", "problem")


def latest_of_each(subject: Any) -> QuerySet[Work, dict[str, Any]]:
    """The newest work of every kind for a subject, which may be an expression of another query, as tables show it: a table for each."""
    newest = Work.objects.filter(subject=subject).order_by("kind", "-id").distinct("kind")
    return newest.values_list(JSONObject(**{name: name for name in _SHOWN}), flat=True)


def by_kind(rows: Iterable[dict[str, Any]]) -> dict[str, Work]:
    """Work from what ``latest_of_each`` gives, by kind; to be shown, not to be saved."""
    return {row["kind"]: Work(**row) for row in rows}


def latest(kind: str, subject: str) -> Work | None:
    """The newest work of a kind for a subject."""
    return Work.objects.filter(kind=kind, subject=subject).order_by("-id").first()


def latest_by_subject(kind: str, subjects: Iterable[str]) -> dict[str, Work]:
    """The newest work of a kind for each of several subjects, in one question."""
    newest = Work.objects.filter(kind=kind, subject__in=list(subjects)).order_by("subject", "-id").distinct("subject")
    return {work.subject: work for work in newest}
