"""The Spam risk station: the running sum with its reasons, what would bring it below the line, and the score of every revision."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from urllib.parse import urlencode

from jetwind.apps.intake.selectors import message_of
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.models import CheckRun
from jetwind.apps.review.selectors import Walk, station_address
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.workspace.access import PersonRequest
from jetwind.core.message import Message
from jetwind.core.source import Excerpt, Span
from jetwind.core.spam import BANDS, GROUPS, OtherScore, Reason, SpamReason, SpamSum, band_of, declared, weight_of
from jetwind.core.spam.total import Band
from jetwind.core.spam.words import LEAST, MOST

#: Points that the drawing shows at least, to the left and to the right of nothing.
_LEFT, _RIGHT = 2.0, 7.0
#: Px of the drawing of revisions.
_WIDE, _TALL, _EDGE = 520, 130, 28
_MOST_REVISIONS = 40


@dataclass(frozen=True, slots=True)
class Row:
    """One reason in the drawing: where its bar begins and how wide it is, in per cent of the track."""

    reason: SpamReason
    is_on: bool
    left: float
    share: float
    toggle: str
    excerpt: Excerpt | None
    words: tuple[tuple[str, float, float], ...]

    @property
    def where(self) -> str:
        """The place in words."""
        place = self.reason.place
        if place is None or place.part == "message":
            return "the message as a whole"
        words = f"{ {'html': 'HTML', 'text': 'plain text'}.get(place.part, place.part) } {place.name}".strip()
        return f"{words}, line {place.start.line}, column {place.start.column}" if place.start is not None else words


@dataclass(frozen=True, slots=True)
class Point:
    """The score of one revision in the drawing."""

    number: int
    score: float
    band: str
    x: float
    y: float
    address: str


@dataclass(frozen=True, slots=True)
class _Axis:
    lowest: float
    highest: float

    def at(self, points: float) -> float:
        """Where so many points stand, in per cent of the track."""
        return 100 * (points - self.lowest) / (self.highest - self.lowest)


@dataclass(frozen=True, slots=True)
class Page:
    """The sum, and what remains of it without the reasons that were switched off, in points."""

    total: SpamSum
    score: float
    band: str
    rows: list[Row]
    axis: _Axis
    #: Lines of the drawing: label, place in per cent, what it is; and the bands by their lowest points.
    lines: list[tuple[str, float, str]]
    bands: Mapping[Band, float]
    #: The fewest reasons without which the message comes below the line, and what comes of it.
    change: list[SpamReason]
    change_score: float
    change_band: str
    change_query: str
    #: The sums of other subjects, and the highest of other readers' copies.
    subjects: list[OtherScore]
    worst: OtherScore | None
    #: The scores of earlier revisions, the size of their drawing in px, its lines with their height in px.
    history: list[Point]
    history_size: tuple[int, int]
    history_lines: list[tuple[str, float]]


def page(request: PersonRequest, around: Frame) -> Page | None:
    """The sum as it stands, or without some of its reasons."""
    walk, message = around.walk, message_of(around.revision)
    if walk.run is None:
        return None
    without = request.GET.getlist("without")
    total = SpamSum.from_json(walk.run.spam)
    change = total.lightest_change()
    lowest = min(0.0, sum(reason.weight for reason in total.reasons if reason.weight < 0), -_LEFT)
    highest = max(_RIGHT, sum(reason.weight for reason in total.reasons if reason.weight > 0) + 0.4)
    axis = _Axis(lowest, highest)
    return Page(
        total=total,
        score=total.score(without),
        band=total.band(without),
        rows=_rows(message, total, without, axis),
        axis=axis,
        lines=[("0", axis.at(0.0), "nothing")] + [(f"{name} from {lowest:g}", axis.at(lowest), name) for name, lowest in BANDS.items()],
        bands=BANDS,
        change=[reason for reason in total.reasons if reason.id in change],
        change_score=total.score(change),
        change_band=total.band(change),
        change_query=urlencode({"without": change}, doseq=True),
        subjects=[other for other in total.others if other.kind == "subject"],
        worst=next((other for other in total.others if other.kind == "reader"), None),
        history=_history(walk),
        history_size=(_WIDE, _TALL),
        history_lines=[(name, _height(lowest)) for name, lowest in BANDS.items()],
    )


def reasons_by_group() -> list[tuple[str, list[tuple[Reason, str]]]]:
    """Every reason with its points in words, by what it looks at."""
    rows = [(known, f"{LEAST:g} to {MOST:g}" if known.id == "words" else f"{weight_of(known):.1f}") for known in declared().values()]
    return [(group.capitalize(), [row for row in rows if row[0].group == group]) for group in GROUPS]


def _rows(message: Message, total: SpamSum, without: Sequence[str], axis: _Axis) -> list[Row]:
    rows: list[Row] = []
    running = 0.0
    for reason in total.reasons:
        is_on = reason.id not in without
        others = [name for name in without if name != reason.id] + ([reason.id] if is_on else [])
        start, end = sorted((running, running + reason.weight))
        heaviest = max((abs(weight) for _, weight in reason.words), default=1.0)
        words = tuple((word, weight, round(100 * abs(weight) / heaviest)) for word, weight in reason.words)
        toggle = urlencode({"without": others}, doseq=True)
        rows.append(
            Row(
                reason,
                is_on,
                left=axis.at(start),
                share=axis.at(end) - axis.at(start),
                toggle=toggle,
                excerpt=_excerpt(message, reason),
                words=words,
            )
        )
        running += reason.weight if is_on else 0.0
    return rows


def _excerpt(message: Message, reason: SpamReason) -> Excerpt | None:
    place = reason.place
    source = message.source_of(place.part) if place is not None else None
    if source is None or place is None or place.start is None or place.end is None or place.end.offset > len(source.text):
        return None
    return source.excerpt(Span(place.start.offset, place.end.offset), lines=1, width=160)


def _height(score: float) -> float:
    """Px from the top of the drawing of revisions; what is beyond it stands at its edge."""
    span = 12.0
    inside = min(max(score, -_LEFT), span - _LEFT)
    return round(_TALL - 18 - (inside + _LEFT) / span * (_TALL - 30), 1)


def _history(walk: Walk) -> list[Point]:
    """The score of each revision that was checked, the newest ones."""
    runs = CheckRun.objects.filter(revision__mailing_id=walk.revision.mailing_id).order_by("-revision__number", "-created_at")
    rows = list(runs.distinct("revision__number").values_list("revision__number", "spam__score")[:_MOST_REVISIONS])[::-1]
    scored = [(number, float(score)) for number, score in rows if isinstance(score, int | float)]
    step = (_WIDE - 2 * _EDGE) / max(len(scored) - 1, 1)
    address = station_address(walk.revision, "spam-risk")
    own = f"/r{walk.revision.number}/"
    return [
        Point(
            number,
            score,
            band=band_of(score),
            x=round(_EDGE + step * at, 1),
            y=_height(score),
            address=address.replace(own, f"/r{number}/"),
        )
        for at, (number, score) in enumerate(scored)
    ]


STATION = StationPage("spam-risk", "review/spam.html", page)
