"""The log as a file holds only where nobody touched it: each entry, each line, each end."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jetwind.core.log import FIRST_HASH, Entry, hash_of, verify_lines

_TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=20)


def chain(*data: dict[str, Any], chain: int = 7, start: str = FIRST_HASH, at: int = 1) -> list[dict[str, Any]]:
    """Entries that follow from one another."""
    made, previous = [], start
    for number, one in enumerate(data, at):
        entry = Entry(previous, f"2026-12-01T09:{number:02}:00+00:00", 3, "mailing.changed", 5, one, chain)
        previous = hash_of(entry)
        told = {"id": number, "at": entry.at, "actor": 3, "action": entry.action, "mailing": 5, "data": one, "chain": chain}
        made.append({**told, "previous_hash": entry.previous_hash, "hash": previous, "sentence": "for people"})
    return made


def lines(entries: list[dict[str, Any]]) -> list[str]:
    """The file's lines."""
    return [json.dumps(entry, ensure_ascii=False) + "\n" for entry in entries]


WHOLE = chain({"fields": "title"}, {"fields": "größer"}, {"fields": "kind", "times": 2})


def test_the_hash_is_what_it_says() -> None:
    """SHA-256 over the values in order as JSON, worked out here with the standard library alone."""
    first = WHOLE[0]
    told = [FIRST_HASH, first["at"], 3, "mailing.changed", 5, {"fields": "title"}, 7]
    assert first["hash"] == hashlib.sha256(json.dumps(told, sort_keys=True, ensure_ascii=False).encode()).hexdigest()


def test_a_whole_log() -> None:
    """It holds, with the newest hash; empty lines and what is there for people alone count for nothing."""
    found = verify_lines([*lines(WHOLE), "\n"])
    assert (found.entries, found.newest, found.wrong, found.alone) == (3, WHOLE[2]["hash"], "", 0)
    assert verify_lines([]).wrong == "The file has no entry."


@settings(max_examples=60)
@given(st.lists(st.dictionaries(_TEXT, st.one_of(_TEXT, st.integers(), st.booleans(), st.none()), max_size=4), min_size=1, max_size=8))
def test_every_chain_holds(data: list[dict[str, Any]]) -> None:
    """Whatever the entries hold."""
    assert verify_lines(lines(chain(*data))).entries == len(data)


@pytest.mark.parametrize("name", ["at", "actor", "action", "mailing", "data", "chain", "previous_hash", "hash"])
@pytest.mark.parametrize("number", [0, 1, 2])
def test_a_changed_entry(name: str, number: int) -> None:
    """Any value of any entry, in a file and in a selection."""
    other = {"data": {"fields": "other"}, "actor": 4, "mailing": None, "chain": 8}.get(name, "0" * 63 + "1")
    changed = [{**entry, name: other} if place == number else entry for place, entry in enumerate(WHOLE)]
    for is_selection in (False, True):
        assert verify_lines(lines(changed), is_selection=is_selection).wrong.startswith(f"Line {number + 1}")


def test_lines_that_are_missing_or_moved() -> None:
    """A gap is told unless the file is a selection; a line that stands elsewhere, or twice, is told in both."""
    assert "does not follow" in verify_lines(lines([WHOLE[0], WHOLE[2]])).wrong
    assert "does not follow" in verify_lines(lines(WHOLE[1:])).wrong
    selection = verify_lines(lines([WHOLE[0], WHOLE[2]]), is_selection=True)
    assert (selection.wrong, selection.entries, selection.alone) == ("", 2, 1)
    for moved in ([WHOLE[1], WHOLE[0], WHOLE[2]], [WHOLE[0], WHOLE[0], WHOLE[1]]):
        assert verify_lines(lines(moved), is_selection=True).wrong
    # A missing end is nothing that the file can tell: the newest hash, which somebody else has, is another one.
    assert verify_lines(lines(WHOLE[:2])).newest != WHOLE[2]["hash"]


def test_entries_from_before_workspaces_had_chains() -> None:
    """They stand in the chain 0 with those of other workspaces, which no file of one workspace has."""
    old = chain({"fields": "a"}, {"fields": "b"}, {"fields": "c"}, chain=0)
    new = chain({"fields": "d"}, chain=7, at=4)
    found = verify_lines(lines([old[0], old[2], *new]))
    assert (found.wrong, found.entries, found.alone) == ("", 3, 1)


@pytest.mark.parametrize(
    "line",
    [
        "x",
        "[]",
        "{}",
        "[" * 5_000,
        json.dumps({**WHOLE[0], "id": True}),
        json.dumps({**WHOLE[0], "data": []}),
        "1" * 300_000,
        '{"id": NaN}',
    ],
)
def test_what_is_no_entry(line: str) -> None:
    """A sentence with the line's number, never an exception."""
    assert verify_lines([*lines(WHOLE[:1]), line]).wrong.startswith("Line 2 ")
