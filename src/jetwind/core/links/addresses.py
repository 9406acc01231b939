"""An address as a browser reads it (WHATWG URL, through ada), and whose it is (the public-suffix list)."""

from __future__ import annotations

import ipaddress
import re
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING

from jetwind.core.facts.special_purpose import is_public
from jetwind.core.fields import opaque
from jetwind.core.fields.syntax import FILLER
from jetwind.core.message import Message
from jetwind.core.source import LIMITS

if TYPE_CHECKING:
    from publicsuffixlist import PublicSuffixList

WEB = frozenset({"http", "https"})
_LONE_SURROGATE = re.compile("[\ud800-\udfff]")
_AUTHORITY = re.compile(r"(?i:https?):[/\\]*([^/\\?#]*)")


@dataclass(frozen=True, slots=True)
class Address:
    """A web address in its parts, each as the standard serialises it; ``host`` is ASCII, an IPv6 one in brackets.

    ``port`` is empty where it is that of the scheme.
    """

    href: str
    scheme: str
    host: str
    path: str
    query: str
    fragment: str
    port: str = ""

    @property
    def parameters(self) -> list[tuple[str, str]]:
        """Names and values of the query, as they are written, in order."""
        return [(name, value) for part in self.query.split("&") if part for name, _, value in [part.partition("=")]]


def parsed(address: str, base: str | None = None) -> Address | None:
    """An address as a browser takes it; None for one that it cannot take (WHATWG URL §4.4)."""
    return _parsed(address, base) if len(address) <= _USUAL else _parsed.__wrapped__(address, base)


#: Characters of an address that is kept once it was read: a dozen checks read each. All that are looked at in a message have room.
_USUAL = 2_000


@lru_cache(maxsize=40_000)
def _parsed(address: str, base: str | None) -> Address | None:
    # Loaded when first used: it takes some hundredths of a second.
    import ada_url

    try:
        url = ada_url.URL(_LONE_SURROGATE.sub("\ufffd", address[: LIMITS.value_characters]), base)
    except (ValueError, UnicodeError):
        return None
    return Address(
        url.href,
        url.protocol.removesuffix(":"),
        host=url.hostname,
        path=url.pathname,
        query=url.search.removeprefix("?"),
        fragment=url.hash.removeprefix("#"),
        port=url.port,
    )


def written(message: Message, address: str) -> str | None:
    """An address with a letter for each character of a field behind its host; None where a field stands in scheme or host."""
    masked = opaque(address, message.syntax, in_address=True)
    if FILLER not in masked:
        return masked
    authority = _AUTHORITY.match(masked)
    if authority is None or FILLER in masked[: authority.end()]:
        return None
    return masked.replace(FILLER, "x")


def _suffixes(host: str) -> PublicSuffixList:
    return _list_of(with_encoded="xn--" in host)


@lru_cache(maxsize=2)
def _list_of(*, with_encoded: bool) -> PublicSuffixList:
    # Reading the list takes a while, and twice as long with the encoded names in it, which few hosts need.
    from publicsuffixlist import PublicSuffixList

    return PublicSuffixList(accept_encoded_idn=with_encoded)


def organisational_domain(host: str) -> str:
    """The registrable domain of a host (RFC 7489 §3.2, by the public-suffix list), or the host itself, as for an IP address."""
    host = host.rstrip(".").lower()
    return str(_suffixes(host).privatesuffix(host) or host)


def same_organisation(one: str, other: str) -> bool:
    """Whether two hosts belong to one registrable domain.

    Told without the list where one is below the other (nobody has mail or pages at a public suffix), or their last two labels differ.
    """
    one, other = sorted((one.rstrip(".").lower(), other.rstrip(".").lower()), key=len)
    if one == other or ("." in one and other.endswith(f".{one}")):
        return True
    if one.rsplit(".", 2)[-2:] != other.rsplit(".", 2)[-2:]:
        return False
    return organisational_domain(one) == organisational_domain(other)


def is_public_name(host: str) -> bool:
    """Whether a name ends in a suffix that the list has, with something before it."""
    host = host.rstrip(".").lower()
    return _suffixes(host).privatesuffix(host, accept_unknown=False) is not None


def inward_ip(host: str) -> bool:
    """Whether a host is an IP address that is not of the public internet (RFC 6890)."""
    try:
        address = ipaddress.ip_address(host.strip("[]"))
    except ValueError:
        return False
    return not is_public(address)
