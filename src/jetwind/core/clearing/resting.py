"""What a signature rests on besides the words of the message, and what of it has changed since."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Collection, Mapping

#: What a signature rests on, part by part: a table of names and values for each. The names are read out to people.
Rests = Mapping[str, Mapping[str, str]]

#: Parts in which only what is new voids a signature: a finding, a trouble or a difference that is gone leaves the message no worse.
_ONLY_NEW = ("findings", "test sends", "set")
#: Changes that a sentence names one by one.
_NAMED = 5


def digest_of(rests: Rests) -> str:
    """SHA-256 in hexadecimal digits over everything that a signature rests on."""
    return hashlib.sha256(json.dumps(rests, sort_keys=True, ensure_ascii=False, separators=(",", ":")).encode()).hexdigest()


def changes(then: Rests, now: Rests, settled: Collection[str] = ()) -> tuple[str, ...]:
    """What changed since a signature was given, as sentences; empty where nothing did that voids it.

    ``settled`` holds the names of what the signature's own condition is about: an excuse of it is expected. Parts that ``then`` does not
    have were not kept when it was given.
    """
    found: list[str] = []
    for part, before in then.items():
        after = now.get(part, {})
        new = [name for name in after if name not in before and name not in settled]
        gone = [name for name in before if name not in after] if part not in _ONLY_NEW else []
        other = [name for name in after if name in before and after[name] != before[name]] if part not in _ONLY_NEW else []
        tell = _TOLD.get(part, _plain)
        found += tell(part, new, gone, other, (before, after))
    return tuple(found)


_Both = tuple[Mapping[str, str], Mapping[str, str]]


def _plain(part: str, new: list[str], gone: list[str], other: list[str], both: _Both) -> list[str]:
    before, after = both
    said = [f"New in {part}: {name}." for name in new]
    said += [f"Gone from {part}: {name}." for name in gone]
    return said + [f"Changed in {part}: {name} was {_short(before[name])} and is {_short(after[name])}." for name in other]


def _of_excuses(part: str, new: list[str], gone: list[str], other: list[str], both: _Both) -> list[str]:
    before, after = both
    said = [f"Excused since: {after[name]}" for name in new]
    said += [f"Excuse lifted: {before[name]}" for name in gone]
    return said + [f"Excused otherwise: {after[name]}" for name in other]


def _of_findings(part: str, new: list[str], gone: list[str], other: list[str], both: _Both) -> list[str]:
    return [f"Found since: {both[1][name]}" for name in new]


def _of_test_sends(part: str, new: list[str], gone: list[str], other: list[str], both: _Both) -> list[str]:
    return [f"Told by a test send since: {both[1][name]}" for name in new]


def _of_set(part: str, new: list[str], gone: list[str], other: list[str], both: _Both) -> list[str]:
    # Signatures that were given before differences had digests were kept with the sentences as names.
    return [f"Differs from the model of its set since: {both[1][name]}" for name in new if both[1][name] not in both[0]]


def _of_checks(part: str, new: list[str], gone: list[str], other: list[str], both: _Both) -> list[str]:
    changed = sorted({*new, *gone, *other})
    if not changed:
        return []
    named = ", ".join(changed[:_NAMED]) + (f" and {len(changed) - _NAMED} more" if len(changed) > _NAMED else "")
    return [f"{'1 check has' if len(changed) == 1 else f'{len(changed)} checks have'} another version: {named}."]


_TOLD = {"excuses": _of_excuses, "findings": _of_findings, "test sends": _of_test_sends, "set": _of_set, "checks": _of_checks}


def _short(value: str) -> str:
    return f"“{value[:60]}…”" if len(value) > 60 else f"“{value}”"
