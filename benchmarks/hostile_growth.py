"""How the work on hostile repetition grows from 100 to 200 KB, each piece in each place.

PYTHONPATH=src .jetwind/venv/bin/python -m benchmarks.hostile_growth
"""

from __future__ import annotations

from benchmarks.common import milliseconds
from jetwind.core.checking import Context, registry, run
from jetwind.core.message import read_bytes
from tests.hostile import PIECES, PLACES, hostile

GOAL = 2.3


def main() -> None:
    """Print the growth of each that takes more than a moment, and the steepest of all."""
    registry()
    run(read_bytes(b"Subject: x\n\nword", "a.eml"), Context())
    print("   100 KB     200 KB   growth   what, where")
    steepest, slowest = 0.0, 0.0
    for place in PLACES:
        for piece in PIECES:
            times = [
                min(milliseconds(lambda raw=raw: run(read_bytes(raw, "a.eml"), Context())) for _ in range(2))
                for raw in (hostile(piece, place, size) for size in (100_000, 200_000))
            ]
            growth = times[1] / times[0]
            slowest = max(slowest, times[1])
            if times[1] > 300:
                steepest = max(steepest, growth)
                verdict = "" if growth <= GOAL else "  MISSED"
                print(f"{times[0]:7.0f} ms {times[1]:7.0f} ms   x {growth:4.2f}   {piece}, {place}{verdict}", flush=True)
    print(f"steepest of those over 300 ms: {steepest:.2f} for each doubling (goal {GOAL}); slowest 200 KB: {slowest:.0f} ms")


if __name__ == "__main__":
    main()
