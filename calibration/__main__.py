"""``python -m calibration [--check]``: train, measure, and write what ships and the report; --check only compares."""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path

from calibration import report, weights, words
from calibration.corpus import Labelled, measured
from calibration.groups import FOLDS


def files(rows: list[Labelled]) -> dict[Path, str]:
    """What calibration makes of the mail, by file: the words, the weights, the report."""
    pulls = report.held_back_pulls(rows)
    scores, bare = [0.0] * len(rows), [0.0] * len(rows)
    for fold in range(FOLDS):
        seen = [number for number, row in enumerate(rows) if row.fold != fold]
        found = weights.fitted([rows[number] for number in seen])
        for number, row in enumerate(rows):
            if row.fold == fold:
                scores[number], bare[number] = round(found.score(row, pulls[number]), 1), found.reasons_alone(row)
    # What a score says is told of messages that had no part in it, either.
    said = [0.0] * len(rows)
    for fold in range(FOLDS):
        seen = [number for number, row in enumerate(rows) if row.fold != fold]
        told = weights.says([rows[number] for number in seen], [scores[number] for number in seen])
        said = [weights.share_at(scores[number], told) if row.fold == fold else said[number] for number, row in enumerate(rows)]
    final = weights.fitted(rows)
    tenths = words.trained(rows)
    measures = report.Measures(pulls, scores, bare, said)
    return {
        words.FILE: words.written(tenths, final.words),
        weights.FILE: weights.written(final, weights.says(rows, scores), Counter(row.group for row in rows)),
        report.FILE: report.written(rows, measures, final, tenths),
    }


def main(arguments: list[str]) -> int:
    """Write the files, or with --check say which are stale."""
    made = files(measured())
    stale = [path for path, text in made.items() if not path.is_file() or path.read_text("utf-8") != text]
    if arguments == ["--check"]:
        for path in stale:
            print(f"{path.name} is not what calibration makes; run: python -m calibration", file=sys.stderr)
        return 1 if stale else 0
    for path, text in made.items():
        path.write_text(text, "utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
