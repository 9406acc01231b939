"""Links that answer after 20 ms, against the ideal: fifty on fifty hosts, and two hundred on three.

PYTHONPATH=src:. .jetwind/venv/bin/python -m benchmarks.fetching
"""

from __future__ import annotations

import asyncio
import math
import multiprocessing
import socket
import time
from multiprocessing.connection import Connection

import aiohttp
import aiohttp.abc
from aiohttp import web
from aiohttp.abc import ResolveResult

from benchmarks.common import compare
from jetwind.engines.fetch import Endpoint, FakeResolver, Fetcher, Policy, Wanted
from jetwind.engines.fetch.fetcher import fetch_each

_DELAY = 0.020
_GOAL = 2
_AT_ONCE_OF_A_HOST = 6


def _serve(said: Connection) -> None:
    async def answer(request: web.Request) -> web.Response:
        await asyncio.sleep(_DELAY)
        return web.Response(text="<title>A</title><h1>A</h1>", content_type="text/html")

    async def run() -> None:
        app = web.Application()
        app.router.add_route("*", "/{path:.*}", answer)
        runner = web.AppRunner(app, access_log=None)
        await runner.setup()
        await web.TCPSite(runner, "127.0.0.1", 0, backlog=512).start()
        said.send(int(runner.addresses[0][1]))
        await asyncio.sleep(3600)

    asyncio.run(run())


async def _fetched(port: int, addresses: list[str], *, reads: bool) -> None:
    hosts = {address.split("/")[2] for address in addresses}
    names = FakeResolver({host: [Endpoint("127.0.0.1", {80: port})] for host in hosts})
    async with Fetcher(Policy(frozenset(hosts)), names, per_host=_AT_ONCE_OF_A_HOST, at_once=64) as fetcher:
        came: list[object] = []
        await fetch_each(fetcher, [Wanted(address, reads=reads) for address in addresses], came.append)
        assert len(came) == len(addresses)


class _Named(aiohttp.abc.AbstractResolver):
    """Every name is this machine's."""

    def __init__(self, port: int) -> None:
        self._port = port

    async def resolve(self, host: str, port: int = 0, family: socket.AddressFamily = socket.AF_INET) -> list[ResolveResult]:
        return [{"hostname": host, "host": "127.0.0.1", "port": self._port, "family": socket.AF_INET, "proto": 0, "flags": 0}]

    async def close(self) -> None:
        """Nothing to close."""


async def _bare(port: int, addresses: list[str]) -> None:
    """The library alone, which judges nothing and keeps nothing."""

    async def one(session: aiohttp.ClientSession, address: str) -> None:
        async with session.head(address, allow_redirects=False) as answer:
            assert answer.status == 200

    async with aiohttp.ClientSession(connector=aiohttp.TCPConnector(resolver=_Named(port), limit=64)) as session:
        await asyncio.gather(*(one(session, address) for address in addresses))


def main() -> None:
    """Print the rows. The ideal is what the server's delays add up to where each slot is always busy."""
    mine, theirs = multiprocessing.Pipe()
    server = multiprocessing.Process(target=_serve, args=(theirs,), daemon=True)
    server.start()
    port = mine.recv()
    one_each = [f"http://h{number}.kiln.org/" for number in range(50)]
    few_hosts = [f"http://h{number % 3}.kiln.org/{number}" for number in range(200)]
    rounds = math.ceil(math.ceil(200 / 3) / _AT_ONCE_OF_A_HOST)
    for name, addresses, reads, ideal in (
        ("50 links on 50 hosts, seen to be there", one_each, False, _DELAY),
        ("50 links on 50 hosts, their pages read", one_each, True, 2 * _DELAY),
        ("200 links on 3 hosts, six at once of each", few_hosts, False, rounds * _DELAY),
    ):

        def own(addresses: list[str] = addresses, reads: bool = reads) -> None:
            asyncio.run(_fetched(port, addresses, reads=reads))

        compare(name, "the server's delays", lambda ideal=ideal: time.sleep(ideal), own, _GOAL)
    bare = lambda: asyncio.run(_bare(port, [f"http://h{number}.kiln.org:{port}/" for number in range(50)]))  # noqa: E731
    compare("for comparison: the library alone, 50 links", "the server's delays", lambda: time.sleep(_DELAY), bare, _GOAL)
    server.terminate()


if __name__ == "__main__":
    main()
