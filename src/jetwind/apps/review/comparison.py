"""Two revisions side by side: findings, envelope, text and source."""

from __future__ import annotations

from dataclasses import dataclass

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.review.models import FindingRecord
from jetwind.apps.review.selectors import ShownFinding, in_force_for, shown_with
from jetwind.core.prose.alignment import Pair
from jetwind.core.prose.comparison import EnvelopeChange, Line, envelope_changes, source_changes, text_changes

_MOST_LINES = 800


@dataclass(frozen=True)
class Comparison:
    """The fate of the findings from the earlier to the later revision, and what changed."""

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
    """Hold two revisions of one mailing against each other. A finding is the same while its fingerprint, or that of one of its faults, is."""
    before, after = _findings(earlier), _findings(later)
    long_ago: set[str] = set()
    for revision in later.mailing.revisions.filter(number__lt=earlier.number):
        long_ago |= _prints(_findings(revision))
    excuses = in_force_for(later)
    were, are = _prints(before), _prints(after)
    one, other = message_of(earlier), message_of(later)
    lines = list(source_changes(one.html.text if one.html else "", other.html.text if other.html else ""))
    plain = list(source_changes(one.text.text if one.text else "", other.text.text if other.text else ""))

    def shown(records: list[FindingRecord]) -> list[ShownFinding]:
        return [shown_with(record, excuses) for record in records]

    appeared = [record for record in after if not _own(record) & were]
    still = [record for record in after if _own(record) & were]
    for record in still:
        record.sentence += _change(record, were, [old for old in before if _own(old) & _own(record)])
    return Comparison(
        fixed=shown([record for record in before if not _own(record) & are]),
        new=shown([record for record in appeared if not _own(record) & long_ago]),
        still=shown(still),
        back=shown([record for record in appeared if _own(record) & long_ago]),
        envelope=[change for change in envelope_changes(one, other) if not change.is_same],
        text=[pair for pair in text_changes(one, other) if pair.likeness < 1],
        source=lines[:_MOST_LINES],
        is_source_cut=len(lines) > _MOST_LINES,
        plain=plain[:_MOST_LINES],
        unchecked=[revision for revision in (earlier, later) if not revision.check_runs.exists()],
    )


def _findings(revision: Revision) -> list[FindingRecord]:
    run = revision.check_runs.order_by("-created_at").first()
    return list(run.findings.all()) if run else []


def _own(record: FindingRecord) -> set[str]:
    """The fingerprints by which a finding is known again: those of its faults, where it tells several together."""
    return set(record.members) or {record.fingerprint}


def _prints(records: list[FindingRecord]) -> set[str]:
    return {fingerprint for record in records for fingerprint in _own(record)}


def _change(record: FindingRecord, were: set[str], old: list[FindingRecord]) -> str:
    """The fate of the faults of a finding that is still there, as a further sentence; empty where they are the same."""
    come, gone = len(_own(record) - were), len(_prints(old) - _own(record))
    told = [f"{come} {'is' if come == 1 else 'are'} new"] * bool(come) + [f"{gone} {'was' if gone == 1 else 'were'} fixed"] * bool(gone)
    return f" Of them {' and '.join(told)}." if told else ""
