"""The domain name system, by the name servers that this machine uses (dnspython)."""

from __future__ import annotations

from typing import Any

import dns.exception
import dns.name
import dns.rdatatype
import dns.resolver

from jetwind.engines.names.asking import NoAnswer, Records, RecordType

#: Seconds that one question may take, all tries together.
PATIENCE_S = 5.0


class Dns:
    """Asks for records over the network, and keeps the answers as long as this object lives."""

    name = "DNS"

    def __init__(self) -> None:
        try:
            self._resolver = dns.resolver.Resolver()
        except (dns.resolver.NoResolverConfiguration, OSError):
            self._resolver = dns.resolver.Resolver(configure=False)
        self._resolver.lifetime = PATIENCE_S
        self._resolver.cache = dns.resolver.LRUCache(1_000)

    def records(self, name: str, type: RecordType) -> Records:
        """The records of a name, as the protocol says.

        Raises:
            NoAnswer: no name server answers in time, or this machine has none.
        """
        if not self._resolver.nameservers:
            raise NoAnswer("this machine has no name server")
        try:
            answer = self._resolver.resolve(dns.name.from_text(name), type, search=False, raise_on_no_answer=False)
        except dns.resolver.NXDOMAIN:
            return Records((), exists=False)
        except (dns.name.LabelTooLong, dns.name.EmptyLabel, dns.name.NameTooLong, dns.name.BadEscape, dns.name.IDNAException):
            return Records((), exists=False)
        except (dns.exception.DNSException, OSError) as failed:
            raise NoAnswer(f"nobody answers for {name}: {failed.__class__.__name__}") from failed
        return Records(tuple(read(rdata) for rdata in answer.rrset or ()))


def read(rdata: Any) -> bytes | str | tuple[int, str]:
    """One record as ``Records`` holds it."""
    if rdata.rdtype in (dns.rdatatype.TXT, dns.rdatatype.SPF):
        return b"".join(rdata.strings)
    if rdata.rdtype == dns.rdatatype.MX:
        return (rdata.preference, str(rdata.exchange).rstrip("."))
    if rdata.rdtype in (dns.rdatatype.A, dns.rdatatype.AAAA):
        return str(rdata.address)
    return str(rdata.target).rstrip(".")
