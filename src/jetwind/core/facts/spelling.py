"""Spelling dictionaries of the system; an older American one comes with the hunspell package for machines that have none."""

from __future__ import annotations

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


@lru_cache(maxsize=8)
def dictionaries(language: str) -> tuple[Any, ...]:
    """Open dictionaries of a language (its primary subtag), empty where there is none."""
    from hunspell import Hunspell  # type: ignore[import-untyped]

    if language == "en":
        there = [name for name in ("en_US", "en_GB") if (_SYSTEM / f"{name}.dic").is_file()]
        found = [Hunspell(name, hunspell_data_dir=str(_SYSTEM)) for name in there]
        return tuple(found if "en_US" in there else [Hunspell("en_US"), *found])
    names = [f"{language}_{_COMMON_REGION.get(language, '')}", language]
    names += sorted(path.stem for path in _SYSTEM.glob(f"{language}_*.dic")) if re.fullmatch("[a-z]{2,3}", language) else []
    name = next((name for name in names if (_SYSTEM / f"{name}.dic").is_file() and (_SYSTEM / f"{name}.aff").is_file()), None)
    return (Hunspell(name, hunspell_data_dir=str(_SYSTEM)),) if name else ()


@lru_cache(maxsize=50_000)
def is_known(language: str, word: str) -> bool:
    """Whether any dictionary of the language has the word. Both spellings of English are taken for right."""
    found = dictionaries(language)
    if word in table("words").get(language, ()) or any(dictionary.spell(word) for dictionary in found):
        return True
    if language != "en":
        return False
    spellings = {pattern.sub(american, word) for pattern, american in _BRITISH} - {word}
    return any(found[0].spell(spelling) for spelling in spellings)


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
            if len(candidate) > 2 and is_known(language, candidate):
                return candidate
    return ""
