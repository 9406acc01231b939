"""The way out of the browser that opens landing pages: to hosts of that page alone, over connections that the fetcher's rules let through."""

from __future__ import annotations

import asyncio
import contextlib

import h11

from jetwind.core.links.addresses import parsed, same_organisation
from jetwind.engines.fetch.connecting import Ways
from jetwind.engines.fetch.policy import Refusal, host_of, port_of

_LONGEST_HEAD = 64 * 1024
#: Octets of one page with all that belongs to it.
MOST_OCTETS = 15_000_000
_PIECE = 32 * 1024
_CONNECTING_S = 5.0
_SILENCE_S = 15.0


class Gate:
    """A proxy on loopback for one page at a time. It knows which hosts the page may reach, and counts what comes."""

    def __init__(self, ways: Ways) -> None:
        self._ways = ways
        self._server: asyncio.Server | None = None
        self._own: tuple[str, ...] = ()
        self._others: frozenset[str] = frozenset()
        self._left = 0
        self.refused = 0
        self.reached: list[str] = []

    async def start(self) -> int:
        """Listen on a free loopback port and return it."""
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", 0)
        return int(self._server.sockets[0].getsockname()[1])

    async def stop(self) -> None:
        """Stop listening."""
        if self._server is not None:
            self._server.close()

    def let(self, own: tuple[str, ...], others: tuple[str, ...] = ()) -> None:
        """From now on: hosts of these houses, with everything of the same organisation, and these other hosts by name."""
        self._own, self._others, self._left = own, frozenset(others), MOST_OCTETS

    def _lets(self, host: str) -> bool:
        return host in self._others or any(same_organisation(host, own) for own in self._own)

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            await self._answered(reader, writer)
        except (TimeoutError, OSError, h11.ProtocolError, asyncio.IncompleteReadError):
            pass
        finally:
            writer.close()

    async def _answered(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """One request: a tunnel for https, a request that is passed on for http. The connection is closed after it."""
        connection = h11.Connection(h11.SERVER, max_incomplete_event_size=_LONGEST_HEAD)
        request = await self._request(connection, reader)
        if request is None:
            return None
        is_tunnel = request.method == b"CONNECT"
        target = request.target.decode("latin-1")
        address = parsed(f"https://{target}/" if is_tunnel else target)
        if address is None or request.method not in (b"CONNECT", b"GET", b"HEAD") or not self._lets(host_of(address)):
            return await self._refuse(connection, writer)
        try:
            self._ways.policy.check(address)
            places = await self._ways.endpoints(host_of(address), port_of(address))
            there, back = await asyncio.wait_for(self._connected(places), _CONNECTING_S)
        except (Refusal, OSError, TimeoutError):
            return await self._refuse(connection, writer)
        self.reached.append(host_of(address))
        try:
            if is_tunnel:
                writer.write(b"HTTP/1.1 200 Connection established\r\n\r\n")
            else:
                path = f"{address.path}{'?' + address.query if address.query else ''}"
                back.write(_passed_on(request, path, address.host + (f":{address.port}" if address.port else "")))
            await asyncio.gather(self._carry(reader, back, counts=False), self._carry(there, writer, counts=True))
        finally:
            back.close()
        return None

    async def _connected(self, places: list[tuple[str, int]]) -> tuple[asyncio.StreamReader, asyncio.StreamWriter]:
        failure: OSError | None = None
        for ip, port in places:
            # The fetcher's own function makes the socket, so that it judges the connected address once more.
            family = 10 if ":" in ip else 2
            opened = self._ways.open_socket((family, 1, 6, "", (ip, port)))
            opened.setblocking(False)
            try:
                await asyncio.get_running_loop().sock_connect(opened, (ip, port))
                return await asyncio.open_connection(sock=opened)
            except OSError as wrong:
                opened.close()
                failure = wrong
        raise failure or OSError("no address")

    async def _carry(self, source: asyncio.StreamReader, sink: asyncio.StreamWriter, *, counts: bool) -> None:
        """Octets from one side to the other, until one ends, is silent for long, or more has come than a page may bring."""
        with contextlib.suppress(OSError, TimeoutError):
            while data := await asyncio.wait_for(source.read(_PIECE), _SILENCE_S):
                if counts:
                    self._left -= len(data)
                    if self._left < 0:
                        break
                sink.write(data)
                await sink.drain()
        sink.close()

    async def _refuse(self, connection: h11.Connection, writer: asyncio.StreamWriter) -> None:
        self.refused += 1
        for event in (h11.Response(status_code=403, headers=[("Content-Length", "0"), ("Connection", "close")]), h11.EndOfMessage()):
            writer.write(connection.send(event) or b"")
        await writer.drain()

    @staticmethod
    async def _request(connection: h11.Connection, reader: asyncio.StreamReader) -> h11.Request | None:
        while True:
            event = connection.next_event()
            if event is h11.NEED_DATA:
                connection.receive_data(await asyncio.wait_for(reader.read(_PIECE), _SILENCE_S))
            elif isinstance(event, h11.Request):
                return event
            else:
                return None


#: What a browser says of itself goes along; who it was, and where it came from, does not.
_KEPT = frozenset({b"accept", b"accept-encoding", b"accept-language", b"user-agent", b"range"})


def _passed_on(request: h11.Request, path: str, host: str) -> bytes:
    kept = [(name, value) for name, value in request.headers if name in _KEPT]
    headers = [(b"Host", host.encode("ascii", "replace")), (b"Connection", b"close"), *kept]
    return h11.Connection(h11.CLIENT).send(h11.Request(method=request.method, target=path, headers=headers)) or b""
