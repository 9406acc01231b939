"""Which IP addresses are of the public internet, by a dated table of ours (``special_purpose.toml``) and not by the standard library's."""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from functools import lru_cache

from jetwind.core.facts import table
from jetwind.core.facts.tables import SpecialPurpose

IpAddress = ipaddress.IPv4Address | ipaddress.IPv6Address
IpNetwork = ipaddress.IPv4Network | ipaddress.IPv6Network

#: Prefixes under which a translator carries IPv4 addresses everywhere (RFC 6052 §2.1). A network may have one of its own besides.
WELL_KNOWN_TRANSLATION = ipaddress.IPv6Network("64:ff9b::/96")
#: Where the octets of an IPv4 address stand in an IPv6 address, by the length of the prefix in bits (RFC 6052 §2.2): octet 8 is left out.
_PLACES = {32: (4, 5, 6, 7), 40: (5, 6, 7, 9), 48: (6, 7, 9, 10), 56: (7, 9, 10, 11), 64: (9, 10, 11, 12), 96: (12, 13, 14, 15)}
#: The beginnings of interface identifiers that end in an IPv4 address, under any prefix (ISATAP, RFC 5214 §6.1).
_ISATAP = (0x00005EFE, 0x02005EFE)


@dataclass(frozen=True, slots=True)
class Block:
    """A block of addresses with a special purpose."""

    network: IpNetwork
    name: str
    source: str
    is_reachable: bool


def _tables() -> SpecialPurpose:
    return table("special_purpose", SpecialPurpose)


@lru_cache(maxsize=1)
def blocks() -> tuple[Block, ...]:
    """All blocks, wider ones before those within them."""
    tables = _tables()
    rows = [*tables["ipv4"], *tables["ipv6"], *tables["further"]]
    found = [Block(ipaddress.ip_network(network), name, source, reachable) for network, name, source, reachable in rows]
    return tuple(sorted(found, key=lambda block: block.network.prefixlen))


@lru_cache(maxsize=1)
def metadata_addresses() -> frozenset[IpAddress]:
    """Where machines keep their keys and settings."""
    return frozenset(ipaddress.ip_address(address) for address, _ in _tables()["metadata"])


@lru_cache(maxsize=4096)
def block_of(ip: IpAddress) -> Block | None:
    """The widest special-purpose block that holds an address; None where there is none."""
    return next((block for block in blocks() if block.network.version == ip.version and ip in block.network), None)


@lru_cache(maxsize=4096)
def is_public(ip: IpAddress) -> bool:
    """Whether an IP address, and any that it carries, is of the public internet."""
    return all(_is_public_itself(one) for one in meant_by(ip))


def _is_public_itself(ip: IpAddress) -> bool:
    block = block_of(ip)
    if block is not None:
        return block.is_reachable
    return ip.version == 4 or ip in ipaddress.ip_network(_tables()["global_unicast"])


def meant_by(ip: IpAddress) -> list[IpAddress]:
    """The addresses that one may end at: itself, and the IPv4 address inside a mapped, translated, 6to4, Teredo or ISATAP one.

    A mapped address, and one under the well-known prefix of translators, ends at the inner address alone.
    """
    if isinstance(ip, ipaddress.IPv4Address):
        return [ip]
    if ip.ipv4_mapped is not None:
        return [ip.ipv4_mapped]
    if ip in WELL_KNOWN_TRANSLATION:
        return [translated(ip, 96)]
    inner: list[IpAddress] = [ip]
    if ip.sixtofour is not None:
        inner.append(ip.sixtofour)
    if ip.teredo is not None:
        inner += ip.teredo
    if (int(ip) >> 32) & 0xFFFFFFFF in _ISATAP or int(ip) >> 32 == 0:
        inner.append(ipaddress.IPv4Address(int(ip) & 0xFFFFFFFF))
    return inner


def translated(ip: ipaddress.IPv6Address, length: int) -> ipaddress.IPv4Address:
    """The IPv4 address that an IPv6 address carries under a prefix of 32, 40, 48, 56, 64 or 96 bits (RFC 6052 §2.2).

    Raises:
        KeyError: prefixes have no such length.
    """
    return ipaddress.IPv4Address(bytes(ip.packed[place] for place in _PLACES[length]))
