"""``manage.py mailroom``: the inbox stand-in that test sends arrive in, until it is told to stop."""

from __future__ import annotations

import asyncio
import contextlib
import signal
from typing import Any

from django.conf import settings
from django.core.management.base import BaseCommand, CommandError
from django.db import close_old_connections

from jetwind.apps.proofs.services import keep_arrival
from jetwind.engines.mail import Delivery, Mailroom


def _keep(delivery: Delivery) -> None:
    close_old_connections()
    keep_arrival(delivery)


class Command(BaseCommand):
    """Real SMTP on loopback; every message it takes is kept and shown under Mailroom."""

    help = __doc__

    def handle(self, *args: Any, **options: Any) -> None:
        """Serve until SIGTERM or Ctrl-C."""
        with contextlib.suppress(KeyboardInterrupt):
            asyncio.run(self._serve())

    async def _serve(self) -> None:
        room = Mailroom(_keep, settings.TEST_SMTP_HOST, settings.TEST_SMTP_PORT)
        try:
            await room.start()
        except OSError as failure:
            raise CommandError(f"The Mailroom cannot listen on {room.host}:{room.port}: {failure.strerror}") from failure
        self.stdout.write(f"Mailroom on {room.host}:{room.port}")
        self.stdout.flush()
        stop = asyncio.Event()
        asyncio.get_running_loop().add_signal_handler(signal.SIGTERM, stop.set)
        await stop.wait()
        await room.stop()
