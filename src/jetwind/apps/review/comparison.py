"""Two revisions side by side: findings, envelope, text and source."""

from __future__ import annotations

from dataclasses import dataclass

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.review.models import FindingRecord
from jetwind.apps.review.selectors import ShownFinding, excuses_for
from jetwind.core.prose.alignment import Pair
from jetwind.core.prose.comparison import EnvelopeChange, Line, envelope_changes, source_changes, text_changes

_MOST_LINES = 800


@dataclass(frozen=True)
class Comparison:
    """What became of the findings from the earlier to the later revision, and what changed."""

    fixed: list[ShownFinding]
    new: list[ShownFinding]
    still: list[ShownFinding]
    back: list[ShownFinding]
    envelope: list[EnvelopeChange]
    text: list[Pair]
    source: list[Line]
    is_source_cut: bool
    plain: list[Line]
    unchecked: list[Revision]


def compare(earlier: Revision, later: Revision) -> Comparison:
    """Hold two revisions of one mailing against each other. A finding is the same while its fingerprint is."""
    before, after = _findings(earlier), _findings(later)
    long_ago: set[str] = set()
    for revision in later.mailing.revisions.filter(number__lt=earlier.number):
        long_ago |= set(_findings(revision))
    excuses = {excuse.fingerprint: excuse for excuse in excuses_for(later)}
    one, other = message_of(earlier), message_of(later)
    lines = list(source_changes(one.html.text if one.html else "", other.html.text if other.html else ""))
    plain = list(source_changes(one.text.text if one.text else "", other.text.text if other.text else ""))

    def shown(records: dict[str, FindingRecord], wanted: set[str]) -> list[ShownFinding]:
        return [ShownFinding(record, excuses.get(key)) for key, record in records.items() if key in wanted]

    appeared = set(after) - set(before)
    return Comparison(
        fixed=shown(before, set(before) - set(after)),
        new=shown(after, appeared - long_ago),
        still=shown(after, set(after) & set(before)),
        back=shown(after, appeared & long_ago),
        envelope=[change for change in envelope_changes(one, other) if not change.is_same],
        text=[pair for pair in text_changes(one, other) if pair.likeness < 1],
        source=lines[:_MOST_LINES],
        is_source_cut=len(lines) > _MOST_LINES,
        plain=plain[:_MOST_LINES],
        unchecked=[revision for revision in (earlier, later) if not revision.check_runs.exists()],
    )


def _findings(revision: Revision) -> dict[str, FindingRecord]:
    run = revision.check_runs.order_by("-created_at").first()
    return {record.fingerprint: record for record in run.findings.all()} if run else {}
