"""Dictionaries that are lists of words, for tests."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class WordLists:
    """The words of each language; a dictionary has its language's name."""

    words: tuple[tuple[str, frozenset[str]], ...] = ()

    @property
    def key(self) -> str:
        """The words themselves."""
        return repr([(language, sorted(words)) for language, words in self.words])

    def names(self, language: str) -> tuple[str, ...]:
        """The language itself, where it has words."""
        return tuple(name for name, _ in self.words if name == language)

    def has(self, name: str, word: str) -> bool:
        """Whether the list has the very word."""
        return word in dict(self.words)[name]
