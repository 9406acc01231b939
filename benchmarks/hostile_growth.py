"""How the work on hostile repetition grows from 100 to 200 KB, each piece in each place.

PYTHONPATH=src .jetwind/venv/bin/python -m benchmarks.hostile_growth ["PIECE, PLACE" …]
"""

from __future__ import annotations

import gc
import sys
import time

from jetwind.core.checking import Context, registry, run
from jetwind.core.message import read_bytes
from jetwind.engines.dictionaries import Installed
from tests.hostile import PIECES, PLACES, hostile

GOAL = 2.3


def cost(raw: bytes) -> float:
    """CPU ms of all static checks, the least of three: what else the machine does counts in no growth."""
    taken = []
    for _ in range(3):
        gc.collect()
        start = time.process_time()
        run(read_bytes(raw, "a.eml"), Context(dictionaries=Installed()))
        taken.append((time.process_time() - start) * 1000)
    return min(taken)


def main(wanted: list[str]) -> None:
    """Print the growth of each that takes more than a moment, or of each that is wanted, and the steepest of all."""
    registry()
    run(read_bytes(b"Subject: x\n\nword", "a.eml"), Context(dictionaries=Installed()))
    print("   100 KB     200 KB   growth   what, where")
    steepest, slowest = 0.0, 0.0
    for place in PLACES:
        for piece in PIECES:
            if wanted and f"{piece}, {place}" not in wanted:
                continue
            times = [cost(hostile(piece, place, size)) for size in (100_000, 200_000)]
            growth = times[1] / times[0]
            slowest = max(slowest, times[1])
            if times[1] > 300:
                steepest = max(steepest, growth)
                verdict = "" if growth <= GOAL else "  MISSED"
                print(f"{times[0]:7.0f} ms {times[1]:7.0f} ms   x {growth:4.2f}   {piece}, {place}{verdict}", flush=True)
    print(f"steepest of those over 300 ms: {steepest:.2f} for each doubling (goal {GOAL}); slowest 200 KB: {slowest:.0f} ms")


if __name__ == "__main__":
    main(sys.argv[1:])
