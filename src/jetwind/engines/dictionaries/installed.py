"""Spelling dictionaries of the system; an older American one comes with the hunspell package for machines that have none."""

from __future__ import annotations

import hashlib
import os
import re
from dataclasses import dataclass, field
from functools import lru_cache
from pathlib import Path
from typing import Any

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


@dataclass(frozen=True, slots=True)
class Installed:
    """The dictionaries in a folder, each of a ``.dic`` and an ``.aff`` file; Debian's hunspell packages put theirs into the one meant."""

    folder: Path = field(default_factory=lambda: Path(os.environ.get("JETWIND_DICTIONARIES", "/usr/share/hunspell")))

    @property
    def key(self) -> str:
        """Names and sizes of the dictionaries that are there."""
        return repr(sorted((path.stem, path.stat().st_size) for path in self.folder.glob("*.dic")))

    def versions(self) -> dict[str, str]:
        """A digest of the dictionaries of each language that has one, by the language's code (its primary subtag)."""
        languages = {"en", *(re.split("[_-]", path.stem)[0] for path in self.folder.glob("*.dic"))}
        named = {language: self.names(language) for language in sorted(languages)}
        return {language: _digest(self.folder, names) for language, names in named.items() if names}

    def names(self, language: str) -> tuple[str, ...]:
        """The dictionaries of a language; for English there is always one."""
        return _names(self.folder, language)

    def has(self, name: str, word: str) -> bool:
        """Whether a dictionary has a word. Opening one takes some 100 ms."""
        return bool(_opened(self.folder, name).spell(word))


def _digest(folder: Path, names: tuple[str, ...]) -> str:
    """Twelve hexadecimal digits of the SHA-256 of dictionaries; of one that comes with the package, its name says all."""
    digest = hashlib.sha256()
    for name in names:
        digest.update(name.encode())
        for path in (folder / f"{name}.dic", folder / f"{name}.aff"):
            digest.update(path.read_bytes() if path.is_file() else b"")
    return digest.hexdigest()[:12]


def _names(folder: Path, language: str) -> tuple[str, ...]:
    if language == "en":
        british = ("en_GB",) if (folder / "en_GB.dic").is_file() else ()
        return ("en_US", *british)
    names = [f"{language}_{_COMMON_REGION.get(language, '')}", language]
    names += sorted(path.stem for path in folder.glob(f"{language}_*.dic")) if re.fullmatch("[a-z]{2,3}", language) else []
    return tuple(name for name in names if (folder / f"{name}.dic").is_file() and (folder / f"{name}.aff").is_file())[:1]


@lru_cache(maxsize=8)
def _opened(folder: Path, name: str) -> Any:
    """An open dictionary: the folder's, or the one that comes with the package."""
    from hunspell import Hunspell  # type: ignore[import-untyped]

    return Hunspell(name, hunspell_data_dir=str(folder)) if (folder / f"{name}.dic").is_file() else Hunspell(name)
