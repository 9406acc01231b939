"""The report as one HTML file that needs nothing else: for a ticket, a mail, an archive."""

from __future__ import annotations

import re
from functools import lru_cache
from importlib.resources import files
from typing import TYPE_CHECKING

from jetwind import __version__
from jetwind.core.checking import Finding, Level, Outcome, Place
from jetwind.core.reports.review import Review
from jetwind.core.reports.stations import STATIONS, station_of
from jetwind.core.source import Span

if TYPE_CHECKING:
    from liquid import BoundTemplate

_BARS = {Level.STOP: 3, Level.FIX: 2, Level.NOTE: 1}
#: Characters that HTML does not allow (HTML §13.2.3.5) and a terminal obeys.
_CONTROL = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f]")


@lru_cache(maxsize=1)
def _template() -> BoundTemplate:
    # Loaded when first used: other reports do without it.
    from liquid import Environment

    # Everything that is put in is escaped; nothing of a message becomes markup of ours.
    return Environment(autoescape=True).from_string(files(__package__).joinpath("report.html.liquid").read_text("utf-8"))


def as_html(review: Review, title: str = "") -> str:
    """The report. Everything that comes from the message is escaped; the file loads nothing and runs nothing."""
    message = review.message
    counts = ", ".join(
        f"{sum(finding.level is level for finding in review.findings)} {word}"
        for level, word in ((Level.STOP, "stops"), (Level.FIX, "fixes"), (Level.NOTE, "notes"))
    )
    by_station = [
        {"name": station.name, "findings": [_shown(review, finding) for finding in review.findings if station_of(finding.check) is station]}
        for station in STATIONS
    ]
    page: str = _template().render(
        heading=title or message.subject or "Message without a subject",
        counts=counts,
        spam=review.spam.in_words,
        sha256=message.sha256,
        version=__version__,
        stations=[station for station in by_station if station["findings"]],
        answers=[
            {"check": result.check, "outcome": result.outcome.value.replace("-", " "), "reason": result.reason}
            for result in review.results
            if result.outcome is not Outcome.FINDINGS
        ],
    )
    return _CONTROL.sub("�", page)


def _shown(review: Review, finding: Finding) -> dict[str, object]:
    place = finding.place
    return {
        "level": finding.level.value,
        "bars": [
            {"x": number * 5, "y": 8 - 2 * number, "height": 4 + 2 * number, "opacity": 1 if number < _BARS[finding.level] else 0.2}
            for number in range(3)
        ],
        "message": finding.message,
        "fix": finding.fix,
        "where": _where(place),
        "check": finding.check,
        "basis": finding.basis,
        "fingerprint": finding.fingerprint,
        "excerpt": _excerpt(review, finding),
        "faults": [
            {"message": fault.message, "where": _where(place)}
            for place, fault in zip(finding.places, finding.fault_by_place if finding.faults else (), strict=False)
        ],
        "more": finding.more,
    }


def _where(place: Place) -> str:
    return f"{place.part} {place.name}".strip() + (f", line {place.start.line}, column {place.start.column}" if place.start else "")


def _excerpt(review: Review, finding: Finding) -> dict[str, str] | None:
    place = finding.place
    source = review.message.source_of(place.part)
    if source is None or place.start is None or place.end is None or not source.text:
        return None
    found = source.excerpt(Span(place.start.offset, place.end.offset), lines=1, width=120)
    marked = found.marked if len(found.marked) <= 400 else found.marked[:300] + " … " + found.marked[-80:]
    return {"before": found.before, "marked": marked, "after": found.after}
