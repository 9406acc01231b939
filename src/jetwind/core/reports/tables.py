"""Findings as CSV rows and as lines for people."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable

from jetwind.core.checking import Finding, Level, Outcome, Place, Rulebook, asking
from jetwind.core.reports.review import Review
from jetwind.core.reports.stations import station_of
from jetwind.core.source import cells

COLUMNS = ("check", "station", "level", "message", "part", "name", "line", "column", "places", "fix", "basis", "fingerprint")


def as_csv(findings: Iterable[Finding]) -> str:
    """A row for each finding."""
    return cells.as_csv(COLUMNS, map(_row, findings))


def _row(finding: Finding) -> list[object]:
    start = finding.place.start
    row = (
        finding.check,
        station_of(finding.check).name,
        finding.level.value,
        finding.message,
        finding.place.part,
        finding.place.name,
        start.line if start else "",
        start.column if start else "",
        finding.count,
        finding.fix,
        finding.basis,
        finding.fingerprint,
    )
    return [without_controls(cell) if isinstance(cell, str) else cell for cell in row]


def as_text(review: Review, rulebooks: Collection[str] = (), house: Collection[Rulebook] = ()) -> str:
    """The report that a person reads in a terminal, without colours: levels are words.

    ``rulebooks`` and ``house`` are those that applied: below what they demand stands their demand, with its source.
    """
    lines = []
    for finding in review.findings:
        more = f", and {_count(finding.count - 1, 'place', 'places')} more" if finding.count > 1 else ""
        lines += [f"{finding.level.value:<5} {finding.check}  ({_where(finding.place)}{more})", f"      {finding.message}"]
        told = 0
        for fault in finding.faults[:_MOST_TOLD]:
            if fault.places:
                lines.append(f"      · {fault.message} ({_where(finding.places[told])})")
                told += fault.places
        if len(finding.faults) > _MOST_TOLD:
            lines.append(f"      · and {len(finding.faults) - _MOST_TOLD} more; the other formats list them")
        lines.append(f"      → {finding.fix}")
        lines += [
            f"      § {book.name}: {demand.says} ({demand.source})"
            for check_id in finding.listed("checks") or [finding.check]
            for book, demand in asking(check_id, rulebooks, house)
        ]
    unanswered: dict[tuple[str, str], list[str]] = {}
    for result in review.results:
        if result.outcome in (Outcome.CANNOT_TELL, Outcome.RAN_OUT, Outcome.CRASHED):
            unanswered.setdefault((result.outcome.value.replace("-", " "), result.reason), []).append(result.check)
    # Checks that lack the same thing, such as a render, are told in one line.
    lines += [f"{outcome}: {', '.join(checks)} ({reason})" for (outcome, reason), checks in unanswered.items()]
    counts = {level: sum(finding.level is level for finding in review.findings) for level in Level}
    lines.append("")
    if unlooked := review.unlooked:
        lines.append(
            f"Not everything was checked: {_count(len(unlooked), 'check', 'checks')} looked at nothing to the end ({', '.join(unlooked)})."
        )
    lines.append(
        f"{_count(counts[Level.STOP], 'stop', 'stops')}, {_count(counts[Level.FIX], 'fix', 'fixes')}, {_count(counts[Level.NOTE], 'note', 'notes')}; "
        f"spam risk {review.spam.in_words}"
    )
    return "\n".join(without_controls(line) for line in lines) + "\n"


def _where(place: Place) -> str:
    return f"{place.part} {place.name}".strip() + (f" {place.start.line}:{place.start.column}" if place.start else "")


#: Faults of one finding that are told one by one in a terminal.
_MOST_TOLD = 10


def without_controls(text: str) -> str:
    """A line for a terminal: what a message holds in control characters could move its cursor or worse (ECMA-48), and is shown by number."""
    return _CONTROL.sub(lambda match: f"\\x{ord(match[0]):02x}", text)


_CONTROL = re.compile(r"[\x00-\x1f\x7f-\x9f]")


def _count(number: int, one: str, many: str) -> str:
    return f"{number} {one if number == 1 else many}"
