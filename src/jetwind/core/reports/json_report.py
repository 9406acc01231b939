"""The JSON report; its keys are a contract with everything that reads it."""

from __future__ import annotations

import json
from collections.abc import Mapping

from jetwind import __version__
from jetwind.core.checking import CheckResult, Finding, Outcome, Place
from jetwind.core.reports.review import Review
from jetwind.core.reports.stations import station_of
from jetwind.core.source import Position


def as_json(review: Review, kinds: Mapping[str, str]) -> str:
    """The report as indented JSON. ``kinds`` are the findings that a machine can mend, by fingerprint, each with the kind of its mend."""
    message = review.message
    report = {
        "jetwind": __version__,
        "message": {
            "sha256": message.sha256,
            "subject": message.subject if message.envelope_known else None,
            "preheader": review.summary.preview_text,
            "html_bytes": message.html.octets if message.html else 0,
            "text_bytes": message.text.octets if message.text else 0,
            "image_bytes": message.image_octets,
            "images": len(message.images),
            "links": review.summary.links,
        },
        "findings": [finding_as_dict(finding) | {"mend": kinds.get(finding.fingerprint)} for finding in review.findings],
        "unlooked": review.unlooked,
        "outcomes": {result.check: _outcome(result) for result in review.results},
        "spam": {
            "score": review.spam.score() if review.spam.is_known else None,
            "band": review.spam.band() if review.spam.is_known else None,
            "reasons": [{"id": reason.id, "weight": reason.weight, "evidence": reason.evidence} for reason in review.spam.reasons],
        },
    }
    return json.dumps(report, indent=2, ensure_ascii=False)


def finding_as_dict(finding: Finding) -> dict[str, object]:
    """One finding with plain values only."""
    return {
        "check": finding.check,
        "station": station_of(finding.check).name,
        "level": finding.level.value,
        "message": finding.message,
        "fix": finding.fix,
        "basis": finding.basis,
        "fingerprint": finding.fingerprint,
        "where": _where(finding.place),
        "places": _places(finding),
        "count": finding.count,
        "data": dict(finding.data),
    }


def _places(finding: Finding) -> list[dict[str, object]]:
    """Each place; of faults that are told together each with the fault's own sentence, mend and fingerprint."""
    places = [_where(place) for place in finding.places]
    if not finding.faults:
        return places
    return [
        {**place, "message": fault.message, "fix": fault.fix, "fingerprint": fault.fingerprint}
        for place, fault in zip(places, finding.fault_by_place, strict=True)
    ]


def _where(place: Place) -> dict[str, object]:
    return {"part": place.part, "name": place.name, "start": _position(place.start), "end": _position(place.end)}


def _position(position: Position | None) -> dict[str, int] | None:
    if position is None:
        return None
    return {"line": position.line, "column": position.column, "offset": position.offset}


def _outcome(result: CheckResult) -> str:
    if result.outcome in (Outcome.CANNOT_TELL, Outcome.RAN_OUT, Outcome.CRASHED):
        return f"{result.outcome.value}: {result.reason}"
    return result.outcome.value
