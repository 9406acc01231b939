"""The interface of a resolver, and the list of the questions that were put to it."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Literal, Protocol

from jetwind.core.errors import JetwindError
from jetwind.core.papers import Lookup

RecordType = Literal["A", "AAAA", "MX", "TXT", "PTR", "CNAME", "SPF"]
#: Look-ups for one message: many times what an honest sender's records ask for.
MOST_LOOKUPS = 200
#: Records of one answer, and characters of one record, that are kept to be shown.
_MOST_RECORDS, _MOST_CHARACTERS = 40, 4_000


class NoAnswer(JetwindError):
    """Raised where no name server answers for a name; the text says why."""


@dataclass(frozen=True, slots=True)
class Records:
    """Records of one type. A TXT record is octets, its strings joined; an MX one is its preference and its host; the others are text."""

    values: tuple[bytes | str | tuple[int, str], ...] = ()
    exists: bool = True


class Resolver(Protocol):
    """The interface of a resolver of name records."""

    name: str

    def records(self, name: str, type: RecordType) -> Records:
        """The records of a name, aliases followed.

        Raises:
            NoAnswer: no name server answers.
        """


@dataclass
class NotingResolver:
    """A resolver that notes each question, and asks the same question once."""

    resolver: Resolver
    lookups: list[Lookup] = field(default_factory=list)
    depth: int = 0
    _known: dict[tuple[str, str], Records | NoAnswer] = field(default_factory=dict)

    def records(self, name: str, type: RecordType) -> Records:
        """The records of a name, by the resolver behind this one.

        Raises:
            NoAnswer: no name server answers, or too many questions were asked.
        """
        key = (name.rstrip(".").lower(), type)
        if key in self._known:
            known = self._known[key]
            if isinstance(known, NoAnswer):
                raise known
            return known
        if len(self._known) >= MOST_LOOKUPS:
            raise NoAnswer(f"more than {MOST_LOOKUPS} look-ups for one message")
        started = time.perf_counter()
        try:
            found = self.resolver.records(*key)
        except NoAnswer as failed:
            self._known[key] = failed
            self._note(key, (), str(failed), started)
            raise
        self._known[key] = found
        self._note(key, tuple(_shown(value) for value in found.values[:_MOST_RECORDS]), "", started)
        return found

    def texts(self, name: str) -> list[str]:
        """The TXT records of a name as text, with U+FFFD for each octet beyond ASCII.

        Raises:
            NoAnswer: no name server answers.
        """
        return [_shown(value) for value in self.records(name, "TXT").values]

    def _note(self, key: tuple[str, str], answer: tuple[str, ...], failed: str, started: float) -> None:
        took = round((time.perf_counter() - started) * 1_000, 1)
        self.lookups.append(Lookup(key[0], key[1], answer=answer, failed=failed, took_ms=took, depth=self.depth))

    @contextmanager
    def listing(self) -> Iterator[list[Lookup]]:
        """The list of the questions that are asked while the block runs."""
        kept, self.lookups = self.lookups, []
        try:
            yield self.lookups
        finally:
            self.lookups = kept

    def count_last(self, name: str, type: str, number: int) -> None:
        """Give the last question for a name its number among those that count."""
        for at in range(len(self.lookups) - 1, -1, -1):
            if (self.lookups[at].name, self.lookups[at].type) == (name.rstrip(".").lower(), type):
                self.lookups[at] = replace(self.lookups[at], count=number)
                return


def _shown(value: bytes | str | tuple[int, str]) -> str:
    if isinstance(value, bytes):
        value = value[:_MOST_CHARACTERS].decode("ascii", "replace")
    return f"{value[0]} {value[1]}" if isinstance(value, tuple) else value
