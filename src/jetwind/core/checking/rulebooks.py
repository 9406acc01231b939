"""Rulebooks: laws and customs as data, each with the checks that it demands."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from functools import lru_cache

from jetwind.core.facts import table


@dataclass(frozen=True, slots=True)
class Rulebook:
    """One law: its id, its name, where it stands, and the ids of the checks that keep it."""

    id: str
    name: str
    basis: str
    demands: tuple[str, ...]


@lru_cache(maxsize=1)
def rulebooks() -> dict[str, Rulebook]:
    """All rulebooks by id."""
    return {key: Rulebook(key, book["name"], book["basis"], tuple(book["demands"])) for key, book in table("rulebooks").items()}


def exempt(check_id: str, chosen: Collection[str]) -> bool:
    """Whether some rulebook demands this check, and none of the chosen ones does. With none chosen, all apply."""
    if not chosen:
        return False
    books = rulebooks()
    asked = [book.id for book in books.values() if check_id in book.demands]
    return bool(asked) and not any(book in chosen for book in asked)
