"""Which excuse covers a finding."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Generic, TypeVar

T = TypeVar("T")


class InForce(Generic[T]):
    """The excuses in force for one message, and the findings that they cover. ``T`` is an excuse, or what stands for it.

    An excuse is given with a fingerprint and with its members. Without members it covers the finding, or every fault of the cause, that has
    the fingerprint. With members it covers these faults alone, in no more places than they had when it was made.
    """

    def __init__(self, excuses: Iterable[tuple[str, Mapping[str, int], T]]) -> None:
        self._all = list(excuses)
        self._whole: dict[str, T] = {}
        self._members: dict[str, tuple[int, T]] = {}
        for fingerprint, members, excuse in self._all:
            if not members:
                self._whole[fingerprint] = excuse
            for member, places in members.items():
                if member not in self._members or places > self._members[member][0]:
                    self._members[member] = places, excuse

    def covering(self, fingerprint: str, cause: str, members: Mapping[str, int]) -> T | None:
        """The excuse that covers a finding, or its first fault where each has one of its own; None where something of it is open."""
        whole = self._of_whole(fingerprint, cause)
        if whole is not None:
            return whole
        found = [self._of_fault(*member) for member in members.items()]
        return found[0] if found and all(excuse is not None for excuse in found) else None

    def touching(self, fingerprint: str, cause: str, members: Mapping[str, int]) -> list[T]:
        """Every excuse that covers a finding or some of its faults, each once."""
        names = {fingerprint, cause, *members} - {""}
        return list(
            dict.fromkeys(
                excuse
                for excused, own, excuse in self._all
                if (not own and excused in names) or any(places <= own.get(member, 0) for member, places in members.items())
            )
        )

    def _of_whole(self, fingerprint: str, cause: str) -> T | None:
        return self._whole.get(fingerprint) or (self._whole.get(cause) if cause else None)

    def _of_fault(self, fingerprint: str, places: int) -> T | None:
        if fingerprint in self._whole:
            return self._whole[fingerprint]
        most, excuse = self._members.get(fingerprint, (0, None))
        return excuse if places <= most else None
