"""Tesseract, where the system has it (Debian: tesseract-ocr): optional, since it and its languages weigh more than Jetwind.

A stranger's picture is never handed to it: what it gets is a plain grey copy, made in a helper under limits.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

from jetwind.core.images.words import MOST_CHARACTERS
from jetwind.engines.bounded import PastBudget, Start, grey_copy_bounded

#: Seconds for one picture; one of 1,200 × 800 px takes half a second.
_PATIENCE = 15
#: Octets of memory; a large picture takes a tenth.
_MEMORY = 1_500_000_000
#: From util-linux, which every Debian has: a function run between fork and exec may hang where there are threads.
_BOUNDED = ("prlimit", f"--as={_MEMORY}", f"--cpu={_PATIENCE}")
#: Words that it is less sure of, in per cent, are more often letters seen in a photograph than read (scikit-image's photographs, in the tests).
_SURE = 80
#: Languages that it reads with at once: each takes its time.
_MOST_LANGUAGES = 4
#: Scripts and orientation, equations: no languages.
_NONE = frozenset({"osd", "equ", "snum"})
_WORD = re.compile(r"\w")


@dataclass(frozen=True, slots=True)
class Tesseract:
    """The program at ``path``. ``start`` is how helpers begin that make the copies."""

    path: str
    version: str
    languages: tuple[str, ...]
    start: Start = "fork"

    @property
    def name(self) -> str:
        """Such as "tesseract 5.3.0 (eng)"."""
        return f"tesseract {self.version} ({', '.join(self.languages)})"

    def read(self, data: bytes) -> str | None:
        """The words that it is sure of, a line for each line."""
        try:
            copy = grey_copy_bounded(data, start=self.start)
        except PastBudget:
            return None
        return self._read(copy) if copy is not None else None

    def _read(self, copy: bytes) -> str | None:
        # Sparse text: words anywhere, in no order (11); in one thread, beside everything else that the machine does.
        asked = [*_BOUNDED, self.path, "stdin", "stdout", "-l", "+".join(self.languages), "--psm", "11", "tsv"]
        try:
            found = subprocess.run(
                asked,
                input=copy,
                capture_output=True,
                timeout=_PATIENCE,
                env={"OMP_THREAD_LIMIT": "1", "PATH": "/usr/bin:/bin", "LC_ALL": "C.UTF-8"},
                check=False,
            )
        except (OSError, subprocess.TimeoutExpired):
            return None
        return words_in(found.stdout.decode("utf-8", "replace")) if found.returncode == 0 else None


def words_in(table: str) -> str:
    """The words of a table as Tesseract writes it (TSV: level, page, block, paragraph, line, word, place, confidence, text)."""
    lines: dict[tuple[str, ...], list[str]] = {}
    for row in table.splitlines()[1:]:
        cells = row.split("\t")
        if len(cells) == 12 and cells[0] == "5" and _WORD.search(cells[11]) and float(cells[10]) >= _SURE:
            lines.setdefault(tuple(cells[1:5]), []).append(cells[11])
    return "\n".join(" ".join(words) for words in lines.values())[:MOST_CHARACTERS]


@lru_cache(maxsize=4)
def installed(start: Start = "fork") -> Tesseract | None:
    """The program of the system with its languages, English first; None where there is none. Looked for once by each process.

    ``JETWIND_TESSERACT`` names another program; empty, it says that none is to be used.
    """
    name = os.environ.get("JETWIND_TESSERACT", "tesseract")
    path = shutil.which(name) if name else None
    if path is None:
        return None
    told = [_said(path, option) for option in ("--version", "--list-langs")]
    version = re.search(r"tesseract v?(\S+)", told[0])
    languages = _usable(told[1].splitlines()[1:])
    return Tesseract(path, version[1], languages, start) if version is not None and languages else None


def _usable(names: Sequence[str]) -> tuple[str, ...]:
    known = [name.strip() for name in names if re.fullmatch(r"[a-z]{3}(?:_[a-z]+)?", name.strip()) and name.strip() not in _NONE]
    return tuple(sorted(known, key=lambda name: (name != "eng", name))[:_MOST_LANGUAGES])


def _said(path: str, option: str) -> str:
    try:
        found = subprocess.run([path, option], capture_output=True, timeout=_PATIENCE, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return (found.stdout or found.stderr).decode("utf-8", "replace")
