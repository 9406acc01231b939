"""Weights of the reasons by a logistic regression that leans on the weights set by hand where there is little mail to go by."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from calibration.corpus import Labelled
from jetwind.core.spam import BANDS, declared
from jetwind.core.spam.words import LEAST, MOST

FILE = Path(__file__).parents[1] / "src" / "jetwind" / "core" / "facts" / "spam_weights.toml"
#: Of mail that is as often wanted as unwanted, so much is unwanted at the line of the medium band.
AT_MEDIUM = 0.25
#: How much mail a weight set by hand is worth, as a share of all of it; a weight never falls
#: below a tenth of a point, nor rises above twice that of the hand: habits of 2002 are not those of today.
_BELIEF = 0.004
_LEAST, _MOST = 0.1, 2.0
#: What one unit of the word model's pull may be worth: its words are those of 2002.
_MOST_WORDS = 1.0
_ROUNDS = 2_000


@dataclass(frozen=True)
class Weights:
    """Points of each measured reason and of one unit of the word model's pull; odds of unwanted mail at score 0, and what a point adds to them (natural logarithms)."""

    points: dict[str, float]
    words: float
    at_nothing: float
    a_point: float

    def score(self, row: Labelled, pull: float) -> float:
        """The score of a message as ``spam_sum`` gives it."""
        words = min(max(self.words * pull, LEAST), MOST)
        return row.by_hand + sum(self.points[reason] * times for reason, times in row.reasons) + words

    def share(self, score: float) -> float:
        """The share of unwanted mail at a score, of mail as often wanted as not."""
        return 1 / (1 + math.exp(-(self.at_nothing + self.a_point * score)))


def priors() -> dict[str, float]:
    """The weights set by hand of the reasons that are measured."""
    return {known.id: known.weight for known in declared().values() if not known.by_hand and known.id != "words"}


def fitted(rows: Sequence[Labelled], pulls: Sequence[float]) -> Weights:
    """Weights under which the score's bands hold on these messages. Easy and hard ham count alike, and spam as much as both."""
    prior = priors()
    names = list(prior)
    table = np.zeros((len(rows), len(names)))
    for number, row in enumerate(rows):
        for reason, times in row.reasons:
            table[number, names.index(reason)] = times
    pull, by_hand = np.array(pulls), np.array([row.by_hand for row in rows])
    wanted = np.array([row.is_spam for row in rows], dtype=np.float64)
    share = np.zeros(len(rows))
    for group, mass in (("easy ham", 0.25), ("hard ham", 0.25), ("spam", 0.5)):
        mine = np.array([row.group == group for row in rows])
        share[mine] = mass / max(mine.sum(), 1)
    hand = np.array([prior[name] for name in names])
    points, words, a_point = hand.copy(), 0.8, 0.9
    at_medium = math.log(AT_MEDIUM / (1 - AT_MEDIUM))
    for number in range(_ROUNDS):
        step = 0.5 if number < _ROUNDS // 2 else 0.1
        # A column of the table is added up row by row, so the sum does not depend on how a library shares out its work.
        pulled = np.clip(words * pull, LEAST, MOST)
        over = by_hand + (table * points).sum(axis=1) + pulled - BANDS["medium"]
        slope = share * (1.0 / (1.0 + np.exp(-(at_medium + a_point * over))) - wanted)
        points = np.clip(
            points - step * 4 * (a_point * (table * slope[:, None]).sum(axis=0) + _BELIEF * (points - hand)), _LEAST, _MOST * hand
        )
        inside = (words * pull > LEAST) & (words * pull < MOST)
        words = float(np.clip(words - step * a_point * (slope * pull * inside).sum(), 0.2, _MOST_WORDS))
        a_point = float(np.clip(a_point - step * (slope * over).sum(), 0.4, 2.0))
    bias = at_medium - a_point * BANDS["medium"]
    return Weights(
        {name: round(float(value), 2) for name, value in zip(names, points, strict=True)},
        round(words, 2),
        round(bias, 3),
        round(a_point, 3),
    )


def written(weights: Weights, counts: Mapping[str, int]) -> str:
    """The file that ships; ``counts`` is how much mail of each group it was measured on."""
    lines = [
        "# Weights of the reasons of spam risk in points, as python -m calibration measured them (docs/spam-calibration.md); do not edit.",
        "# at_nothing and a_point: natural logarithm of the odds of unwanted mail at score 0, and what a point adds to it, of mail as often wanted as not.",
        "",
        f"at_nothing = {weights.at_nothing}",
        f"a_point = {weights.a_point}",
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
