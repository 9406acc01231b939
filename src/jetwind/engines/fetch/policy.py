"""The addresses that Jetwind may ask for, by scheme and port; none of them lies inside the network."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from functools import lru_cache

from jetwind.core.errors import JetwindError
from jetwind.core.facts.special_purpose import IpAddress, is_public, meant_by, metadata_addresses, translated
from jetwind.core.links.addresses import WEB, Address

DEFAULT_PORTS = {"http": 80, "https": 443}


class Refusal(JetwindError, OSError):
    """An address that Jetwind does not ask for; the text tells people why."""


@dataclass(frozen=True, slots=True)
class Policy:
    """The addresses that a workspace lets Jetwind ask for.

    ``inward_hosts`` are hosts that may lie inside the network, or domains with all below them: ``intranet.kiln.org`` with ports 80 and
    443, ``intranet.kiln.org:8080`` with that port alone. ``ports`` may be asked for at public hosts. ``translations`` are the prefixes of
    this network's own translators to IPv4 (RFC 6052), which nothing but its administrator knows.
    """

    inward_hosts: frozenset[str] = frozenset()
    ports: frozenset[int] = frozenset({80, 443})
    translations: tuple[ipaddress.IPv6Network, ...] = ()

    def check(self, address: Address) -> None:
        """Refuse by the address alone, before any name is looked up.

        Raises:
            Refusal: another scheme than http and https, a port that is not allowed, a user name in it, an IP address inside the network.
        """
        if address.scheme not in WEB:
            raise Refusal(f"only http and https are opened, not {address.scheme[:20]}:")
        if "@" in address.href.split("://", 1)[1].split("/", 1)[0]:
            raise Refusal("an address with a user name in it is not opened")
        host, port = host_of(address), port_of(address)
        if port not in self.ports and not self.is_inward(host, port):
            raise Refusal(f"port {port} is not among those that are opened")
        if (ip := ip_of(host)) is not None:
            self.check_ip(host, port, ip)

    def check_ip(self, host: str, port: int, ip: IpAddress) -> None:
        """Refuse to connect to an IP address of a host at a port.

        Raises:
            Refusal: it is not of the public internet (RFC 6890), and the host is none that may lie inside, or not with this port.
        """
        if metadata_addresses() & {ip, *meant_by(ip), *self._translated(ip)}:
            raise Refusal(f"{ip} is where machines keep their keys")
        if not self.is_public(ip):
            if self.is_inward(host, port):
                return
            if self._ports_inside(host):
                raise Refusal(f"{host} may lie inside the network, but not with port {port}")
            raise Refusal(f"{ip} lies inside the network")
        if port not in self.ports:
            raise Refusal(f"port {port} is not among those that are opened")

    def is_public(self, ip: IpAddress) -> bool:
        """Whether an IP address, and any that it carries here, is of the public internet."""
        return is_public(ip) and all(is_public(inner) for inner in self._translated(ip))

    def _translated(self, ip: IpAddress) -> list[IpAddress]:
        if isinstance(ip, ipaddress.IPv4Address):
            return []
        return [translated(ip, prefix.prefixlen) for prefix in self.translations if ip in prefix]

    def is_inward(self, host: str, port: int) -> bool:
        """Whether the host, or a domain above it, is named as one that may lie inside, with this port."""
        return port in self._ports_inside(host)

    def _ports_inside(self, host: str) -> set[int]:
        host = host.rstrip(".").lower()
        found: set[int] = set()
        for entry in self.inward_hosts:
            own, ports = host_and_ports(entry)
            if host == own or (host.endswith(f".{own}") and ip_of(host) is None):
                found |= ports
        return found


def host_and_ports(entry: str) -> tuple[str, frozenset[int]]:
    """Host and ports of an entry such as ``intranet.kiln.org:8080``; one without a port has those of http and https."""
    host, colon, port = entry.rpartition(":")
    return (
        (host, frozenset({int(port[:6])})) if colon and port.isascii() and port.isdecimal() else (entry, frozenset(DEFAULT_PORTS.values()))
    )


@lru_cache(maxsize=4096)
def ip_of(host: str) -> IpAddress | None:
    """The IP address that a host of an address is, or None for a name. An IPv6 zone is no part of it."""
    try:
        return ipaddress.ip_address(host.strip("[]").rstrip(".").partition("%")[0])
    except ValueError:
        return None


def host_of(address: Address) -> str:
    """The host without the brackets of an IPv6 address."""
    return address.host.strip("[]")


def port_of(address: Address) -> int:
    """The port of an address, written or by its scheme."""
    return int(address.port) if address.port else DEFAULT_PORTS.get(address.scheme, 0)
