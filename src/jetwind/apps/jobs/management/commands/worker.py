"""``manage.py worker``: does the work in the background until it is told to stop."""

from __future__ import annotations

import asyncio
import contextlib
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandParser
from procrastinate.contrib.django import app
from procrastinate.contrib.django.django_connector import DjangoConnector

#: Jobs at once: two may wait for a browser that a hostile message keeps busy while a third message gets its pictures.
CONCURRENCY = 3


class Command(BaseCommand):
    """One worker. More of them, on this or other machines, are the way to do more at once."""

    help = __doc__

    def add_arguments(self, parser: CommandParser) -> None:
        """Options."""
        parser.add_argument("--until-idle", action="store_true", help="stop when there is nothing left to do")

    def handle(self, *args: Any, **options: Any) -> None:
        """Run the worker, and beside it the search for jobs that a dead worker left behind."""
        # The connector that suits requests cannot listen for jobs; the worker needs the asynchronous one.
        connector = app.connector
        assert isinstance(connector, DjangoConnector)
        with app.replace_connector(connector.get_worker_connector()) as worker_app:
            asyncio.run(self._run(worker_app, wait=not options["until_idle"]))

    async def _run(self, worker_app: Any, *, wait: bool) -> None:
        async with worker_app.open_async():
            await _pick_up_stalled(worker_app)
            sweeper = asyncio.create_task(_sweep(worker_app))
            try:
                await worker_app.run_worker_async(
                    concurrency=CONCURRENCY,
                    wait=wait,
                    install_signal_handlers=True,
                    fetch_job_polling_interval=2,
                    update_heartbeat_interval=max(settings.STALLED_AFTER_SECONDS / 4, 0.5),
                    stalled_worker_timeout=settings.STALLED_AFTER_SECONDS,
                )
            finally:
                sweeper.cancel()
                with contextlib.suppress(asyncio.CancelledError):
                    await sweeper


async def _sweep(worker_app: Any) -> None:
    while True:
        await asyncio.sleep(settings.STALLED_AFTER_SECONDS / 2)
        await _pick_up_stalled(worker_app)


async def _pick_up_stalled(worker_app: Any) -> None:
    """Give jobs whose worker was killed back to the queue; every task may run twice."""
    for job in await worker_app.job_manager.get_stalled_jobs(seconds_since_heartbeat=settings.STALLED_AFTER_SECONDS):
        await worker_app.job_manager.retry_job(job)
