"""Tables as CSV (RFC 4180), the one way in which any leaves Jetwind: no cell of them is a formula to a spreadsheet."""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterable, Sequence

#: What a spreadsheet takes for the beginning of a formula or a command, in ASCII, full-width and small forms (common practice, no
#: published source); blanks, marks of the byte order and invisible characters before it do not keep it from doing so.
_FORMULA = re.compile(
    "[\t\r\n]|[\\s\\x00-\\x20\u200b-\u200f\u2060-\u2064\ufeff]*[=+\\-@\u2212\uff1d\uff0b\uff0d\uff20\ufe62\ufe63\ufe66\ufe6b]"
)


def _is_formula(text: str) -> bool:
    return _FORMULA.match(text) is not None


def guarded(cell: object) -> object:
    """A cell as it is written: a text that a spreadsheet would run is kept text by an apostrophe before it; numbers are left alone."""
    if isinstance(cell, str) and _is_formula(cell.lstrip("'")):
        return f"'{cell}"
    return cell


def unguarded(text: str) -> str:
    """The text that :func:`guarded` was given."""
    return text[1:] if text.startswith("'") and _is_formula(text.lstrip("'")) else text


def as_csv(header: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """A table with its header, lines ended by CR LF."""
    out = io.StringIO(newline="")
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow([guarded(cell) for cell in header])
    writer.writerows([guarded(cell) for cell in row] for row in rows)
    return out.getvalue()
