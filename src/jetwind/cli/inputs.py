"""Reading what the command line is given; everything unusable becomes one sentence and exit status 2."""

from __future__ import annotations

import csv
import tomllib
from datetime import datetime
from pathlib import Path
from typing import Any, NoReturn

import typer

from jetwind.core.checking import registry
from jetwind.core.message import Message, Sample, UnusableInput, read_path


def refuse(sentence: str) -> NoReturn:
    """Say on standard error what could not be used and why, and leave with status 2."""
    typer.echo(f"jetwind: {sentence}", err=True)
    raise typer.Exit(2)


def message_at(path: Path) -> Message:
    """The message of a file or folder."""
    try:
        return read_path(path)
    except UnusableInput as refused:
        refuse(str(refused))


def planned_time(value: str | None) -> datetime:
    """The planned time as given, or now."""
    if value is None:
        return datetime.now().astimezone()
    try:
        planned = datetime.fromisoformat(value)
    except ValueError:
        refuse(f"--planned takes a time such as 2027-03-09T09:00+01:00, not {value!r}.")
    return planned if planned.tzinfo else planned.astimezone()


def readers_in(path: Path | None) -> tuple[tuple[Sample, ...], frozenset[str] | None]:
    """Sample readers of a CSV file, and the field list that its columns make."""
    if path is None:
        return (), None
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            rows = csv.DictReader(file)
            columns = [name.strip() for name in rows.fieldnames or [] if name and name.strip()]
            if not columns:
                refuse(f"“{path}” has no header row with the names of the fields.")
            readers = tuple(
                Sample(
                    row.get("email") or f"row {number}",
                    {name.strip(): (value or "") for name, value in row.items() if isinstance(name, str) and not isinstance(value, list)},
                )
                for number, row in enumerate(rows, 2)
            )
    except (OSError, UnicodeDecodeError, csv.Error) as failure:
        refuse(f"The readers “{path}” cannot be read: {failure}.")
    return readers, frozenset(columns)


def brief_in(path: Path | None) -> dict[str, Any]:
    """The brief, a TOML file; ``[practice] domains`` are hosts that stand for real ones, ``[fields] known`` adds to the field list."""
    if path is None:
        return {}
    try:
        return tomllib.loads(path.read_text("utf-8"))
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as failure:
        refuse(f"The brief “{path}” cannot be read: {failure}.")


def checks_named(only: list[str]) -> list[str] | None:
    """Check ids, given one or several to an option."""
    names = [name.strip() for part in only for name in part.split(",") if name.strip()]
    if not names:
        return None
    known = registry()
    for name in names:
        if name not in known:
            import difflib

            near = difflib.get_close_matches(name, known, 1)
            refuse(f"there is no check {name!r}" + (f"; the nearest is {near[0]}." if near else "."))
    return names
