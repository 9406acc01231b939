"""Connections to those addresses alone that the policy lets through."""

from __future__ import annotations

import socket
import ssl
from collections.abc import Sequence
from typing import Any

import aiohttp
from aiohttp.abc import AbstractResolver, ResolveResult

from jetwind.engines.fetch.policy import Policy, Refusal, ip_of
from jetwind.engines.fetch.resolving import Endpoint, Resolver


class Ways:
    """The addresses to which connections may go. Each name is looked up once in a run, and its addresses are judged; every connection is judged again.

    Nobody can turn a name to another address in between, since connections go to the judged addresses and not to the name.
    """

    def __init__(self, policy: Policy, resolver: Resolver) -> None:
        self.policy, self._resolver = policy, resolver
        self._known: dict[str, list[Endpoint] | OSError] = {}
        #: Addresses inside the network that a host of the policy stands for, with their ports.
        self._let_in: set[tuple[str, int]] = set()

    async def endpoints(self, host: str, port: int) -> list[tuple[str, int]]:
        """The IP addresses and ports that a host stands for.

        Raises:
            Refusal: one of them lies inside the network (a host that mixes both is not asked at all), or nobody listens on that port.
            OSError: there is no such name.
        """
        name = host.rstrip(".").lower()
        if name not in self._known:
            literal = ip_of(name)
            try:
                self._known[name] = [Endpoint(str(literal))] if literal is not None else list(await self._resolver.resolve(name))
            except OSError as failure:
                self._known[name] = failure
        found = self._known[name]
        if isinstance(found, OSError):
            raise found
        reached: list[tuple[str, int]] = []
        for endpoint in found:
            ip = ip_of(endpoint.ip)
            if ip is None:
                raise Refusal(f"{name} stands for no IP address")
            self.policy.check_ip(name, port, ip)
            if endpoint.ports and port not in endpoint.ports:
                # What stands behind the other ports of the same machine is none of the name's.
                raise Refusal(f"{name} does not listen on port {port}")
            at = (str(ip), endpoint.ports.get(port, port))
            if not self.policy.is_public(ip):
                self._let_in.add(at)
            reached.append(at)
        return reached

    def open_socket(self, address: tuple[Any, ...]) -> socket.socket:
        """A socket for an address that is about to be connected to.

        Raises:
            Refusal: it lies inside the network and was not let in.
        """
        family, kind, protocol, _, place = address
        ip = ip_of(str(place[0]))
        if ip is None or (not self.policy.is_public(ip) and (str(ip), place[1]) not in self._let_in):
            raise Refusal(f"{place[0]} lies inside the network")
        return socket.socket(family, kind, protocol)


class JudgingResolver(AbstractResolver):
    """The resolver of aiohttp over these ways."""

    def __init__(self, ways: Ways) -> None:
        self._ways = ways

    async def resolve(self, host: str, port: int = 0, family: socket.AddressFamily = socket.AF_UNSPEC) -> list[ResolveResult]:
        """The judged addresses of a host, as aiohttp takes them."""
        return [
            ResolveResult(
                hostname=host,
                host=ip,
                port=at,
                family=socket.AF_INET6 if ":" in ip else socket.AF_INET,
                proto=0,
                flags=socket.AI_NUMERICHOST,
            )
            for ip, at in await self._ways.endpoints(host, port)
        ]

    async def close(self) -> None:
        """Close the resolver, which holds nothing."""


def connector(ways: Ways) -> aiohttp.TCPConnector:
    """A connector of aiohttp whose connections all go the judged ways."""
    return aiohttp.TCPConnector(
        resolver=JudgingResolver(ways),
        socket_factory=ways.open_socket,
        use_dns_cache=False,
        limit=0,
        happy_eyeballs_delay=None,
    )


def trust(authorities: Sequence[str] = ()) -> ssl.SSLContext:
    """The authorities that certificates are held against: the machine's, or only those of the given PEM files."""
    if not authorities:
        return ssl.create_default_context()
    context = ssl.create_default_context(cafile=authorities[0])
    for path in authorities[1:]:
        context.load_verify_locations(path)
    return context
