"""Weights of the reasons by a logistic regression, and what share of mail was unwanted at a score.

The reasons are weighed without the words, which would else take what they have to say.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from calibration.corpus import Labelled
from jetwind.core.spam import BANDS, declared
from jetwind.core.spam.words import LEAST, MOST

FILE = Path(__file__).parents[1] / "src" / "jetwind" / "core" / "facts" / "spam_weights.toml"
#: How much of all mail is taken to be of each group.
_MIX = (("easy ham", 0.2), ("hard ham", 0.3), ("spam", 0.5))
#: What holds the weights of reasons near nothing, so that a reason that parts nothing weighs nothing.
_RIDGE = 3e-4
#: No weight is above so many times that set by hand, nor above so much by itself: habits of 2002 are not those of today.
_MOST, _HEAVIEST = 3.0, 2.0
#: Points of a unit of what the regression gives the reasons, and of a unit of the word model's pull: so chosen that the bands hold, while no
#: reason but the heaviest brings a message near the medium band by itself. The words are those of 2002, and have their own limits.
_POINTS, _POINTS_OF_WORDS = 1.3, 1.5
#: Messages that a reason applies to at the fewest: of a rarer one nothing is measured, and it keeps the weight set by hand.
FEWEST = 5
#: Points under which a reason is said to part nothing.
_LEAST = 0.05
_ROUNDS, _ROUNDS_OF_SHARES = 4_000, 400
#: Scores at which the share of unwanted mail is told; between them it lies on a straight line. The share rises little from 2 to 4 points.
KNOTS = (-1.0, -0.5, 0.5, 1.75, 2.25, 3.75, 4.5, 5.5, 7.0)


@dataclass(frozen=True)
class Weights:
    """Points of each measured reason and of one unit of the word model's pull."""

    points: dict[str, float]
    words: float

    def score(self, row: Labelled, pull: float) -> float:
        """The score that ``spam_sum`` gives a message, without the reasons whose weights are set by hand."""
        return self.reasons_alone(row) + min(max(self.words * pull, LEAST), MOST)

    def reasons_alone(self, row: Labelled) -> float:
        """The same without the words."""
        return sum(self.points[reason] * times for reason, times in row.reasons)


def priors() -> dict[str, float]:
    """The weights set by hand of the reasons that are measured."""
    return {known.id: known.weight for known in declared().values() if not known.by_hand and known.id != "words"}


def fitted(rows: Sequence[Labelled]) -> Weights:
    """The weights that these messages give."""
    prior = priors()
    names = list(prior)
    table = np.zeros((len(rows), len(names)))
    for number, row in enumerate(rows):
        for reason, times in row.reasons:
            table[number, names.index(reason)] = times
    wanted = np.array([row.is_spam for row in rows], dtype=np.float64)
    share = shares(rows)
    hand = np.array([prior[name] for name in names])
    is_rare = (table != 0).sum(axis=0) < FEWEST
    apart = np.where(is_rare, 0.0, _apart(table * ~is_rare, wanted, share, hand))
    points = {name: round(float(value) * _POINTS, 2) for name, value in zip(names, apart, strict=True)}
    points |= {name: prior[name] for name, rare in zip(names, is_rare, strict=True) if rare}
    return Weights({name: value if value >= _LEAST else 0.0 for name, value in points.items()}, _POINTS_OF_WORDS)


def _apart(
    table: NDArray[np.float64], wanted: NDArray[np.float64], share: NDArray[np.float64], hand: NDArray[np.float64]
) -> NDArray[np.float64]:
    """What each reason says by itself and beside the others, without the words: a logistic regression without negative weights."""
    weights, bias = np.zeros(len(hand)), 0.0
    ahead, ahead_bias = weights.copy(), bias
    # A step that never leads uphill: the slope changes no faster than this.
    step = 4.0 / (float((share[:, None] * table * table).sum()) + 1.0 + 4 * _RIDGE)
    for number in range(_ROUNDS):
        # A column of the table is added up row by row, so the sum does not depend on how a library shares out its work.
        sums = (table * ahead).sum(axis=1) + ahead_bias
        slope = share * (1.0 / (1.0 + np.exp(-sums)) - wanted)
        after = np.clip(ahead - step * ((table * slope[:, None]).sum(axis=0) + _RIDGE * ahead), 0.0, np.minimum(_MOST * hand, _HEAVIEST))
        after_bias = ahead_bias - step * float(slope.sum())
        momentum = number / (number + 3)
        ahead, ahead_bias = after + momentum * (after - weights), after_bias + momentum * (after_bias - bias)
        weights, bias = after, after_bias
    return weights


def shares(rows: Sequence[Labelled]) -> NDArray[np.float64]:
    """What each message counts for; all together count 1."""
    share = np.zeros(len(rows))
    for group, mass in _MIX:
        mine = np.array([row.group == group for row in rows])
        share[mine] = mass / max(mine.sum(), 1)
    return share


def says(rows: Sequence[Labelled], scores: Sequence[float]) -> list[float]:
    """The share of unwanted mail at each knot, so that the line through them lies as near to the messages as a line that never falls can.

    Near is the least sum of squares, solved for the rises from knot to knot, none of them negative, one after the other until they stay.
    """
    score, share = np.array(scores), shares(rows)
    wanted = np.array([row.is_spam for row in rows], dtype=np.float64)
    # The first row is the share at the first knot; each other one how far a score is on its way from one knot to the next.
    ways = [np.clip((score - low) / (high - low), 0.0, 1.0) for low, high in pairwise(KNOTS)]
    ramps = np.stack([np.ones(len(score)), *ways])
    rises = np.zeros(len(KNOTS))
    for _ in range(_ROUNDS_OF_SHARES):
        for number, ramp in enumerate(ramps):
            left = wanted - (ramps * rises[:, None]).sum(axis=0) + ramp * rises[number]
            rises[number] = max(float((share * ramp * left).sum() / (share * ramp * ramp).sum()), 0.0)
    return [round(min(float(value), 1.0), 3) for value in np.cumsum(rises)]


def share_at(score: float, told: Sequence[float]) -> float:
    """The share at a score, on the straight line between two knots."""
    return float(np.interp(score, KNOTS, told))


def written(weights: Weights, told: Sequence[float], counts: Mapping[str, int]) -> str:
    """The file that ships; ``counts`` is how much mail of each group it was measured on."""
    lines = [
        "# Weights of the reasons of spam risk in points, as python -m calibration measured them (docs/spam-calibration.md); do not edit.",
        "# says: pairs of a score and the share of the mail at it that was unwanted, of mail as often wanted as not; straight lines lie between them.",
        "",
        f"says = [{', '.join(f'[{knot:g}, {share:g}]' for knot, share in zip(KNOTS, told, strict=True))}]",
        "",
        "[mail]",
        *(f"{group.replace(' ', '_')} = {counts[group]}" for group in ("easy ham", "hard ham", "spam")),
        "",
        "[weights]",
    ]
    lines += [f"{name} = {value}" for name, value in sorted(weights.points.items())]
    return "\n".join(lines) + "\n"


def area(right: Sequence[float], left: Sequence[float]) -> float:
    """The area under the ROC curve: how often a message of ``right`` scores above one of ``left``, ties by half."""
    order: NDArray[np.float64] = np.sort(np.array(left))
    below = np.searchsorted(order, np.array(right), "left").sum() + np.searchsorted(order, np.array(right), "right").sum()
    return float(below) / 2 / (len(right) * len(left))


def bands(scores: Mapping[str, Sequence[float]]) -> dict[str, dict[str, int]]:
    """How many messages of each group stand in each band."""
    found = {}
    for group, values in scores.items():
        low = sum(value < BANDS["medium"] for value in values)
        high = sum(value >= BANDS["high"] for value in values)
        found[group] = {"low": low, "medium": len(values) - low - high, "high": high}
    return found
