"""Where a mend may show on a render, and what shows elsewhere though no mend says so.

A mend may change the element that it stands in and what stands with it in the same table. All else keeps its width and height, its place across, its
letters and its colours; it may move up or down.
"""

from __future__ import annotations

from bisect import bisect_right
from collections import Counter
from collections.abc import Iterable, Sequence
from itertools import accumulate

from jetwind.core.checking.mends import Change
from jetwind.core.markup import Document, Element
from jetwind.core.mending.offers import Offer
from jetwind.core.message import Message
from jetwind.core.renders.measured import Block, Measured

#: CSS px by which a block may differ: the rounding of a layout.
_GRAIN = 1.0


def strays(before: Message, after: Message, offers: Sequence[Offer], now: Measured, then: Measured) -> frozenset[int]:
    """The elements of ``before`` whose block looks otherwise in ``then``, though none of the mends that lead to ``after`` stands near them.

    ``now`` and ``then`` are measured in one profile; elements count in ``before``. Empty where a mend says that it shows all over the message.
    """
    if before.document is None or after.document is None:
        return frozenset()
    reached = reach_of(before.document, offers)
    if reached is None:
        return frozenset()
    there = counterparts(before.document, after.document, [one for own in offers for one in own.changes if one.part == "html"])
    old, new = _numbered(now), _numbered(then)
    found = {
        element
        for (element, kind, number), block in old.items()
        if element >= 0 and element not in reached and _differs(block, new.get((there.get(element, -1), kind, number)))
    }
    back = {other: element for element, other in there.items()}
    # What a mend put in has no counterpart; what has one, and no block before, was hidden and shows now.
    shows = {back[element] for element, kind, number in new if element in back and (back[element], kind, number) not in old}
    return frozenset(found | (shows - reached))


def reach_of(document: Document, offers: Iterable[Offer]) -> frozenset[int] | None:
    """The elements at which these mends may show, by index; None where they may show anywhere."""
    touched: set[int] = set()
    for offer in offers:
        if offer.reach == "message":
            return None
        touched.update(index for index in offer.elements if 0 <= index < len(document.all_elements))
        for change in offer.changes:
            element = _element_of(document, change) if change.part == "html" else None
            if element is not None and element.tag == "style":
                return None
            if element is not None:
                touched.add(element.index)
    reached: set[int] = set()
    around = {_container(document.all_elements[index]) for index in touched}
    for container in around:
        whole = document.all_elements[container]
        reached.add(container)
        reached.update(one.index for one in whole.walk() if isinstance(one, Element))
        reached.update(one.index for one in whole.ancestors())
    return frozenset(reached)


def _element_of(document: Document, change: Change) -> Element | None:
    """The element in whose tag a change stands, or else the one whose text it changes."""
    index = document.element_before(change.span.start)
    element = document.all_elements[index] if index is not None else None
    if element is not None and element.start_tag is not None and element.start_tag.end > change.span.start:
        return element
    around = document.element_around(change.span.start)
    return document.all_elements[around] if around is not None else element


def _container(element: Element) -> int:
    """The innermost table around an element, or without one the child of the body that holds it."""
    last = element
    for one in (element, *element.ancestors()):
        if one.tag == "table":
            return one.index
        if one.tag in ("body", "html"):
            break
        last = one
    return last.index


def counterparts(before: Document, after: Document, changes: Iterable[Change]) -> dict[int, int]:
    """For each element of a document with a start tag the element of the changed one whose tag is the same."""
    edits = sorted((one.span.start, one.span.end, len(one.text)) for one in changes)
    ends = [end for _, end, _ in edits]
    shifts = [0, *accumulate(length - (end - start) for start, end, length in edits)]
    later = {element.start_tag.start: element for element in after.all_elements if element.start_tag is not None}
    found: dict[int, int] = {}
    for element in before.all_elements:
        if element.start_tag is not None:
            at = element.start_tag.start
            other = later.get(at + shifts[bisect_right(ends, at)])
            if other is not None and other.tag == element.tag:
                found[element.index] = other.index
    return found


def _numbered(measured: Measured) -> dict[tuple[int, str, int], Block]:
    """Blocks by element, kind, and their number among those of the element."""
    found: dict[tuple[int, str, int], Block] = {}
    count: Counter[tuple[int, str]] = Counter()
    for block in measured.of("text", "image"):
        own = (block.element, block.kind)
        found[*own, count[own]] = block
        count[own] += 1
    return found


def _differs(one: Block, other: Block | None) -> bool:
    if other is None:
        return True
    sides = ((one.x, other.x), (one.width, other.width), (one.height, other.height), (one.size, other.size))
    looks = (one.colour, one.ground, one.weight, one.characters, one.is_broken)
    return any(abs(a - b) > _GRAIN for a, b in sides) or looks != (
        other.colour,
        other.ground,
        other.weight,
        other.characters,
        other.is_broken,
    )
