"""An SMTP server on loopback that keeps what it is given, by handing it to a function."""

from __future__ import annotations

import asyncio
import logging
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from aiosmtpd.smtp import SMTP

from jetwind.engines.mail.boxes import LATE_SECONDS, PUT_OFF_TIMES, REPORT_SECONDS, SLOW_SECONDS, Box, box_of, changed, written_about
from jetwind.engines.mail.receiving import results_of, trace_of

logger = logging.getLogger(__name__)
_HOSTNAME = "mailroom.jetwind.invalid"

#: As large as a message that intake takes, with its base64 (RFC 2045 §6.8: four octets for three).
LARGEST_MESSAGE = 42 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class Delivery:
    """The content of one SMTP transaction: the envelope and the message exactly as received."""

    sender: str
    recipients: tuple[str, ...]
    content: bytes


class _Handler:
    def __init__(self, keep: Callable[[Delivery], None], hostname: str) -> None:
        self._keep = keep
        self._hostname = hostname
        #: How often a mail was put off, by sender and recipient; and mails that are kept later.
        self._put_off: Counter[tuple[str, str]] = Counter()
        self.later: set[asyncio.Task[None]] = set()

    async def handle_RCPT(self, server: SMTP, session: Any, envelope: Any, address: str, options: Any) -> str:  # noqa: N802  aiosmtpd calls it so
        """Take a recipient, or answer as its practice mailbox does."""
        box = box_of(address)
        if box is not None and box.name == "is-slow":
            await asyncio.sleep(SLOW_SECONDS)
        if box is not None and box.answer:
            key = (envelope.mail_from or "", address.lower())
            if not box.answer.startswith("4") or self._put_off[key] < PUT_OFF_TIMES:
                self._put_off[key] += 1
                return box.answer
            del self._put_off[key]
        envelope.rcpt_tos.append(address)
        return "250 OK"

    async def handle_DATA(self, server: SMTP, session: Any, envelope: Any) -> str:  # noqa: N802  aiosmtpd calls it so
        """Keep the message; a failure to do so is a temporary error to the sender (RFC 5321 §4.2.1)."""
        boxes = [(recipient, box_of(recipient)) for recipient in envelope.rcpt_tos]
        if any(box is not None and box.name == "drops-connection" for _, box in boxes) and isinstance(server.transport, asyncio.Transport):
            server.transport.abort()
            return "421 4.4.2 Closing"
        try:
            for recipient, box in boxes:
                await self._take(session, envelope, recipient, box)
        except Exception:
            logger.exception("a message could not be kept", extra={"action": "mailroom.failed"})
            return "451 The Mailroom could not keep the message, try again"
        return "250 Kept in the Mailroom"

    async def _take(self, session: Any, envelope: Any, recipient: str, box: Box | None) -> None:
        content = await asyncio.to_thread(self._received, envelope.original_content or b"", box)
        delivery = Delivery(envelope.mail_from or "", (recipient,), trace_of(session, self._hostname) + content)
        if box is not None and (report := await asyncio.to_thread(written_about, box, content, delivery.sender)) is not None:
            self._keep_later(Delivery("", (delivery.sender,), report), REPORT_SECONDS[box.name])
        if box is not None and box.name == "is-late":
            self._keep_later(delivery, LATE_SECONDS)
            return
        for _ in range(box.copies if box is not None else 1):
            await asyncio.to_thread(self._keep, delivery)

    def _received(self, content: bytes, box: Box | None) -> bytes:
        """A mail with the server's word on its signatures, and as its box has it: most boxes change it after that word."""
        if box is not None and box.is_before_word:
            content = changed(box, content)
        content = results_of(content, self._hostname) + content
        return changed(box, content) if box is not None and not box.is_before_word else content

    def _keep_later(self, delivery: Delivery, seconds: float) -> None:
        async def keep() -> None:
            await asyncio.sleep(seconds)
            await asyncio.to_thread(self._keep, delivery)

        task = asyncio.create_task(keep())
        self.later.add(task)
        task.add_done_callback(self.later.discard)


class Mailroom:
    """The inbox stand-in. ``port`` 0 takes a free one; it is known after :meth:`start`."""

    def __init__(self, keep: Callable[[Delivery], None], host: str = "127.0.0.1", port: int = 0) -> None:
        self._handler = _Handler(keep, _HOSTNAME)
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
            lambda: SMTP(self._handler, data_size_limit=LARGEST_MESSAGE, enable_SMTPUTF8=True, hostname=_HOSTNAME),
            self.host,
            self.port,
        )
        self.port = int(self._server.sockets[0].getsockname()[1])

    async def stop(self) -> None:
        """Stop listening."""
        for task in self._handler.later:
            task.cancel()
        if self._server is not None:
            self._server.close()
            await self._server.wait_closed()

    async def serve_forever(self) -> None:
        """Listen until cancelled."""
        await self.start()
        assert self._server is not None
        await self._server.serve_forever()
