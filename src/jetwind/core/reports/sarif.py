"""SARIF 2.1.0 (OASIS), the exchange format of analysis results that build pipelines and editors read."""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from dataclasses import dataclass

from jetwind import __version__
from jetwind.core.checking import Finding, Level, Place, registry
from jetwind.core.reports.review import Review

_LEVELS = {Level.STOP: "error", Level.FIX: "warning", Level.NOTE: "note"}


@dataclass(frozen=True, slots=True)
class Replacement:
    """New content in the place of a stretch of the artefact: of characters, or of octets where ``new`` is octets."""

    start: int
    length: int
    new: str | bytes


@dataclass(frozen=True, slots=True)
class Fix:
    """A change that an editor may make: what it does, and the replacements that it is made of."""

    description: str
    replacements: tuple[Replacement, ...]


def as_sarif(review: Review, uri: str, fixes: Mapping[str, Fix] | None = None) -> str:
    """One run over the artefact ``uri``; regions count code points, as the spans do (§3.14.17). ``fixes`` are those of findings, by fingerprint."""
    checks = registry()
    used = sorted({result.check for result in review.results})
    number = {check_id: index for index, check_id in enumerate(used)}
    rules = [
        {
            "id": check_id,
            "name": "".join(word.title() for word in checks[check_id].name.split()),
            "shortDescription": {"text": checks[check_id].name},
            "fullDescription": {"text": checks[check_id].rule},
            "help": {"text": f"{checks[check_id].why} {checks[check_id].fix} Basis: {checks[check_id].basis}."},
            "defaultConfiguration": {"level": _LEVELS[checks[check_id].level]},
        }
        for check_id in used
    ]
    run: dict[str, object] = {
        "tool": {"driver": {"name": "Jetwind", "version": __version__, "rules": rules}},
        "columnKind": "unicodeCodePoints",
        "results": [_result(finding, number[finding.check], uri) | _fixes(fixes or {}, finding, uri) for finding in review.findings],
    }
    if unlooked := [result for result in review.results if result.outcome.is_unlooked]:
        # Section 3.20.14 and 3.20.21 (from memory): a run that did not end, and what of it failed.
        notes = [
            {
                "level": "error",
                "message": {"text": f"{result.check} {result.outcome.value.replace('-', ' ')}: {result.reason}"},
                "descriptor": {"id": result.check},
            }
            for result in unlooked
        ]
        run["invocations"] = [{"executionSuccessful": False, "toolExecutionNotifications": notes}]
    log = {"version": "2.1.0", "$schema": "https://json.schemastore.org/sarif-2.1.0.json", "runs": [run]}
    return json.dumps(log, indent=2, ensure_ascii=False)


def _result(finding: Finding, rule_index: int, uri: str) -> dict[str, object]:
    return {
        "ruleId": finding.check,
        "ruleIndex": rule_index,
        "level": _LEVELS[finding.level],
        "message": {"text": f"{finding.message} {finding.fix}"},
        "locations": _locations(finding, uri),
        "partialFingerprints": {"jetwind/v1": finding.fingerprint},
    }


def _fixes(fixes: Mapping[str, Fix], finding: Finding, uri: str) -> dict[str, object]:
    """The fix of a finding (§3.55 to §3.57, from memory): text by code points, or octets, which are written in base64 (§3.3.3)."""
    if (fix := fixes.get(finding.fingerprint)) is None:
        return {}
    replacements: list[dict[str, object]] = []
    for one in fix.replacements:
        if isinstance(one.new, bytes):
            region = {"byteOffset": one.start, "byteLength": one.length}
            content = {"binary": base64.b64encode(one.new).decode()}
        else:
            region, content = {"charOffset": one.start, "charLength": one.length}, {"text": one.new}
        replacements.append({"deletedRegion": region, "insertedContent": content})
    change = {"artifactLocation": {"uri": uri}, "replacements": replacements}
    return {"fixes": [{"description": {"text": fix.description}, "artifactChanges": [change]}]}


def _locations(finding: Finding, uri: str) -> list[dict[str, object]]:
    """Each place; of faults that are told together with the fault's own sentence (§3.28.5, from memory)."""
    locations = [_location(place, uri) for place in finding.places]
    for location, fault in zip(locations, finding.fault_by_place if finding.faults else (), strict=False):
        location["message"] = {"text": f"{fault.message} {fault.fix}"}
    return locations


def _location(place: Place, uri: str) -> dict[str, object]:
    physical: dict[str, object] = {"artifactLocation": {"uri": uri}}
    if place.part == "html" and place.start and place.end:
        physical["region"] = {
            "startLine": place.start.line,
            "startColumn": place.start.column,
            "endLine": place.end.line,
            "endColumn": place.end.column,
            "charOffset": place.start.offset,
            "charLength": place.end.offset - place.start.offset,
        }
    return {"physicalLocation": physical, "logicalLocations": [{"name": place.name or place.part, "kind": place.part}]}
