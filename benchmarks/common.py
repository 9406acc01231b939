"""What every benchmark shares: the floor and our own figure in turn, the median of at least three, the ratio to the goal."""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable


def milliseconds(work: Callable[[], object]) -> float:
    """How long one call takes."""
    start = time.perf_counter()
    work()
    return (time.perf_counter() - start) * 1000


def compare(what: str, floor_name: str, floor: Callable[[], object], own: Callable[[], object], goal: float, rounds: int = 5) -> None:
    """Print floor, own figure, ratio and goal; the two are measured in turn, so that a machine that slows down slows both."""
    floors, owns = [], []
    for _ in range(rounds):
        floors.append(milliseconds(floor))
        owns.append(milliseconds(own))
    low, high = statistics.median(floors), statistics.median(owns)
    verdict = "met" if high / low <= goal else "MISSED"
    print(f"{what}: floor ({floor_name}) {low:.1f} ms, own {high:.1f} ms, ratio {high / low:.2f}, goal {goal:g}: {verdict}")
