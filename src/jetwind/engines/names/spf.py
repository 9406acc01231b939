"""SPF by pyspf with a resolver of ours (RFC 7208): its evaluation, and every look-up with its answer."""

from __future__ import annotations

import ipaddress
from contextlib import suppress
from typing import Any

import spf

from jetwind.core.papers import Lookup, Spf
from jetwind.engines.names.asking import NoAnswer, NotingResolver, RecordType

#: Look-ups up to which a record over the limit of ten is followed, to say how many it asks for.
_FOLLOWED = 60
#: An address of nobody's (RFC 5737) that asks through a whole record.
_NOBODY = "192.0.2.199"
#: What the evaluator may raise over a record that is none.
_BROKEN = (spf.PermError, spf.TempError, AssertionError, ValueError, UnicodeError, IndexError, TypeError, KeyError, RecursionError)


class _Query(spf.query):  # type: ignore[misc]
    """pyspf's evaluation over our resolver. ``limit`` is how many look-ups it may make: ten, but where they are only counted."""

    def __init__(self, asked: NotingResolver, ip: str, sender: str, helo: str, limit: int = spf.MAX_LOOKUP) -> None:
        super().__init__(i=ip, s=sender, h=helo, receiver="receiver.invalid", strict=True, querytime=0)
        self._asked, self._limit = asked, limit

    def dns(self, name: str, qtype: RecordType, cnames: Any = None, ignore_void: bool = False) -> list[Any]:
        """Records as pyspf wants them: texts as lists of octets, exchanges as pairs (RFC 7208 §4.6.4 for empty answers)."""
        name = str(name).rstrip(".").lower()
        if not name or not all(0 < len(label) < 64 for label in name.split(".")) or len(name) > 253:
            return []
        key = (name, qtype)
        if key not in self.cache:
            try:
                found = self._asked.records(name, qtype)
            except NoAnswer as failed:
                raise spf.TempError(f"DNS {failed}") from failed
            self.cache[key] = [[value] if isinstance(value, bytes) else value for value in found.values]
            if self.lookups:
                self._asked.count_last(name, qtype, self.lookups)
        result = list(self.cache[key])
        if not result and not ignore_void:
            self.void_lookups += 1
            if self.void_lookups > spf.MAX_VOID_LOOKUPS:
                raise spf.PermError(f"more than {spf.MAX_VOID_LOOKUPS} look-ups without an answer")
        return result

    def check_lookups(self) -> None:
        """Count a look-up (RFC 7208 §4.6.4)."""
        self.lookups += 1
        if self.lookups > self._limit:
            raise spf.PermError(f"more than {self._limit} look-ups")

    def check1(self, record: str, domain: str, recursion: int) -> tuple[str, int, str]:
        """Evaluate one record, which may include others."""
        self._asked.depth = recursion
        try:
            result: tuple[str, int, str] = super().check1(record, domain, recursion)
            return result
        finally:
            self._asked.depth = max(recursion - 1, 0)


def evaluate(asked: NotingResolver, domain: str, host: str, *, sender: str = "", helo: str = "", identity: Any = "From") -> Spf:
    """The verdict of a domain's record on a host. Without a host, it tells only whether there is a record, and its faults.

    ``sender`` is the whole address where it is known, for macros.
    """
    from_whom = sender or f"postmaster@{domain}"
    with asked.listing() as lookups:
        query = _Query(asked, host or _NOBODY, from_whom, helo or domain)
        try:
            result, _, why = query.check()
        except _BROKEN as broken:
            result, why = "permerror", str(broken)
        is_over = result == "permerror" and "more than" in why and "look-ups" in why and "without" not in why
        counted = query.lookups
        kept: list[Lookup] = list(lookups)
    if is_over or (host and result in ("pass", "fail", "softfail", "neutral")):
        counted = max(counted if not is_over else 0, _whole_count(asked, domain, from_whom))
    record = next((text for text in _texts(asked, domain) if text.lower().startswith("v=spf1")), "")
    why = why.removeprefix("SPF Permanent Error: ").removeprefix("SPF Temporary Error: ") if result in ("permerror", "temperror") else ""
    if not host and result in ("pass", "fail", "softfail", "neutral"):
        result = "neutral"
    return Spf(domain, host, result=result, record=record, why=why, counted=counted, identity=identity, lookups=tuple(kept))


def _whole_count(asked: NotingResolver, domain: str, sender: str) -> int:
    """The number of look-ups that the record asks for where no part of it matches."""
    with asked.listing():
        query = _Query(asked, _NOBODY, sender, domain, _FOLLOWED)
        with suppress(*_BROKEN):
            query.check()
    return int(query.lookups)


def _texts(asked: NotingResolver, domain: str) -> list[str]:
    try:
        with asked.listing():
            return asked.texts(domain)
    except NoAnswer:
        return []


def is_ip(text: str) -> bool:
    """Whether a text is one IP address."""
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True
