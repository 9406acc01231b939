"""What the checks answered about the letters of the demo's past: kept as data, so that the demo need not ask them anew.

``python manage.py demo --write-answers`` makes the file again; a test compares what it holds with what the checks say.
"""

from __future__ import annotations

import gzip
import json
from collections.abc import Iterable, Mapping
from functools import cache
from pathlib import Path
from typing import Any

from jetwind.apps.intake.models import Revision
from jetwind.apps.jobs import machines
from jetwind.apps.review.models import CheckRun, FindingRecord
from jetwind.apps.review.questions import Question, context_of
from jetwind.core.checking import registry

FILE = Path(__file__).parent / "files" / "answers.json.gz"
#: The columns of a finding that are kept.
_COLUMNS = [field.attname for field in FindingRecord._meta.concrete_fields if field.attname not in ("id", "run_id")]


@cache
def kept() -> Mapping[str, Any]:
    """The answers of the file: a table for each content, by its digest."""
    return dict(json.loads(gzip.decompress(FILE.read_bytes())))


def as_table(run: CheckRun) -> dict[str, Any]:
    """A run as it is kept: outcome and reason of each check and the circumstances it looked at, the findings, the spam sum and the summary."""
    return {
        "outcomes": {check_id: [outcome, reason, _names(told)] for check_id, (outcome, reason, told, _) in sorted(run.outcomes.items())},
        "findings": [{name: getattr(found, name) for name in _COLUMNS} for found in run.findings.all()],
        "spam": run.spam,
        "summary": run.summary,
    }


def _names(told: Iterable[str]) -> list[str]:
    """The circumstances of an answer, without the facts of the machine that answered."""
    names = {one.partition("=")[0] for one in told}
    return sorted(names - {"code", "reading"})


def write(runs: Iterable[CheckRun]) -> int:
    """Write the file anew; returns its size in octets."""
    tables = {run.revision.content_sha256: as_table(run) for run in runs}
    text = json.dumps(tables, ensure_ascii=False, sort_keys=True, separators=(",", ":"))
    # Without the time of writing: equal answers make an equal file.
    return FILE.write_bytes(gzip.compress(text.encode(), 9, mtime=0))


def put(revision: Revision) -> None:
    """Give a revision the answers of the file, as answers of this machine under the circumstances of now.

    Raises:
        KeyError: the file has no answers about this content, or lacks a check; it is to be made again.
    """
    table = kept()[revision.content_sha256]
    question = Question(revision, context_of(revision), [machines.own_facts()])
    outcomes = {}
    for check_id, declared in registry().items():
        outcome, reason, names = table["outcomes"][check_id]
        told = question.told(declared, names)
        outcomes[check_id] = [outcome, reason, told, question.answer_key(declared, told)]
    run = CheckRun.objects.create(revision=revision, key=question.key, outcomes=outcomes, spam=table["spam"], summary=table["summary"])
    FindingRecord.objects.bulk_create(FindingRecord(run=run, **found) for found in table["findings"])
