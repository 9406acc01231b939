"""Names to IP addresses: by the system, by the practice field's own directory, and by a fake."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Protocol

from jetwind.core.errors import JetwindError

#: Seconds that looking one name up may take.
PATIENCE_S = 5.0


#: A name that every working name server knows: that of a root server (IANA, "Root Servers"). It is looked up, never connected to.
_KNOWN_EVERYWHERE = "a.root-servers.net"


class NoWayOut(JetwindError, OSError):
    """Name servers that know no name at all: it is this machine that has no way out, and no name that is wrong."""


@dataclass(frozen=True, slots=True)
class Endpoint:
    """An IP address that a name stands for. ``ports`` maps the port of an address to the one that really listens (practice field).

    Where ``ports`` names any, the name has no other.
    """

    ip: str
    ports: Mapping[int, int] = field(default_factory=dict)


class Resolver(Protocol):
    """Looks names up."""

    async def resolve(self, host: str) -> Sequence[Endpoint]:
        """The endpoints of a name.

        Raises:
            OSError: there is no such name, or nobody says.
        """


class SystemResolver:
    """The system's own, over ``getaddrinfo``."""

    def __init__(self) -> None:
        self._knows_names: bool | None = None

    async def resolve(self, host: str) -> Sequence[Endpoint]:
        """As the protocol says; a name that takes longer than five seconds is none.

        Raises:
            NoWayOut: not even a name that everybody knows is known.
        """
        try:
            found = await self._looked_up(host)
        except OSError:
            if self._knows_names is None:
                try:
                    self._knows_names = bool(await self._looked_up(_KNOWN_EVERYWHERE))
                except OSError:
                    self._knows_names = False
            if not self._knows_names:
                raise NoWayOut("no name server answers for any name: this machine may have no way out") from None
            raise
        self._knows_names = True
        return found

    @staticmethod
    async def _looked_up(host: str) -> list[Endpoint]:
        if len(host) > 253:
            raise socket.gaierror(socket.EAI_NONAME, "the name is too long")
        try:
            looking = asyncio.get_running_loop().getaddrinfo(host, None, type=socket.SOCK_STREAM)
            found = await asyncio.wait_for(looking, PATIENCE_S)
        except TimeoutError:
            raise socket.gaierror(socket.EAI_AGAIN, "nobody says in time") from None
        except UnicodeError as wrong:
            raise socket.gaierror(socket.EAI_NONAME, str(wrong)) from wrong
        return [Endpoint(str(address[0])) for *_, address in found]


@dataclass(frozen=True)
class PracticeResolver:
    """Names of the practice field by its directory, everything else by another resolver.

    ``domains`` are the practice field's; of them only the names in ``hosts`` exist. A host with None has nobody listening.
    """

    domains: frozenset[str]
    hosts: Mapping[str, Endpoint]
    others: Resolver = field(default_factory=SystemResolver)

    async def resolve(self, host: str) -> Sequence[Endpoint]:
        """As the protocol says."""
        name = host.rstrip(".").lower()
        if not any(name == domain or name.endswith(f".{domain}") for domain in self.domains):
            return await self.others.resolve(host)
        if name not in self.hosts:
            raise socket.gaierror(socket.EAI_NONAME, "the practice field has no such name")
        return [self.hosts[name]]


class FakeResolver:
    """Names as a test gives them: for each a row of answers, one for each time it is asked, the last one from then on."""

    def __init__(self, names: Mapping[str, Sequence[str | Endpoint]], *, then: Mapping[str, Sequence[Sequence[str]]] | None = None) -> None:
        self.names, self.then = names, dict(then or {})
        self.asked: list[str] = []

    async def resolve(self, host: str) -> Sequence[Endpoint]:
        """As the protocol says."""
        name = host.rstrip(".").lower()
        times = self.asked.count(name)
        self.asked.append(name)
        found = self.then[name][min(times, len(self.then[name]) - 1)] if name in self.then else self.names.get(name)
        if found is None:
            raise socket.gaierror(socket.EAI_NONAME, "no such name")
        return [one if isinstance(one, Endpoint) else Endpoint(one) for one in found]
