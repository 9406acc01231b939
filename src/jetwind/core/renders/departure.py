"""How far one layout lies from another: by the places of its blocks and the letters that can be seen, not by pixels."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from jetwind.core.renders.measured import Block, Measured

#: What moves less is the grain of layout: a line's rounding, a picture's descender gap.
ACROSS, DOWN = 4.0, 8.0


@dataclass(frozen=True, slots=True)
class Difference:
    """A block that is not where, or not as, it was: its element, how, and by how many px at most (0 for what is gone or new)."""

    element: int
    kind: Literal["gone", "new", "moved", "resized", "shortened"]
    by: float
    weight: float


@dataclass(frozen=True, slots=True)
class Departure:
    """Per cent by which a layout departs, from 0 (the same) to 100 (nothing in common), and the differences, largest first."""

    score: float
    differences: tuple[Difference, ...]


def departure(reference: Measured, render: Measured, same: Mapping[int, int] | None = None) -> Departure:
    """How far ``render`` departs from ``reference``.

    Each block of letters or picture is weighed by its letters and its area. A block that is gone counts whole; one that has moved
    counts by its shift across and by the change of the gap above it, so that a block pushed down with all that follows counts once.
    ``same`` gives for elements of the reference those of the render, where the trees differ.
    """
    there = {(block.element, block.kind): block for block in render.of("text", "image")}
    total = lost = 0.0
    found: list[Difference] = []
    above: tuple[Block, Block] | None = None
    met: set[tuple[int, str]] = set()
    for block in reference.of("text", "image"):
        weight = _weight(block)
        total += weight
        key = (same.get(block.element, -1) if same is not None else block.element, block.kind)
        other = there.get(key)
        if other is None:
            lost += weight
            found.append(Difference(block.element, "gone", 0, weight))
            continue
        met.add(key)
        share, difference = _moved(block, other, above, reference.width)
        above = (block, other)
        lost += weight * share
        if difference is not None:
            found.append(Difference(block.element, difference[0], difference[1], weight * share))
    for key, block in there.items():
        if key not in met:
            weight = _weight(block)
            total += weight
            lost += weight
            found.append(Difference(block.element, "new", 0, weight))
    found.sort(key=lambda difference: -difference.weight)
    return Departure(round(100 * lost / total, 1) if total else 0.0, tuple(found))


def _moved(
    block: Block, other: Block, above: tuple[Block, Block] | None, width: int
) -> tuple[float, tuple[Literal["moved", "resized", "shortened"], float] | None]:
    across = abs(block.x - other.x)
    wider = abs(block.width - other.width)
    taller = abs(block.height - other.height)
    gap = abs((block.y - above[0].bottom) - (other.y - above[1].bottom)) if above else abs(block.y - other.y)
    fewer: float = 1 - other.characters / block.characters if block.characters > other.characters else 0.0
    share: float = fewer
    if across > ACROSS or wider > ACROSS:
        share += (across + wider) / max(width, 1)
    if taller > DOWN or gap > DOWN:
        share += (max(0.0, taller - DOWN) + max(0.0, gap - DOWN)) / (4 * max(block.height, 40.0))
    if share == 0:
        return 0.0, None
    if fewer > 0.1:
        return min(1.0, share), ("shortened", 0.0)
    resized = max(wider - ACROSS, taller - DOWN)
    moved = max(across - ACROSS, gap - DOWN)
    how: tuple[Literal["moved", "resized", "shortened"], float] = (
        ("resized", max(wider, taller)) if resized > moved else ("moved", max(across, gap))
    )
    return min(1.0, share), how


def _weight(block: Block) -> float:
    return max(float(block.characters), math.sqrt(block.width * block.height) / 4, 1.0)
