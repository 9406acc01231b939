"""Turns of phrase and disguises of words, found in any text."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Sequence

from jetwind.core.checking import CannotTell
from jetwind.core.facts import phrase_pattern, phrase_set, table
from jetwind.core.facts.tables import Languages
from jetwind.core.message import Message
from jetwind.core.prose.language import detected, same

#: Single letters with one blank, dot or stroke between them: four letters at least.
_SPACED = re.compile(r"(?<![\w'’.-])[^\W\d_](?:[ .*_-][^\W\d_]){3,20}(?![\w'’.-])")
_SWAPPED = re.compile(
    r"(?<![\w@$!|.#/&-])(?=[\w@$!|]{0,20}[a-z])(?=[\w@$!|]{0,20}[01345@$!|])[a-z01345@$!|]{4,20}(?![\w@.#/&-])", re.IGNORECASE
)
_MEANT = str.maketrans("01345@$!|", "oieasasil")
_LETTERS_BETWEEN = re.compile(r"[a-z][01345@$!|]{1,2}[a-z]", re.IGNORECASE)
_MOST = 100_000


def told(key: str, text: str) -> list[str]:
    """The turns of phrase under ``key`` that stand in a text, each once, in small letters."""
    return list(dict.fromkeys(" ".join(match[0].lower().split()) for match in phrase_pattern("spam_phrases", key).finditer(text[:_MOST])))


def told_in(key: str, texts: Sequence[str]) -> Iterator[tuple[int, re.Match[str]]]:
    """The turns of phrase under ``key`` in several texts: the number of the text, and where it stands there."""
    pattern = phrase_pattern("spam_phrases", key).within("\n".join(texts))
    for number, text in enumerate(texts) if pattern is not None else ():
        for match in pattern.finditer(text[:_MOST]) if pattern is not None else ():
            yield number, match


def need_language(message: Message, known: Collection[str]) -> None:
    """Nothing, where the copy is in one of the languages ``known``, or too short to tell.

    Raises:
        CannotTell: the copy is in another language, and Jetwind knows no such words or turns of phrase of that language.
    """
    language = detected(message)
    if language is None or any(same(language, one) for one in known):
        return
    names = table("languages", Languages)["names"]
    raise CannotTell(f"the copy is in {names.get(language, 'another language')}, in which nothing of the kind is known")


def languages_of(key: str) -> Collection[str]:
    """The languages that the turns of phrase under ``key`` are known in."""
    return tuple(table("spam_phrases", dict[str, dict[str, list[str]]])[key])


def disguised(text: str) -> list[str]:
    """Words that are written so that a machine does not know them: parted letters, or figures and signs for letters.

    Only words that somebody has a reason to hide count (``disguised`` in facts/spam_phrases.toml), so that no product name, serial number or
    spaced heading is taken for one.
    """
    found: list[str] = []
    for match in _SPACED.finditer(text[:_MOST]):
        letters = re.sub(r"[ .*_-]", "", match[0]).lower()
        if any(word in letters for word in phrase_set("spam_phrases", "disguised")):
            found.append(match[0])
    for match in _SWAPPED.finditer(text[:_MOST]):
        if _LETTERS_BETWEEN.search(match[0]) and match[0].lower().translate(_MEANT) in phrase_set("spam_phrases", "disguised"):
            found.append(match[0])
    return list(dict.fromkeys(found))
