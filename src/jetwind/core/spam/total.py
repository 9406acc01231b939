"""The sum of all reasons, its band, and what would bring it below a line."""

from __future__ import annotations

import dataclasses
from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import combinations, islice
from typing import Literal

import jetwind.core.spam.reasons
import jetwind.core.spam.words  # noqa: F401  both declare them
from jetwind.core.checking import CannotTell, Context, Place
from jetwind.core.checking.copies import readers_copies
from jetwind.core.facts import table
from jetwind.core.facts.tables import SpamWeights
from jetwind.core.message import Header, Message, Shared
from jetwind.core.source.plain import read
from jetwind.core.spam.declaring import Evidence, Reason, declared

_SUM: Shared[tuple[SpamSum, frozenset[str]]] = Shared("spam")

Band = Literal["low", "medium", "high"]

#: Lowest score of each band above low.
BANDS: dict[Band, float] = {"medium": 3.0, "high": 6.0}
#: Copies of readers that are scored to find the worst one.
_MOST_COPIES = 20
#: Sets of reasons that are tried to find the smallest change.
_MOST_TRIED = 200_000


@dataclass(frozen=True, slots=True)
class SpamReason:
    """One reason that applies: what it adds to the score in points, and what in the message gives rise to it, and where.

    ``times`` is how often the reason's own weight it counts. ``words`` are those that pulled, with their weights, of the word model alone.
    """

    id: str
    name: str
    weight: float
    evidence: str
    why: str = ""
    fix: str = ""
    by_hand: bool = False
    effort: int = 1
    place: Place | None = None
    words: tuple[tuple[str, float], ...] = ()
    times: float = 1.0


@dataclass(frozen=True, slots=True)
class OtherScore:
    """The score of the same message with another subject, or as a reader gets it."""

    kind: Literal["subject", "reader"]
    name: str
    score: float
    band: Band


@dataclass(frozen=True, slots=True)
class SpamSum:
    """All reasons that apply, heaviest first. ``unknown`` are those of which nothing can be told: name and why."""

    reasons: tuple[SpamReason, ...]
    unknown: tuple[tuple[str, str], ...] = ()
    others: tuple[OtherScore, ...] = ()

    def score(self, without: Collection[str] = ()) -> float:
        """The sum in points, leaving out the reasons with the ids ``without``, to one decimal place. Words may pull it below zero."""
        return round(sum(reason.weight for reason in self.reasons if reason.id not in without), 1) + 0.0

    @property
    def unknown_by_why(self) -> list[tuple[str, str]]:
        """Reasons of which nothing can be told, each sentence of why once: names and why."""
        names: dict[str, list[str]] = {}
        for name, why in self.unknown:
            names.setdefault(why, []).append(f"“{name}”")
        return [(", ".join(of), why) for why, of in names.items()]

    @property
    def is_known(self) -> bool:
        """Whether the sum was worked out: without it the score says nothing."""
        return all(name != "all" for name, _ in self.unknown)

    @property
    def in_words(self) -> str:
        """Score and band."""
        return f"{self.score():.1f} {self.band()}" if self.is_known else "not known"

    def band(self, without: Collection[str] = ()) -> Band:
        """The band that the score falls in."""
        return band_of(self.score(without))

    def lightest_change(self) -> tuple[str, ...]:
        """Ids of the fewest reasons without which the score is below the next lower line; of those as few, the ones that cost least work.

        Empty in the low band, and where nothing that can be changed is enough.
        """
        band = self.band()
        if band == "low":
            return ()
        line = BANDS[band]
        pushing = [reason for reason in self.reasons if reason.weight > 0]
        enough = self._fewest(pushing, line)
        best: tuple[int, float, tuple[str, ...]] | None = None
        for chosen in islice(combinations(pushing, enough), _MOST_TRIED) if enough else ():
            ids = tuple(reason.id for reason in chosen)
            if self.score(ids) < line:
                cost = (sum(reason.effort for reason in chosen), -sum(reason.weight for reason in chosen), ids)
                best = min(best, cost) if best is not None else cost
        return best[2] if best is not None else ()

    def _fewest(self, pushing: list[SpamReason], line: float) -> int:
        """How many of the heaviest reasons must go for a score below the line, as it is shown, with one decimal place; 0 where all are too few."""
        heaviest = [reason.id for reason in sorted(pushing, key=lambda reason: -reason.weight)]
        return next((number for number in range(1, len(heaviest) + 1) if self.score(heaviest[:number]) < line), 0)

    def as_json(self) -> dict[str, object]:
        """As plain values that a database keeps."""
        return {
            "score": self.score(),
            "band": self.band(),
            "reasons": [dataclasses.asdict(reason) for reason in self.reasons],
            "unknown": [list(pair) for pair in self.unknown],
            "others": [dataclasses.asdict(other) for other in self.others],
        }

    @classmethod
    def from_json(cls, kept: Mapping[str, object]) -> SpamSum:
        """The sum that ``as_json`` gave, or an older one that knew less."""
        return cls(read(kept.get("reasons", ()), _Reasons), read(kept.get("unknown", ()), _Pairs), read(kept.get("others", ()), _Others))


def band_of(score: float) -> Band:
    """The band that a score falls in."""
    return "high" if score >= BANDS["high"] else "medium" if score >= BANDS["medium"] else "low"


_Reasons = tuple[SpamReason, ...]
_Pairs = tuple[tuple[str, str], ...]
_Others = tuple[OtherScore, ...]


@lru_cache(maxsize=1)
def measured_weights() -> dict[str, float]:
    """Weights that calibration found, by reason, in points."""
    return table("spam_weights", SpamWeights)["weights"]


def measured_on() -> dict[str, int]:
    """How many messages the weights were measured on: ``easy_ham``, ``hard_ham``, ``spam``."""
    return table("spam_weights", SpamWeights)["mail"]


def says() -> list[tuple[float, float]]:
    """Scores, each with the share of the mail at it that was unwanted, of mail as often wanted as not (docs/spam-calibration.md)."""
    return [(float(score), float(share)) for score, share in table("spam_weights", SpamWeights)["says"]]


def spam_sum(message: Message, context: Context) -> SpamSum:
    """Judge every reason on a message."""
    # The check and the report ask under the same circumstances, one after the other; what was looked at is noted for both.
    circumstances = f"{context.kind} {sorted(context.practice_domains)} {hash(context.papers)}"
    total, used = message.shared(_SUM.of(circumstances), lambda: _judged(message, context))
    for name in used:
        getattr(context, name)
    return total


def scores_of_others(message: Message, context: Context) -> tuple[OtherScore, ...]:
    """The score with each subject variant, and that of the sample reader whose copy scores highest."""
    found = []
    for variant in message.variants:
        other = spam_sum(with_subject(message, variant), context)
        found.append(OtherScore("subject", variant, other.score(), other.band()))
    worst: OtherScore | None = None
    for copy in readers_copies(message, context.readers)[:_MOST_COPIES]:
        other = spam_sum(copy.merged.message, context)
        if worst is None or other.score() > worst.score:
            worst = OtherScore("reader", copy.readers[0], other.score(), other.band())
    return (*found, worst) if worst is not None else tuple(found)


def with_subject(message: Message, subject: str) -> Message:
    """The same message under another subject."""
    kept = tuple(header for header in message.headers if header.name.lower() != "subject")
    return replace(message, headers=(*kept, Header("Subject", subject, subject, None)), variants=())


def _judged(message: Message, context: Context) -> tuple[SpamSum, frozenset[str]]:
    watched = context.watched()
    found: list[SpamReason] = []
    unknown: list[tuple[str, str]] = []
    for one in declared().values():
        try:
            evidence = one.judge(message, watched)
        except CannotTell as why:
            unknown.append((one.name, str(why)))
            continue
        if evidence is not None:
            found.append(_weighed(one, evidence))
    found = _with_subject_floor(found)
    return SpamSum(tuple(sorted(found, key=lambda reason: (-reason.weight, reason.id))), tuple(unknown)), frozenset(watched.used)


def weight_of(one: Reason) -> float:
    """The points that a reason adds: measured, or set by hand."""
    return one.weight if one.by_hand or one.id == "words" else measured_weights().get(one.id, one.weight)


def _weighed(one: Reason, evidence: Evidence) -> SpamReason:
    weight = weight_of(one)
    return SpamReason(
        f"spam.{one.id}",
        one.name,
        weight=round(weight * evidence.times, 2),
        evidence=evidence.said,
        why=one.why,
        fix=one.fix,
        by_hand=one.by_hand,
        effort=one.effort,
        place=evidence.place,
        words=evidence.words,
        times=evidence.times,
    )


def _with_subject_floor(found: list[SpamReason]) -> list[SpamReason]:
    """A message without a subject is in the medium band at least, however its words pull."""
    rest = sum(reason.weight for reason in found if reason.id != "spam.subject-missing")
    return [
        replace(reason, weight=round(max(reason.weight, BANDS["medium"] - rest), 2)) if reason.id == "spam.subject-missing" else reason
        for reason in found
    ]
