"""The browser's only way out: a proxy on loopback that serves the message's own pictures and refuses the rest.

A page could ask for anything; with this server as the only proxy (and loopback not exempt) every request ends here.
"""

from __future__ import annotations

import asyncio
import secrets
from collections.abc import Mapping

from jetwind.core.profiles import PARTS_HOST

_REFUSED = b"HTTP/1.1 403 Forbidden\r\nContent-Length: 0\r\nConnection: close\r\n\r\n"
#: No picture of a message needs a longer request line than this, in octets.
_LONGEST_LINE = 4096


class PartsProxy:
    """Serves parts under ``http://parts.jetwind.invalid/<digest>``; several pages may hold parts at once."""

    def __init__(self) -> None:
        self._server: asyncio.Server | None = None
        self._held: dict[str, Mapping[str, tuple[str, bytes]]] = {}
        self.refused = 0
        self.port = 0

    async def start(self) -> int:
        """Listen on a free loopback port and return it."""
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", 0, limit=64 * 1024)
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
        try:
            while True:
                line = await asyncio.wait_for(reader.readline(), 30)
                if not line or len(line) > _LONGEST_LINE:
                    break
                while (header := await asyncio.wait_for(reader.readline(), 30)) not in (b"\r\n", b"\n", b""):
                    if len(header) > 64 * 1024:
                        return
                method, _, rest = line.decode("latin-1").partition(" ")
                found = self._find(rest.split(" ")[0]) if method == "GET" else None
                if found is None:
                    self.refused += 1
                    writer.write(_REFUSED)
                    await writer.drain()
                    break
                content_type, data = found
                head = (
                    f"HTTP/1.1 200 OK\r\nContent-Type: {content_type}\r\nContent-Length: {len(data)}\r\n"
                    # Named by its digest, a part never changes. Opened as a page of its own (a drawing can be), it runs no script.
                    "Cache-Control: max-age=600\r\nX-Content-Type-Options: nosniff\r\nContent-Security-Policy: sandbox\r\n\r\n"
                )
                writer.write(head.encode("latin-1", "replace") + data)
                await writer.drain()
        except (TimeoutError, ConnectionError, asyncio.LimitOverrunError, ValueError):
            pass
        finally:
            writer.close()

    def _find(self, target: str) -> tuple[str, bytes] | None:
        prefix = f"http://{PARTS_HOST}/"
        if not target.startswith(prefix):
            return None
        name = target.removeprefix(prefix)
        return next((parts[name] for parts in self._held.values() if name in parts), None)
