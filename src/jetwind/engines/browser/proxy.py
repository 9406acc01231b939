"""The browser's only way out: for each page a proxy on loopback that serves the message's own pictures and refuses the rest.

A page could ask for anything; with this server as the only proxy (and loopback not exempt) every request ends here. Pictures that were
fetched from a server are served under their own address; where that is https, the proxy ends the encryption itself (``certificate.py``).
"""

from __future__ import annotations

import asyncio
import re
import ssl
from collections.abc import Mapping

import h11

from jetwind.core.profiles import PARTS_HOST

#: No request for a picture of a message has a longer head than this, in octets.
_LONGEST_HEAD = 64 * 1024
#: Type and subtype (RFC 9110 §8.3.1); a message may claim anything.
_PLAIN_TYPE = re.compile(r"[\w!#$&^.+-]+/[\w!#$&^.+-]+", re.ASCII)
_SILENCE_S = 30


def _written(connection: h11.Connection, status: int, headers: list[tuple[str, str]], body: bytes) -> bytes:
    """An answer with its body as octets."""
    head = h11.Response(status_code=status, headers=[*headers, ("Content-Length", str(len(body)))])
    return b"".join(
        connection.send(event) or b""
        for event in (head, h11.Data(data=body), h11.EndOfMessage())
        if not isinstance(event, h11.Data) or body
    )


class PartsProxy:
    """Serves parts under ``http://parts.jetwind.invalid/<path>``, and those of ``own`` under the addresses that it gives.

    ``secure`` answers a tunnel for https; without ``secure`` the proxy opens no tunnel.
    """

    def __init__(self, secure: ssl.SSLContext | None = None) -> None:
        self._server: asyncio.Server | None = None
        self._parts: Mapping[str, tuple[str, bytes]] = {}
        self._own: Mapping[str, str] = {}
        self._secure = secure
        self.refused = 0
        self.port = 0

    async def start(self) -> int:
        """Listen on a free loopback port and return it."""
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        self.port = int(self._server.sockets[0].getsockname()[1])
        return self.port

    def hold(self, parts: Mapping[str, tuple[str, bytes]], own: Mapping[str, str] | None = None) -> None:
        """Make these parts available, and no others, until :meth:`release`."""
        self._parts, self._own = parts, own or {}

    def release(self) -> None:
        """Forget the parts."""
        self._parts, self._own = {}, {}

    async def stop(self) -> None:
        """Stop listening."""
        if self._server is not None:
            self._server.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            await self._answer(reader, writer)
        except (TimeoutError, OSError, h11.ProtocolError):
            pass
        finally:
            writer.close()

    async def _answer(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Answer requests one after the other; ``within`` is the server that a tunnel leads to, empty outside of one."""
        connection, within = h11.Connection(h11.SERVER, max_incomplete_event_size=_LONGEST_HEAD), ""
        while (request := await self._request(connection, reader)) is not None:
            target = request.target.decode("latin-1")
            if request.method == b"CONNECT" and not within and self._secure is not None and self._has_server(f"https://{target}"):
                writer.write(b"HTTP/1.1 200 Connection established\r\n\r\n")
                await writer.drain()
                await asyncio.wait_for(writer.start_tls(self._secure), _SILENCE_S)
                connection, within = h11.Connection(h11.SERVER, max_incomplete_event_size=_LONGEST_HEAD), f"https://{target}"
                continue
            found = self._find(f"{within}{target}") if request.method == b"GET" else None
            if found is None:
                self.refused += 1
                writer.write(_written(connection, 403, [("Connection", "close")], b""))
                await writer.drain()
                return
            content_type, data = found
            headers = [
                ("Content-Type", content_type if _PLAIN_TYPE.fullmatch(content_type) else "application/octet-stream"),
                # While a page serves one message, what stands under an address stays. Opened as a page (a drawing can be), it runs no script.
                ("Cache-Control", "max-age=600"),
                ("X-Content-Type-Options", "nosniff"),
                ("Content-Security-Policy", "sandbox"),
            ]
            writer.write(_written(connection, 200, headers, data))
            await writer.drain()
            if connection.our_state is not h11.DONE or connection.their_state is not h11.DONE:
                return
            connection.start_next_cycle()

    @staticmethod
    async def _request(connection: h11.Connection, reader: asyncio.StreamReader) -> h11.Request | None:
        """The next request, read to its end; None where the browser closed the connection."""
        request: h11.Request | None = None
        while True:
            event = connection.next_event()
            if event is h11.NEED_DATA:
                connection.receive_data(await asyncio.wait_for(reader.read(16 * 1024), _SILENCE_S))
            elif isinstance(event, h11.Request):
                request = event
                if request.method != b"GET":
                    return request
            elif isinstance(event, h11.EndOfMessage):
                return request
            elif event is h11.PAUSED or isinstance(event, h11.ConnectionClosed):
                return None

    def _has_server(self, address: str) -> bool:
        """Whether a part is served under an address of this server."""
        start = f"{address.removesuffix(':443')}/"
        return any(own.startswith(start) or _over_https(own).startswith(start) for own in self._own)

    def _find(self, target: str) -> tuple[str, bytes] | None:
        prefix = f"http://{PARTS_HOST}/"
        if target.startswith(prefix):
            return self._parts.get(target.removeprefix(prefix))
        scheme, _, rest = target.partition("://")
        server, slash, path = rest.partition("/")
        address = f"{scheme}://{server.removesuffix(':443' if scheme == 'https' else ':80')}{slash}{path}"
        part = self._own.get(address)
        if part is None and scheme == "https":
            # Browsers know servers that are never to be asked over http (HSTS preload), and ask over https by themselves.
            part = self._own.get(f"http{address.removeprefix('https')}")
        return self._parts.get(part) if part is not None else None


def _over_https(address: str) -> str:
    return f"https{address.removeprefix('http')}" if address.startswith("http:") else address
