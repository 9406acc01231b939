"""An SMTP server on loopback that keeps what it is given, by handing it to a function."""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from aiosmtpd.smtp import SMTP

logger = logging.getLogger(__name__)

#: As large as a message that intake takes, with its base64 (RFC 2045 §6.8: four octets for three).
LARGEST_MESSAGE = 42 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Delivery:
    """What one SMTP transaction handed over: the envelope and the message exactly as received."""

    sender: str
    recipients: tuple[str, ...]
    content: bytes


class _Handler:
    def __init__(self, keep: Callable[[Delivery], None]) -> None:
        self._keep = keep

    async def handle_DATA(self, server: SMTP, session: Any, envelope: Any) -> str:  # noqa: N802  aiosmtpd calls it so
        """Keep the message; a failure to do so is a temporary error to the sender (RFC 5321 §4.2.1)."""
        delivery = Delivery(envelope.mail_from or "", tuple(envelope.rcpt_tos), envelope.original_content or b"")
        try:
            await asyncio.to_thread(self._keep, delivery)
        except Exception:
            logger.exception("a message could not be kept", extra={"action": "mailroom.failed"})
            return "451 The Mailroom could not keep the message, try again"
        return "250 Kept in the Mailroom"


class Mailroom:
    """The inbox stand-in. ``port`` 0 takes a free one; it is known after :meth:`start`."""

    def __init__(self, keep: Callable[[Delivery], None], host: str = "127.0.0.1", port: int = 0) -> None:
        self._handler = _Handler(keep)
        self.host = host
        self.port = port
        self._server: asyncio.Server | None = None

    async def start(self) -> None:
        """Listen.

        Raises:
            OSError: the port is taken.
        """
        loop = asyncio.get_running_loop()
        self._server = await loop.create_server(
            lambda: SMTP(self._handler, data_size_limit=LARGEST_MESSAGE, enable_SMTPUTF8=True, hostname="mailroom.jetwind.invalid"),
            self.host,
            self.port,
        )
        self.port = int(self._server.sockets[0].getsockname()[1])

    async def stop(self) -> None:
        """Stop listening."""
        if self._server is not None:
            self._server.close()
            await self._server.wait_closed()

    async def serve_forever(self) -> None:
        """Listen until cancelled."""
        await self.start()
        assert self._server is not None
        await self._server.serve_forever()
