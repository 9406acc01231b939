"""Name records in a file (RFC 1035 §5, read by dnspython), in the place of the DNS."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from functools import lru_cache
from importlib import resources
from pathlib import Path

import dns.exception
import dns.name
import dns.rdatatype
import dns.zone

from jetwind.core.errors import Unusable
from jetwind.core.source.files import read_text, why
from jetwind.engines.names.asking import NoAnswer, Records, RecordType, Resolver
from jetwind.engines.names.dns import read

#: Octets of a zone file.
MOST_OCTETS = 2_000_000
_MOST_ALIASES = 10


class UnusableZone(Unusable):
    """Raised for a file that holds no name records; the text names the line."""


@dataclass
class Zone:
    """Name records by name and type. A name that is not in the zone does not exist; the type ``TIMEOUT`` stands for a server that never answers."""

    entries: dict[tuple[str, str], list[bytes | str | tuple[int, str]]]
    name: str = "zone file"
    _names: frozenset[str] = field(init=False)

    def __post_init__(self) -> None:
        self._names = frozenset(name for name, _ in self.entries)

    @classmethod
    def read(cls, text: str, name: str = "zone file") -> Zone:
        """Records in master-file format. Names are absolute unless ``$ORIGIN`` says otherwise; a time to live may be left out.

        Raises:
            UnusableZone: a line is no record.
        """
        if len(text) > MOST_OCTETS:
            raise UnusableZone(f"it is longer than {MOST_OCTETS:,} characters")
        try:
            zone = dns.zone.from_text(
                f"$TTL 3600\n{text}",
                origin=dns.name.root,
                relativize=False,
                check_origin=False,
                # A line of $GENERATE makes as many records as it says.
                allow_directives=("$ORIGIN", "$TTL"),
                filename="zone",
            )
        except (dns.exception.DNSException, ValueError, UnicodeError, RecursionError, OverflowError) as wrong:
            raise UnusableZone(_said(wrong)) from wrong
        entries: dict[tuple[str, str], list[bytes | str | tuple[int, str]]] = {}
        for owner, _, rdata in zone.iterate_rdatas():
            kind = dns.rdatatype.to_text(rdata.rdtype)
            if kind in ("A", "AAAA", "MX", "TXT", "SPF", "PTR", "CNAME"):
                entries.setdefault((str(owner).rstrip(".").lower(), kind), []).append(read(rdata))
            else:
                entries.setdefault((str(owner).rstrip(".").lower(), kind), [])
        return cls(entries, name)

    @classmethod
    def load(cls, path: Path) -> Zone:
        """The records of a file.

        Raises:
            UnusableZone: it cannot be read, or holds no records.
        """
        try:
            return cls.read(read_text(path, MOST_OCTETS), f"“{path.name}”")
        except OSError as failed:
            raise UnusableZone(why(failed)) from failed

    def records(self, name: str, type: RecordType) -> Records:
        """The records of a name, as the protocol says.

        Raises:
            NoAnswer: the zone says that nobody answers for this name.
        """
        for _ in range(_MOST_ALIASES):
            if (name, "TIMEOUT") in self.entries:
                raise NoAnswer(f"nobody answers for {name}")
            if (name, type) in self.entries or (name, "CNAME") not in self.entries:
                break
            alias = self.entries[name, "CNAME"][0]
            name = str(alias).rstrip(".").lower()
        found = self.entries.get((name, type), ())
        return Records(tuple(found), exists=bool(found) or self._has(name))

    def _has(self, name: str) -> bool:
        return name in self._names or any(known.endswith(f".{name}") for known in self._names)


def _said(wrong: Exception) -> str:
    """The words of dnspython, with the line counted as in the file."""
    text = str(wrong)
    place, colon, rest = text.partition(": ")
    number = place.removeprefix("zone:")
    return f"line {int(number) - 1}: {rest}" if colon and number.isdigit() else text or wrong.__class__.__name__


@dataclass
class Practice:
    """The practice field's own records for its domains, and another resolver for everything else."""

    zone: Zone
    domains: frozenset[str]
    others: Resolver
    name = "practice field"

    def records(self, name: str, type: RecordType) -> Records:
        """The records of a name, as the protocol says.

        Raises:
            NoAnswer: no name server answers.
        """
        is_ours = any(name == domain or name.endswith(f".{domain}") for domain in self.domains)
        return (self.zone if is_ours else self.others).records(name, type)


@lru_cache(maxsize=1)
def practice_zone() -> Zone:
    """The practice field's name records."""
    return Zone.read(resources.files("jetwind.engines.names").joinpath("practice.zone").read_text("utf-8"), "practice field")


def practice(others: Resolver, domains: Iterable[str]) -> Practice:
    """Name records of the practice field's domains, everything else by ``others``."""
    return Practice(practice_zone(), frozenset(domains), others)
