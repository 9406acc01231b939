"""``python -m calibration [--check]``: train, measure, and write what ships and the report; --check only compares."""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path

from calibration import report, weights, words
from calibration.corpus import Labelled, measured


def files(rows: list[Labelled]) -> dict[Path, str]:
    """What calibration makes of the mail, by file: the words, the weights, the report."""
    pulls = report.held_back_pulls(rows)
    scores = [0.0] * len(rows)
    for fold in range(report.FOLDS):
        seen = [number for number, row in enumerate(rows) if row.fold != fold]
        found = weights.fitted([rows[number] for number in seen], [pulls[number] for number in seen])
        for number, row in enumerate(rows):
            if row.fold == fold:
                scores[number] = round(found.score(row, pulls[number]), 1)
    final = weights.fitted(rows, pulls)
    tenths = words.trained(rows)
    return {
        words.FILE: words.written(tenths, final.words),
        weights.FILE: weights.written(final, Counter(row.group for row in rows)),
        report.FILE: report.written(rows, pulls, scores, final, tenths),
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
