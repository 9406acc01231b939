"""Looking up the IP addresses of names: by the system, by the practice field's own directory, and by a fake."""

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
    """Raised where the name servers know no name at all: then this machine has no way out, and the name is not to blame."""


@dataclass(frozen=True, slots=True)
class Endpoint:
    """An IP address that a name stands for. ``ports`` maps the port of an address to the one that really listens (practice field).

    A name with such a table has no other ports.
    """

    ip: str
    ports: Mapping[int, int] = field(default_factory=dict)


class Resolver(Protocol):
    """The interface of a resolver of names."""

    async def resolve(self, host: str) -> Sequence[Endpoint]:
        """The endpoints of a name.

        Raises:
            OSError: there is no such name, or no name server answers.
        """


class SystemResolver:
    """The system's own resolver, by ``getaddrinfo``."""

    def __init__(self) -> None:
        self._knows_names: bool | None = None

    async def resolve(self, host: str) -> Sequence[Endpoint]:
        """The endpoints of a name; a name for which no answer comes within five seconds counts as unknown.

        Raises:
            NoWayOut: the name servers do not even know a name that every name server knows.
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
    """Finds names of the practice field in its directory, and all other names by another resolver.

    ``domains`` are those of the practice field; of their names only those in ``hosts`` exist.
    """

    domains: frozenset[str]
    hosts: Mapping[str, Endpoint]
    others: Resolver = field(default_factory=SystemResolver)

    async def resolve(self, host: str) -> Sequence[Endpoint]:
        """The endpoints of a name, as the protocol says."""
        name = host.rstrip(".").lower()
        if not any(name == domain or name.endswith(f".{domain}") for domain in self.domains):
            return await self.others.resolve(host)
        if name not in self.hosts:
            raise socket.gaierror(socket.EAI_NONAME, "the practice field has no such name")
        return [self.hosts[name]]


class FakeResolver:
    """Gives the answers of a test: for each name a row of answers, one for each time that somebody asks, and the last one from then on."""

    def __init__(self, names: Mapping[str, Sequence[str | Endpoint]], *, then: Mapping[str, Sequence[Sequence[str]]] | None = None) -> None:
        self.names, self.then = names, dict(then or {})
        self.asked: list[str] = []

    async def resolve(self, host: str) -> Sequence[Endpoint]:
        """The endpoints of a name, as the protocol says."""
        name = host.rstrip(".").lower()
        times = self.asked.count(name)
        self.asked.append(name)
        found = self.then[name][min(times, len(self.then[name]) - 1)] if name in self.then else self.names.get(name)
        if found is None:
            raise socket.gaierror(socket.EAI_NONAME, "no such name")
        return [one if isinstance(one, Endpoint) else Endpoint(one) for one in found]
