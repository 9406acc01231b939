"""CSV that leaves: no cell is a formula, and what is written is read again."""

import csv
import io
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import jetwind
from jetwind.core.message import Sample
from jetwind.core.readers import read_readers, written
from jetwind.core.source.cells import as_csv, guarded, unguarded

#: Beginnings that spreadsheets run, as guides to this fault name them (common practice, no published source).
FORMULAS = [
    "=1+1",
    "+1",
    "-1+cmd|' /C calc'!A0",
    "@SUM(A1)",
    "\t=1",
    "\r=1",
    "\n=1",
    "＝1+1",
    "＋1",
    "－1",
    "＠SUM(A1)",
    "\ufeff=1+1",
    "\ufeff＝1",
    " =1+1",
    "\u200b=1",
    "\u00a0=1",
    "−1",
    "'=1",
    "\tplain",
]
PLAIN = ["", "plain", "a=b", "1-2", "https://kiln.org/?a=1", "'quoted'", "’s", "*", "#1", "3 = 3", " ", "\ufeff", "mail@kiln.org"]


@pytest.mark.parametrize("text", FORMULAS)
def test_formulas_are_kept_text(text: str) -> None:
    """By an apostrophe before them, and that is taken away again."""
    assert guarded(text) == f"'{text}"
    assert unguarded(f"'{text}") == text


@pytest.mark.parametrize("text", PLAIN)
def test_other_texts_are_left_alone(text: str) -> None:
    """So are numbers, of which a minus is a part."""
    assert guarded(text) == text
    assert guarded(-3) == -3


@given(st.lists(st.text(max_size=12), min_size=1, max_size=5))
def test_any_text_comes_back(row: list[str]) -> None:
    """Whatever it is, through a CSV reader of the standard library."""
    rows = list(csv.reader(io.StringIO(as_csv(row, [row]), newline=""), strict=True))
    assert [[unguarded(cell) for cell in line] for line in rows] == [row, row]


def test_readers_come_back() -> None:
    """Values, names and headings of sample readers."""
    readers = [Sample("=Ada", {"first_name": "+44", "=field": "'=x", "note": "-"})]
    assert list(read_readers(written(readers, "csv")).readers) == readers


def test_one_writer() -> None:
    """Every table of ours goes through it."""
    source = Path(jetwind.__file__).parent
    writers = [path.name for path in source.rglob("*.py") if "csv.writer(" in path.read_text() or "DictWriter" in path.read_text()]
    assert writers == ["cells.py"]
