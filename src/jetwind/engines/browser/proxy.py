"""The browser's only way out: a proxy on loopback that serves the message's own pictures and refuses the rest.

A page could ask for anything; with this server as the only proxy (and loopback not exempt) every request ends here.
"""

from __future__ import annotations

import asyncio
import re
import secrets
from collections.abc import Mapping

import h11

from jetwind.core.profiles import PARTS_HOST

#: No request for a picture of a message has a longer head than this, in octets.
_LONGEST_HEAD = 64 * 1024
#: Type and subtype (RFC 9110 §8.3.1); a message may claim anything.
_PLAIN_TYPE = re.compile(r"[\w!#$&^.+-]+/[\w!#$&^.+-]+", re.ASCII)


def _written(connection: h11.Connection, status: int, headers: list[tuple[str, str]], body: bytes) -> bytes:
    """An answer with its body as octets."""
    head = h11.Response(status_code=status, headers=[*headers, ("Content-Length", str(len(body)))])
    return b"".join(
        connection.send(event) or b""
        for event in (head, h11.Data(data=body), h11.EndOfMessage())
        if not isinstance(event, h11.Data) or body
    )


class PartsProxy:
    """Serves parts under ``http://parts.jetwind.invalid/<digest>``; several pages may hold parts at once."""

    def __init__(self) -> None:
        self._server: asyncio.Server | None = None
        self._held: dict[str, Mapping[str, tuple[str, bytes]]] = {}
        self.refused = 0
        self.port = 0

    async def start(self) -> int:
        """Listen on a free loopback port and return it."""
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        self.port = int(self._server.sockets[0].getsockname()[1])
        return self.port

    def hold(self, parts: Mapping[str, tuple[str, bytes]]) -> str:
        """Make parts available until :meth:`release`; returns the key to give back."""
        key = secrets.token_hex(8)
        self._held[key] = parts
        return key

    def release(self, key: str) -> None:
        """Forget the parts of a page."""
        self._held.pop(key, None)

    async def stop(self) -> None:
        """Stop listening."""
        if self._server is not None:
            self._server.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        connection = h11.Connection(h11.SERVER, max_incomplete_event_size=_LONGEST_HEAD)
        try:
            while (request := await self._request(connection, reader)) is not None:
                found = self._find(request.target.decode("latin-1")) if request.method == b"GET" else None
                if found is None:
                    self.refused += 1
                    writer.write(_written(connection, 403, [("Connection", "close")], b""))
                    await writer.drain()
                    break
                content_type, data = found
                headers = [
                    ("Content-Type", content_type if _PLAIN_TYPE.fullmatch(content_type) else "application/octet-stream"),
                    # Named by its digest, a part never changes. Opened as a page of its own (a drawing can be), it runs no script.
                    ("Cache-Control", "max-age=600"),
                    ("X-Content-Type-Options", "nosniff"),
                    ("Content-Security-Policy", "sandbox"),
                ]
                writer.write(_written(connection, 200, headers, data))
                await writer.drain()
                if connection.our_state is not h11.DONE or connection.their_state is not h11.DONE:
                    break
                connection.start_next_cycle()
        except (TimeoutError, ConnectionError, h11.ProtocolError):
            pass
        finally:
            writer.close()

    @staticmethod
    async def _request(connection: h11.Connection, reader: asyncio.StreamReader) -> h11.Request | None:
        """The next request, read to its end; None where the browser closed the connection."""
        request: h11.Request | None = None
        while True:
            event = connection.next_event()
            if event is h11.NEED_DATA:
                connection.receive_data(await asyncio.wait_for(reader.read(16 * 1024), 30))
            elif isinstance(event, h11.Request):
                request = event
                if request.method != b"GET":
                    return request
            elif isinstance(event, h11.EndOfMessage):
                return request
            elif event is h11.PAUSED or isinstance(event, h11.ConnectionClosed):
                return None

    def _find(self, target: str) -> tuple[str, bytes] | None:
        prefix = f"http://{PARTS_HOST}/"
        if not target.startswith(prefix):
            return None
        name = target.removeprefix(prefix)
        return next((parts[name] for parts in self._held.values() if name in parts), None)
