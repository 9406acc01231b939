"""Facts as tables: each data file in this folder says where its facts come from and when they were written down."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from functools import lru_cache
from importlib.resources import files
from typing import Any

__all__ = ["Phrases", "phrase_pattern", "phrases", "table"]


@lru_cache
def table(name: str) -> dict[str, Any]:
    """The data file ``name``.toml of this folder. Read once; treat it as frozen."""
    return tomllib.loads(files(__package__).joinpath(f"{name}.toml").read_text("utf-8"))


def phrases(table_name: str, key: str) -> tuple[str, ...]:
    """The list of words or phrases under ``key``, all languages together."""
    value = table(table_name)[key]
    if isinstance(value, dict):
        return tuple(word for words in value.values() for word in words)
    return tuple(value)


class Phrases:
    """Finds any of some phrases as whole words, whatever their case; a space in a phrase matches any white space.

    A pattern of hundreds of alternatives is slow at each character, and most texts hold none of them: only phrases whose words
    all occur are sought.
    """

    def __init__(self, sought: tuple[str, ...]) -> None:
        self._sought = tuple(sorted(sought, key=len, reverse=True))
        self._words = {phrase: tuple(phrase.lower().split(" ")) for phrase in self._sought}
        self._patterns: dict[tuple[str, ...], re.Pattern[str]] = {}

    def finditer(self, text: str) -> Iterator[re.Match[str]]:
        """All places, from the left, without overlap."""
        pattern = self._pattern(text)
        return iter(()) if pattern is None else pattern.finditer(text)

    def search(self, text: str) -> re.Match[str] | None:
        """The first place."""
        pattern = self._pattern(text)
        return None if pattern is None else pattern.search(text)

    def sub(self, by: str, text: str) -> str:
        """The text with each place replaced."""
        pattern = self._pattern(text)
        return text if pattern is None else pattern.sub(by, text)

    def within(self, text: str) -> re.Pattern[str] | None:
        """What finds those phrases whose words occur in a text, for looking through its parts one by one; None where none does."""
        return self._pattern(text)

    def _pattern(self, text: str) -> re.Pattern[str] | None:
        lower = text.lower()
        there = tuple(phrase for phrase in self._sought if all(word in lower for word in self._words[phrase]))
        if not there:
            return None
        if there not in self._patterns:
            if len(self._patterns) > 200:
                self._patterns.clear()
            alternatives = "|".join(re.escape(phrase).replace(r"\ ", r"[\s\u00a0]{1,20}") for phrase in there)
            self._patterns[there] = re.compile(rf"(?<!\w)(?:{alternatives})(?!\w)", re.IGNORECASE)
        return self._patterns[there]


@lru_cache
def phrase_pattern(table_name: str, key: str) -> Phrases:
    """The phrases under ``key``, all languages together, ready to be sought."""
    return Phrases(phrases(table_name, key))
