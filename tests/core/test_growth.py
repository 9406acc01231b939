"""Work grows with the message and not with its square, whatever is repeated wherever.

What is compared is processor time at four times the size, three tries at most: linear work takes four times as long, quadratic
sixteen. No time is asserted by itself.
"""

from __future__ import annotations

import time
from datetime import UTC, datetime

import pytest

from jetwind.core.checking import Context, Kind, Outcome, run
from jetwind.core.message import read_bytes
from jetwind.core.profiles import profiles, rewrite
from jetwind.core.sets import pieces_of, traits_of
from jetwind.engines.dictionaries import Installed
from tests.hostile import PIECES, PLACES, hostile

MOMENT = datetime(2027, 3, 9, 9, tzinfo=UTC)
SIZES = 3_000, 12_000
#: Between linear (4) and quadratic (16), with room for a machine that changes its speed.
MOST = 9.0


def work(raw: bytes) -> float:
    """Processor seconds for parsing, all checks, a rewrite, and the pieces that other messages may share."""
    started = time.process_time()
    message = read_bytes(raw, "x.eml")
    results = run(message, Context(Kind.NEWSLETTER, planned=MOMENT, now=MOMENT, dictionaries=Installed()))
    rewrite(message, profiles()["word-processor"])
    pieces_of(message)
    traits_of(message)
    taken = time.process_time() - started
    assert [(result.check, result.reason) for result in results if result.outcome is Outcome.CRASHED] == []
    return taken


@pytest.mark.parametrize("place", PLACES)
def test_growth(place: str) -> None:
    """Each piece in this place: nothing crashes, and four times as much takes less than nine times as long."""
    too_steep: dict[str, float] = {}
    for piece in PIECES:
        small, large = (hostile(piece, place, size) for size in SIZES)
        growths: list[float] = []
        for _ in range(3):
            growths.append(work(large) / work(small))
            if growths[-1] < MOST:
                break
        else:
            too_steep[piece] = min(growths)
    assert too_steep == {}
