"""Two people change the same thing that is kept, from a page each: what each changed is kept, and where both changed one thing otherwise the second is asked."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from typing import Any, TypeVar

from django.core import signing

from jetwind.apps.ui.refusal import Refused
from jetwind.core.errors import JetwindError

Key = TypeVar("Key")
Value = TypeVar("Value")
_SALT = "jetwind.settings"
_MISSING = object()


class Overtaken(JetwindError):
    """Both changed ``key``, each to something else."""

    def __init__(self, key: Any) -> None:
        super().__init__(str(key))
        self.key = key


def merged_value(key: str, before: Value, mine: Value, now: Value) -> Value:
    """The value that holds after my change: ``before`` is the value that my page showed, ``now`` the one that somebody may have set meanwhile.

    Raises:
        Overtaken: all three differ.
    """
    if mine in (before, now):
        return now
    if now == before:
        return mine
    raise Overtaken(key)


def merged_list(before: Collection[str], mine: Collection[str], now: Collection[str]) -> list[str]:
    """A list without order: what I added is added, what I took out is taken out, and the rest is as it is now."""
    return sorted((set(now) | (set(mine) - set(before))) - (set(before) - set(mine)))


def merged_table(before: Mapping[Key, Value], mine: Mapping[Key, Value], now: Mapping[Key, Value]) -> dict[Key, Value]:
    """A table, entry by entry; an entry that is missing counts as a value of its own.

    Raises:
        Overtaken: an entry differs in all three.
    """
    kept: dict[Key, Value] = {}
    for key in dict.fromkeys((*now, *mine, *before)):
        value: Any = merged_value(str(key), before.get(key, _MISSING), mine.get(key, _MISSING), now.get(key, _MISSING))
        if value is not _MISSING:
            kept[key] = value
    return kept


def merged_fields(before: Mapping[str, Any] | None, mine: Mapping[str, Any], now: Mapping[str, Any]) -> dict[str, Any]:
    """The value of each field of a form after my change; ``before`` is what my page showed, None where it does not say: then mine holds.

    The names of the fields are read out to people, with blanks for ``_`` and ``-``.

    Raises:
        Refused: somebody else set a field otherwise meanwhile.
    """
    kept: dict[str, Any] = {}
    for name, value in mine.items():
        holds = now.get(name)
        try:
            kept[name] = merged_value(name, holds if before is None else before.get(name, holds), value, holds)
        except Overtaken:
            raise Refused(overtaken(name.replace("_", " ").replace("-", " "), holds)) from None
    return kept


def overtaken(what: str, now: object) -> str:
    """The sentence for the second of two people who set the same thing."""
    shown = ", ".join(map(str, now)) if isinstance(now, (list, tuple)) else str(now if now is not None else "")
    became = f"set the {what} to “{shown[:120]}”" if shown else f"emptied the {what}"
    return f"Somebody {became} meanwhile. Nothing was changed; keep again to have yours."


def as_shown(value: Any) -> str:
    """The values that a page shows, to be sent back with its form."""
    return signing.dumps(value, salt=_SALT, compress=True)


def what_was_shown(text: str) -> Any:
    """The values that :func:`as_shown` wrote, or None where they are not ours: then the form overwrites, as one without them does."""
    try:
        return signing.loads(text, salt=_SALT)
    except signing.BadSignature:
        return None
