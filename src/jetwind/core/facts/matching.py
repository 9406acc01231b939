"""Finding phrases in a text, many hundreds at once."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

#: One place of a phrase: the words that may stand there, each with its parts as words alone; none at all for a gap.
_Slot = tuple[tuple[str, frozenset[str]], ...]

_WORD = re.compile(r"\w+")
_SPACE = r"[\s\u00a0]{1,20}"
#: Words in between, and an article that is drawn to the next one: "annulla l'iscrizione".
_GAP = rf"{_SPACE}(?:[^\s.?!;:|•·]{{1,30}}{_SPACE}){{0,6}}(?:\w{{1,4}}['’])?"
#: Patterns that are kept, and texts for which it is known what may be in them.
_MOST_PATTERNS, _MOST_TEXTS = 200, 2_000


class Phrases:
    """Finds any of some phrases as whole words, whatever their case.

    A space in a phrase matches any white space, ``a|b`` either word, and ``…`` up to six words of the same sentence, or none. A phrase that
    begins with ``=`` must be the whole text, but for signs around it.

    A pattern of hundreds of alternatives is slow at each character, and most texts hold none of them: only phrases whose words
    occur are sought.
    """

    def __init__(self, written: tuple[str, ...]) -> None:
        self._phrases = [(phrase.startswith("="), _slots_of(phrase.removeprefix("="))) for phrase in dict.fromkeys(written)]
        # Each phrase under the words of the place that tells it best, the one with the longest words: a text without them is not asked for more.
        self._by_word: dict[str, list[int]] = {}
        for number, (_, slots) in enumerate(self._phrases):
            telling = max(slots, key=lambda slot: min((max(map(len, parts), default=0) for _, parts in slot), default=-1))
            for word in {max(parts, key=len, default="") for _, parts in telling}:
                self._by_word.setdefault(word, []).append(number)
        self._vocabulary = frozenset(word for _, slots in self._phrases for slot in slots for _, parts in slot for word in parts) | {""}
        self._patterns: dict[str, re.Pattern[str]] = {}
        self._known: dict[frozenset[str], re.Pattern[str] | None] = {}

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
        """The finder of those phrases whose words occur in a text, for looking through its parts one by one; None where none does."""
        words = self._vocabulary & _words_in(text)
        if words not in self._known:
            if len(self._known) >= _MOST_TEXTS:
                self._known.clear()
            self._known[words] = self._pattern_of(words)
        return self._known[words]

    def _pattern_of(self, words: frozenset[str]) -> re.Pattern[str] | None:
        numbers = {number for word in words if word in self._by_word for number in self._by_word[word]}
        found = {written for number in numbers if (written := _written(*self._phrases[number], words)) is not None}
        if not found:
            return None
        # The longest first: of two that begin at one place the longer is meant.
        pattern = "|".join(sorted(found, key=lambda written: (-len(written), written)))
        if pattern not in self._patterns:
            if len(self._patterns) >= _MOST_PATTERNS:
                self._patterns.clear()
            self._patterns[pattern] = re.compile(rf"(?<!\w)(?:{pattern})(?!\w)", re.IGNORECASE)
        return self._patterns[pattern]


def _slots_of(phrase: str) -> tuple[_Slot, ...]:
    return tuple(
        () if place == "…" else tuple((word, frozenset(_WORD.findall(word.lower()))) for word in place.split("|"))
        for place in phrase.split(" ")
    )


def _written(is_whole: bool, slots: tuple[_Slot, ...], words: frozenset[str]) -> str | None:
    """The pattern of a phrase of which only what occurs is left; None where a place has nothing left."""
    pieces: list[str] = []
    between = ""
    for slot in slots:
        if not slot:
            between = _GAP
            continue
        there = sorted((word for word, parts in slot if parts <= words), key=lambda word: (-len(word), word))
        if not there:
            return None
        alternatives = "|".join(re.escape(word).replace("'", "['’]") for word in there)
        pieces += [between, alternatives if len(there) == 1 else f"(?:{alternatives})"]
        between = _SPACE
    written = "".join(pieces)
    return rf"\A\W{{0,9}}{written}\W{{0,9}}\Z" if is_whole else written


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
