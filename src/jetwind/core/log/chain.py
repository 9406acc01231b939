"""Entries of the log, each with the hash of the one before, and whether a file of them holds (SHA-256 of FIPS 180-4 over JSON of RFC 8259)."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

#: The hash before the first entry of a chain.
FIRST_HASH = "0" * 64
#: The number of the chain of entries that concern no workspace. Entries of all workspaces from before they had chains stand there, too.
NO_WORKSPACE = 0
#: Characters of one line of a file.
LONGEST_LINE = 200_000


@dataclass(frozen=True, slots=True)
class Entry:
    """What the hash of an entry covers: the hash before it, the time (ISO 8601), the number of the person, the action, the number of the message, its data, the chain."""

    previous_hash: str
    at: str
    actor: int | None
    action: str
    mailing: int | None
    data: Mapping[str, object]
    chain: int


def hash_of(entry: Entry) -> str:
    """SHA-256 over an entry, in hexadecimal digits."""
    told: list[object] = [entry.previous_hash, entry.at, entry.actor, entry.action, entry.mailing, entry.data]
    # Entries from before each workspace had a chain stand in that of no workspace, and their hashes cover no chain.
    content = json.dumps(told if entry.chain == NO_WORKSPACE else [*told, entry.chain], sort_keys=True, ensure_ascii=False)
    return hashlib.sha256(content.encode("utf-8", "surrogatepass")).hexdigest()


@dataclass(frozen=True, slots=True)
class Verified:
    """What came of verifying a file: its entries up to the first wrong one, the newest hash among them, and what is wrong; empty where nothing is.

    ``alone`` are entries that only their own hash speaks for, since the file has not the whole of their chain.
    """

    entries: int
    newest: str
    wrong: str = ""
    alone: int = 0


def verify_lines(lines: Iterable[str], *, is_selection: bool = False) -> Verified:
    """Verify a file of the log: each line is an entry, its hash is that of its content, and it follows from the line before.

    With ``is_selection`` entries may be missing between the lines; each is verified by itself then, and must follow where its neighbour is there.
    """
    entries, alone, newest = 0, 0, ""
    previous: dict[int, str] = {}
    number_before = -1
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        read = _read(line)
        if isinstance(read, str):
            return Verified(entries, newest, f"Line {number} {read}.", alone)
        entry, kept, place = read
        if hash_of(entry) != kept:
            return Verified(entries, newest, f"Line {number}, entry {place}: its content is not that of its hash.", alone)
        if place <= number_before:
            return Verified(entries, newest, f"Line {number}, entry {place}: it stands behind entry {number_before}.", alone)
        follows = entry.previous_hash == previous.get(entry.chain, FIRST_HASH)
        if not follows and entry.chain != NO_WORKSPACE and not is_selection:
            return Verified(
                entries, newest, f"Line {number}, entry {place}: it does not follow from the entry before it in the file.", alone
            )
        alone += not follows
        entries += 1
        previous[entry.chain], newest, number_before = kept, kept, place
    return Verified(entries, newest, "" if entries else "The file has no entry.", alone)


def _read(line: str) -> tuple[Entry, str, int] | str:
    """The entry of a line with its hash and its number; what is wrong with the line where it has none."""
    if len(line) > LONGEST_LINE:
        return f"has more than {LONGEST_LINE:,} characters"
    try:
        told = json.loads(line)
    except (ValueError, RecursionError):
        return "is not JSON"
    if not isinstance(told, dict):
        return "is not an entry of the log"
    entry = {name: told.get(name) for name in ("previous_hash", "at", "actor", "action", "mailing", "data", "chain")}
    kept, place = told.get("hash"), told.get("id")
    texts = all(isinstance(one, str) for one in (entry["previous_hash"], entry["at"], entry["action"], kept))
    numbers = all(_is_number(one) for one in (place, entry["chain"])) and all(
        one is None or _is_number(one) for one in (entry["actor"], entry["mailing"])
    )
    if not texts or not numbers or not isinstance(entry["data"], dict):
        return "is not an entry of the log"
    return Entry(**entry), str(kept), int(place)  # type: ignore[arg-type]


def _is_number(value: object) -> bool:
    return isinstance(value, int) and not isinstance(value, bool)
