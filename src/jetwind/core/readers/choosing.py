"""The few of many readers that show everything: each empty field, the longest and the shortest value, each value of a field with few."""

from __future__ import annotations

import re
import unicodedata
from collections import defaultdict
from collections.abc import Hashable, Iterable, Iterator, Sequence
from heapq import heapify, heappop, heappush

from jetwind.core.message import Sample

#: A field with so few different values may well decide what a reader is shown.
FEW_VALUES = 12
#: Readers that are remembered for one thing to show: the first of them are as good as the last.
_REMEMBERED = 40
_MARKS = re.compile(r"[<>&\"'’%]")

_Trait = tuple[str, str]


def fewest(readers: Sequence[Sample], most: int) -> list[int]:
    """Numbers of readers, from 0 and in order, that together show whatever any of them shows, as far as ``most`` of them can.

    What readers show is told by ``traits``; how they are chosen, by ``cover``.
    """
    return cover(traits(readers), most)


def cover(shows: Iterable[tuple[Hashable, int]], most: int) -> list[int]:
    """Numbers that together have everything that any of them has, given as pairs of a thing and the number that has it.

    Chosen one after another, the one with the most that is still lacking first (the greedy set cover, which is at most the natural
    logarithm of the number of things away from the fewest).
    """
    having: dict[Hashable, list[int]] = defaultdict(list)
    for thing, number in shows:
        if len(having[thing]) < _REMEMBERED:
            having[thing].append(number)
    shown_by: dict[int, set[Hashable]] = defaultdict(set)
    for thing, numbers in having.items():
        for number in numbers:
            shown_by[number].add(thing)
    lacking = set(having)
    chosen: list[int] = []
    # What a reader adds only ever shrinks: one that still adds as much as it did when last looked at, and more than the next, is the best.
    waiting = [(-len(shown), number) for number, shown in shown_by.items()]
    heapify(waiting)
    while lacking and waiting and len(chosen) < most:
        adds, number = heappop(waiting)
        now = len(shown_by[number] & lacking)
        if now == -adds:
            chosen.append(number)
            lacking -= shown_by[number]
        elif now:
            heappush(waiting, (-now, number))
    return sorted(chosen)


def traits(readers: Sequence[Sample]) -> Iterator[tuple[_Trait, int]]:
    """The special traits of each reader, as a field and what is special in it, with the reader's number."""
    fields = tuple(dict.fromkeys(name for reader in readers for name in reader.values))
    for name in fields:
        values = [reader.values.get(name) for reader in readers]
        different = {value for value in values if value}
        lengths = [len(value) for value in different]
        longest, shortest = max(lengths, default=0), min(lengths, default=0)
        for number, value in enumerate(values):
            if value is None:
                yield (name, "missing"), number
            elif not value.strip():
                yield (name, "empty"), number
            else:
                if len(value) in (longest, shortest):
                    yield (name, "longest" if len(value) == longest else "shortest"), number
                if len(different) <= FEW_VALUES:
                    yield (name, f"value {value}"), number
                for kind in _kinds(value):
                    yield (name, kind), number


def _kinds(value: str) -> Iterator[str]:
    """The awkward traits of a value, whichever field it belongs to."""
    if _MARKS.search(value):
        yield "marks"
    if value != value.strip() or "\n" in value:
        yield "blanks"
    if value.isascii():
        return
    if any(unicodedata.bidirectional(char) in ("R", "AL") for char in value):
        yield "from the right"
    if any(unicodedata.category(char) == "So" for char in value):
        yield "pictures"
    if any(unicodedata.category(char) == "Lo" for char in value):
        yield "another script"
