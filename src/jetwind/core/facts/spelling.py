"""Spelling dictionaries of the system; an older American one comes with the hunspell package for machines that have none."""

from __future__ import annotations

import hashlib
import re
from functools import lru_cache
from pathlib import Path
from typing import Any

from jetwind.core.facts import table

#: Where Debian's hunspell packages put their dictionaries.
_SYSTEM = Path("/usr/share/hunspell")
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
_COMMON_REGION = {
    "de": "DE",
    "fr": "FR",
    "es": "ES",
    "it": "IT",
    "pt": "PT",
    "nl": "NL",
    "sv": "SE",
    "da": "DK",
    "nb": "NO",
    "fi": "FI",
    "pl": "PL",
    "cs": "CZ",
}


def dictionary_names(language: str) -> tuple[str, ...]:
    """Names of the dictionaries of a language (its primary subtag), the one to ask first in front; empty where there is none."""
    if language == "en":
        british = ("en_GB",) if (_SYSTEM / "en_GB.dic").is_file() else ()
        return ("en_US", *british)
    names = [f"{language}_{_COMMON_REGION.get(language, '')}", language]
    names += sorted(path.stem for path in _SYSTEM.glob(f"{language}_*.dic")) if re.fullmatch("[a-z]{2,3}", language) else []
    return tuple(name for name in names if (_SYSTEM / f"{name}.dic").is_file() and (_SYSTEM / f"{name}.aff").is_file())[:1]


@lru_cache(maxsize=8)
def _opened(name: str) -> Any:
    """An open dictionary: the system's, or the one that comes with the package. Opening takes some 100 ms."""
    from hunspell import Hunspell  # type: ignore[import-untyped]

    return Hunspell(name, hunspell_data_dir=str(_SYSTEM)) if (_SYSTEM / f"{name}.dic").is_file() else Hunspell(name)


@lru_cache(maxsize=50_000)
def is_known(language: str, word: str) -> bool:
    """Whether any dictionary of the language has the word. Both spellings of English are taken for right."""
    names = dictionary_names(language)
    if word in table("words").get(language, ()) or _opened(names[0]).spell(word):
        return True
    if language == "en":
        spellings = {pattern.sub(american, word) for pattern, american in _BRITISH} - {word}
        if any(_opened(names[0]).spell(spelling) for spelling in spellings):
            return True
    return any(_opened(name).spell(word) for name in names[1:])


def _stands_in(language: str, word: str) -> bool:
    """Whether a dictionary of the language has the very word: a spelling that is only told by its likeness to another is no suggestion."""
    return any(_opened(name).spell(word) for name in dictionary_names(language))


def _offends(word: str) -> bool:
    return hashlib.sha256(word.lower().encode()).hexdigest()[:12] in table("words")["never_suggested"]


def suggestion(language: str, word: str) -> str:
    """A known word that is one slip away: two letters swapped, one too many, one missing, one wrong; else an empty string.

    The dictionary's own search for likenesses takes thirty times as long.
    """
    letters = sorted(set(_LETTERS + word))
    cuts = [(word[:at], word[at:]) for at in range(len(word) + 1)]
    for candidates in (
        (head + tail[1] + tail[0] + tail[2:] for head, tail in cuts if len(tail) > 1),
        (head + tail[1:] for head, tail in cuts if tail),
        (head + letter + tail for head, tail in cuts for letter in letters),
        (head + letter + tail[1:] for head, tail in cuts if tail for letter in letters),
    ):
        for candidate in candidates:
            if len(candidate) > 2 and _stands_in(language, candidate) and not _offends(candidate):
                return candidate
    return ""
