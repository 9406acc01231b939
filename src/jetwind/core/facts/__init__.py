"""Facts as tables: each data file in this folder says where its facts come from and when they were written down."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from functools import lru_cache
from importlib.resources import files
from itertools import product
from typing import Any

__all__ = ["Phrases", "phrase_pattern", "phrase_set", "phrases", "table"]


@lru_cache
def table(name: str) -> dict[str, Any]:
    """The data file ``name``.toml of this folder. Read once; treat it as frozen."""
    return tomllib.loads(files(__package__).joinpath(f"{name}.toml").read_text("utf-8"))


@lru_cache
def phrases(table_name: str, key: str) -> tuple[str, ...]:
    """The list of words or phrases under ``key``, all languages together; ``cancel|end subscription`` stands for two of them."""
    value = table(table_name)[key]
    written = [phrase for listed in value.values() for phrase in listed] if isinstance(value, dict) else value
    return tuple(
        dict.fromkeys(" ".join(words) for phrase in written for words in product(*(word.split("|") for word in phrase.split(" "))))
    )


@lru_cache
def phrase_set(table_name: str, key: str) -> frozenset[str]:
    """The words or phrases under ``key``, all languages together, to ask whether one is among them."""
    return frozenset(phrases(table_name, key))


class Phrases:
    """Finds any of some phrases as whole words, whatever their case; a space in a phrase matches any white space, and ``…`` up to six words
    of the same sentence, or none. A phrase that begins with ``=`` must be the whole text, but for signs around it.

    A pattern of hundreds of alternatives is slow at each character, and most texts hold none of them: only phrases whose words
    all occur are sought.
    """

    def __init__(self, sought: tuple[str, ...]) -> None:
        self._patterns: dict[tuple[str, ...], re.Pattern[str]] = {}
        # Each phrase under its longest word, with all its words: a text that lacks the one is not asked for the others.
        self._by_word: dict[str, list[tuple[str, frozenset[str]]]] = {}
        for phrase in sought:
            words = _WORD.findall(phrase.lower())
            self._by_word.setdefault(max(words, key=len, default=""), []).append((phrase, frozenset(words)))

    def finditer(self, text: str) -> Iterator[re.Match[str]]:
        """All places, from the left, without overlap."""
        pattern = self.within(text)
        return iter(()) if pattern is None else pattern.finditer(text)

    def search(self, text: str) -> re.Match[str] | None:
        """The first place."""
        pattern = self.within(text)
        return None if pattern is None else pattern.search(text)

    def sub(self, by: str, text: str) -> str:
        """The text with each place replaced."""
        pattern = self.within(text)
        return text if pattern is None else pattern.sub(by, text)

    def within(self, text: str) -> re.Pattern[str] | None:
        """What finds those phrases whose words occur in a text, for looking through its parts one by one; None where none does."""
        words = _words_in(text)
        # A phrase of no words at all, such as a sign, stands under the empty one.
        met = [word for word in words if word in self._by_word] if len(words) < len(self._by_word) else self._by_word.keys() & words
        there = [phrase for word in met for phrase, others in self._by_word[word] if others <= words]
        if not there:
            return None
        # The longest first: of two that begin at one place the longer is meant.
        key = tuple(sorted(there, key=lambda phrase: (-len(phrase), phrase)))
        if key not in self._patterns:
            if len(self._patterns) > 200:
                self._patterns.clear()
            self._patterns[key] = re.compile(rf"(?<!\w)(?:{'|'.join(map(_pattern_of, key))})(?!\w)", re.IGNORECASE)
        return self._patterns[key]


_WORD = re.compile(r"\w+")
_SPACE = r"[\s\u00a0]{1,20}"
#: Words in between, and an article that is drawn to the next one: "annulla l'iscrizione".
_BETWEEN = rf"{_SPACE}(?:[^\s.?!;:|•·]{{1,30}}{_SPACE}){{0,6}}(?:\w{{1,4}}['’])?"


def _pattern_of(phrase: str) -> str:
    if phrase.startswith("="):
        return rf"\A\W{{0,9}}{_pattern_of(phrase[1:])}\W{{0,9}}\Z"
    return re.escape(phrase).replace("'", "['’]").replace(r"\ …\ ", _BETWEEN).replace(r"\ ", _SPACE)


def _words_in(text: str) -> frozenset[str]:
    """The words of a text in small letters, and the empty one. Many lists of phrases are sought in the same text, one after another."""
    return _of_short(text) if len(text) <= _SHORT else _of_long(text)


#: Characters of a text that is kept among many; of longer ones, such as a whole copy, only the last few are kept.
_SHORT = 500


@lru_cache(maxsize=2000)
def _of_short(text: str) -> frozenset[str]:
    return frozenset(_WORD.findall(text.lower())) | {""}


@lru_cache(maxsize=2)
def _of_long(text: str) -> frozenset[str]:
    return _of_short.__wrapped__(text)


@lru_cache
def phrase_pattern(table_name: str, key: str) -> Phrases:
    """The phrases under ``key``, all languages together, ready to be sought."""
    return Phrases(phrases(table_name, key))
