"""What may be asked for: schemes, ports, and no address that points inside the network."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from functools import lru_cache

from jetwind.core.links.addresses import WEB, Address

IpAddress = ipaddress.IPv4Address | ipaddress.IPv6Address
DEFAULT_PORTS = {"http": 80, "https": 443}

#: Where clouds keep the keys of a machine; never, whatever a workspace names (common practice, no published source).
_METADATA = frozenset(
    {ipaddress.ip_address("169.254.169.254"), ipaddress.ip_address("fd00:ec2::254"), ipaddress.ip_address("100.100.100.200")}
)
#: IPv6 addresses that carry an IPv4 address in their last octets: NAT64 (RFC 6052 §2.1, RFC 8215) and IPv4-compatible (RFC 4291 §2.5.5.1).
_CARRIES_IPV4 = tuple(ipaddress.ip_network(one) for one in ("64:ff9b::/96", "64:ff9b:1::/48", "::/96"))


class Refusal(OSError):
    """An address that is not asked for; the text says why, for people."""


@dataclass(frozen=True, slots=True)
class Policy:
    """What a workspace lets out: ``inward_hosts`` are hosts, or domains with all below them, that may lie inside the network."""

    inward_hosts: frozenset[str] = frozenset()
    ports: frozenset[int] = frozenset({80, 443})

    def check(self, address: Address) -> None:
        """Refuse by the address alone, before any name is looked up.

        Raises:
            Refusal: another scheme than http and https, a port that is not allowed, a user name in it, an IP address inside the network.
        """
        if address.scheme not in WEB:
            raise Refusal(f"only http and https are opened, not {address.scheme[:20]}:")
        if "@" in address.href.split("://", 1)[1].split("/", 1)[0]:
            raise Refusal("an address with a user name in it is not opened")
        if port_of(address) not in self.ports:
            raise Refusal(f"port {port_of(address)} is not among those that are opened")
        host = host_of(address)
        if (ip := ip_of(host)) is not None:
            self.check_ip(host, ip)

    def check_ip(self, host: str, ip: IpAddress) -> None:
        """Refuse an IP address that a host stands for.

        Raises:
            Refusal: it is not of the public internet (RFC 6890), and the host is none that may lie inside.
        """
        if _METADATA & set(meant_by(ip)):
            raise Refusal(f"{ip} is where machines keep their keys")
        if not is_public(ip) and not self.is_inward(host):
            raise Refusal(f"{ip} lies inside the network")

    def is_inward(self, host: str) -> bool:
        """Whether a workspace names the host, or a domain above it, as one that may lie inside."""
        host = host.rstrip(".").lower()
        return any(host == own or (host.endswith(f".{own}") and ip_of(host) is None) for own in self.inward_hosts)


@lru_cache(maxsize=4096)
def is_public(ip: IpAddress) -> bool:
    """Whether an IP address, and any that it carries, is of the public internet."""
    return all(one.is_global and not (one.is_multicast or one.is_reserved or one.is_unspecified) for one in meant_by(ip))


def meant_by(ip: IpAddress) -> list[IpAddress]:
    """The addresses that one may end at: itself, or the IPv4 address inside a mapped, NAT64, 6to4 or Teredo one."""
    if isinstance(ip, ipaddress.IPv4Address):
        return [ip]
    if ip.ipv4_mapped is not None:
        return [ip.ipv4_mapped]
    if any(ip in network for network in _CARRIES_IPV4):
        inner: IpAddress = ipaddress.IPv4Address(int(ip) & 0xFFFFFFFF)
        # Of ::/96 only loopback and "unspecified" are themselves.
        return [ip, inner] if ip in _CARRIES_IPV4[-1] else [inner]
    if ip.sixtofour is not None:
        return [ip, ip.sixtofour]
    if ip.teredo is not None:
        return [ip, *ip.teredo]
    if getattr(ip, "is_site_local", False):
        return [ip, ipaddress.IPv4Address("10.0.0.0")]
    return [ip]


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
    """The port that is connected to."""
    return int(address.port) if address.port else DEFAULT_PORTS.get(address.scheme, 0)
