"""``manage.py worker``: does the work in the background until it is told to stop."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import logging
import signal
from typing import Any

from asgiref.sync import sync_to_async
from django.conf import settings
from django.core.management.base import BaseCommand, CommandError, CommandParser
from django.db import Error
from procrastinate.contrib.django import app
from procrastinate.contrib.django.django_connector import DjangoConnector

from jetwind.apps.jobs import machines
from jetwind.apps.jobs.clock import look_after
from jetwind.apps.jobs.services import drop_broken_connections, give_back_soon, take_up_again
from jetwind.apps.ui.once import forget_old
from jetwind.engines.bounded import prepare

logger = logging.getLogger(__name__)

#: Jobs at once. A new message has three, its checks, renders and links, which a hostile one keeps busy until their limits end; the fourth
#: is another message's.
CONCURRENCY = 4


class Command(BaseCommand):
    """One worker. More of them, on this or other machines, are the way to do more at once."""

    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        """Options."""
        parser.add_argument("--until-idle", action="store_true", help="stop when there is nothing left to do")

    def handle(self, *args: Any, **options: Any) -> None:
        """Run the worker, and beside it the search for what a dead worker or a lost database left behind.

        Raises:
            CommandError: it ended without being asked to, as it does when the database goes away. The launcher starts another.
        """
        _give_memory_back()
        if settings.DESK == "helpers":
            # Its imports take seconds, as the facts of the machine do: both at once.
            prepare()
        settings.MACHINE = machines.publish()
        queues = machines.queues_of(machines.own_facts())
        # The connector that suits requests cannot listen for jobs; the worker needs the asynchronous one.
        connector = app.connector
        assert isinstance(connector, DjangoConnector)
        with app.replace_connector(connector.get_worker_connector()) as worker_app:
            try:
                asyncio.run(self._run(worker_app, queues, wait=not options["until_idle"]))
            finally:
                # The database may be away, which is why the worker ends.
                with contextlib.suppress(Error):
                    drop_broken_connections()
                    machines.seen(settings.MACHINE, is_stopped=True)

    async def _run(self, worker_app: Any, queues: list[str], *, wait: bool) -> None:
        stopping = asyncio.Event()

        def stop() -> None:
            # Tasks give their work back at their next step. Where the worker is killed before, its jobs are picked up as stalled.
            give_back_soon()
            stopping.set()

        for number in (signal.SIGTERM, signal.SIGINT):
            asyncio.get_running_loop().add_signal_handler(number, stop)
        async with worker_app.open_async():
            await _pick_up_stalled(worker_app)
            sweeper = asyncio.create_task(_sweep(worker_app))
            working = asyncio.create_task(
                worker_app.run_worker_async(
                    queues=queues,
                    concurrency=CONCURRENCY,
                    wait=wait,
                    install_signal_handlers=False,
                    fetch_job_polling_interval=2,
                    update_heartbeat_interval=max(settings.STALLED_AFTER_SECONDS / 4, 0.5),
                    stalled_worker_timeout=settings.STALLED_AFTER_SECONDS,
                )
            )
            told = asyncio.create_task(stopping.wait())
            try:
                await asyncio.wait({working, told}, return_when=asyncio.FIRST_COMPLETED)
                if stopping.is_set():
                    working.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await working
            except Exception:
                # The queue or the database put it out, as they do with a worker that was silent for long: its tasks are given back.
                give_back_soon()
                raise
            finally:
                for task in (sweeper, told):
                    task.cancel()
                await asyncio.gather(sweeper, told, return_exceptions=True)
        if wait and not stopping.is_set():
            raise CommandError("The worker ended by itself, as it does when the database goes away.")


def _give_memory_back() -> None:
    """Have memory of more than 128 KB given back to the system as soon as it is free (mallopt(3)); with other C libraries nothing changes.

    Without it glibc raises that limit with each large page that passes through, up to 32 MB, and keeps what lies below.
    """
    with contextlib.suppress(OSError, AttributeError):
        mallopt = ctypes.CDLL(None).mallopt
        mallopt(_MMAP_THRESHOLD, 128 * 1024)
        mallopt(_ARENAS, 2)


#: M_MMAP_THRESHOLD and M_ARENA_MAX of malloc.h.
_MMAP_THRESHOLD, _ARENAS = -3, -8


async def _sweep(worker_app: Any) -> None:
    while True:
        await asyncio.sleep(settings.STALLED_AFTER_SECONDS / 2)
        try:
            await sync_to_async(machines.seen, thread_sensitive=False)(settings.MACHINE)
            await sync_to_async(machines.pass_on, thread_sensitive=False)()
            await sync_to_async(look_after, thread_sensitive=False)()
            await _pick_up_stalled(worker_app)
            for work in await sync_to_async(take_up_again, thread_sensitive=False)():
                logger.warning("%s", work, extra={"action": "work.taken-up-again"})
            await sync_to_async(forget_old, thread_sensitive=False)()
        except Exception:
            # The database is away: what was left behind then is found once it is back.
            logger.exception("nothing could be looked after", extra={"action": "sweep.failed"})


async def _pick_up_stalled(worker_app: Any) -> None:
    """Give jobs whose worker was killed back to the queue; every task may run twice."""
    for job in await worker_app.job_manager.get_stalled_jobs(seconds_since_heartbeat=settings.STALLED_AFTER_SECONDS):
        await worker_app.job_manager.retry_job(job)
