"""Whether a word is known in a language, and which known word is one slip away. The dictionaries themselves are an engine's affair."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Protocol

from jetwind.core.facts import table
from jetwind.core.facts.tables import CommonWords, Words


class Dictionaries(Protocol):
    """Word lists with the rules of their inflections, by name. Equal ones answer alike, and can be told apart by hash."""

    def __hash__(self) -> int: ...

    @property
    def key(self) -> str:
        """The dictionaries at hand, as one text: while it stays, so do the answers."""
        ...

    def names(self, language: str) -> tuple[str, ...]:
        """The dictionaries of a language (its primary subtag), the one to ask first in front; empty where there is none."""
        ...

    def has(self, name: str, word: str) -> bool:
        """Whether the dictionary of that name has the word, inflected or not."""
        ...


#: Levels of commonness.
_FREQUENT, _RAREST = 20, 35
#: Levels of commonness.
_FREQUENT, _RAREST = 20, 35
#: Letters of a short word.
_SHORT = 5
_LETTERS = "abcdefghijklmnopqrstuvwxyz"
#: British endings and stems with their American ones, for machines without a British dictionary (from memory).
_BRITISH = (
    (re.compile(r"our(?=s|ed|ing|ful|able|ite|less|er|ers|hood|y|\Z)"), "or"),
    (re.compile(r"is(?=e|ed|es|er|ers|ing|ation|ations\Z)"), "iz"),
    (re.compile(r"ys(?=e|ed|es|er|ers|ing\Z)"), "yz"),
    (re.compile(r"tre(?=s|d|\Z)"), "ter"),
    (re.compile(r"ll(?=ed|ing|er|ers\Z)"), "l"),
    (re.compile(r"ogue(?=s|d|\Z)"), "og"),
    (re.compile(r"enc(?=e|es\Z)"), "ens"),
    (re.compile(r"ae|oe"), "e"),
    (re.compile(r"grey"), "gray"),
    (re.compile(r"mould"), "mold"),
    (re.compile(r"plough"), "plow"),
    (re.compile(r"cheque"), "check"),
    (re.compile(r"gramme"), "gram"),
    (re.compile(r"jewell"), "jewel"),
    (re.compile(r"lfil(?=s|\Z)"), "lfill"),
)


@lru_cache(maxsize=50_000)
def is_known(dictionaries: Dictionaries, language: str, word: str) -> bool:
    """Whether any dictionary of the language has the word. Both spellings of English are taken for right."""
    names = dictionaries.names(language)
    if (language == "en" and word in table("words", Words)["en"]) or dictionaries.has(names[0], word):
        return True
    if language == "en":
        spellings = {pattern.sub(american, word) for pattern, american in _BRITISH} - {word}
        if any(dictionaries.has(names[0], spelling) for spelling in spellings):
            return True
    return any(dictionaries.has(name, word) for name in names[1:])


def _offends(word: str) -> bool:
    return hashlib.sha256(word.lower().encode()).hexdigest()[:12] in table("words", Words)["never_suggested"]


@lru_cache(maxsize=1)
def _levels() -> dict[str, int]:
    """The level of commonness of some forty thousand English words: 10 for the commonest, 20, or 35. Source: SCOWL 2020.12.07."""
    words = table("common_words", CommonWords)
    levels = ((10, words["level_10"]), (_FREQUENT, words["level_20"]), (_RAREST, words["level_35"]))
    return {word: level for level, of_level in levels for word in of_level.split()}


def is_common(word: str, level: int = _RAREST) -> bool:
    """Whether an English word is one of the forty thousand common ones, or of those up to a level: 10, 20 or 35."""
    return _levels().get(word, 100) <= level


def is_frequent(word: str) -> bool:
    """Whether an English word is one of the eleven thousand commonest."""
    return is_common(word, _FREQUENT)


def suggestion(dictionaries: Dictionaries, language: str, word: str) -> str:
    """A known word that is one slip away: two letters swapped, one too many, one missing, one wrong; else an empty string.

    In English the suggestion is a common word: people who slip meant one, and a rare word that is one letter away from a name or from
    jargon says nothing. The dictionary's own search for likenesses takes thirty times as long.
    """
    names = dictionaries.names(language)
    letters = sorted(set(_LETTERS + word))
    cuts = [(word[:at], word[at:]) for at in range(len(word) + 1)]
    candidates: Iterator[str] = (
        candidate
        for made in (
            (head + tail[1] + tail[0] + tail[2:] for head, tail in cuts if len(tail) > 1),
            (head + tail[1:] for head, tail in cuts if tail),
            (head + letter + tail for head, tail in cuts for letter in letters),
            (head + letter + tail[1:] for head, tail in cuts if tail for letter in letters),
        )
        for candidate in made
        if len(candidate) > 2
    )
    if language == "en":
        # Four or five letters are one away from many words, so only one of the commonest is a likely slip.
        level = _RAREST if len(word) > _SHORT else _FREQUENT
        candidates = iter(sorted((one for one in candidates if is_common(one, level)), key=_levels().__getitem__))
    # A spelling that is only told by its likeness to another, or that is only in our own list, is no suggestion.
    return next((one for one in candidates if any(dictionaries.has(name, one) for name in names) and not _offends(one)), "")
