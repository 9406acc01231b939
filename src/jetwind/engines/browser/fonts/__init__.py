"""The fonts that renders are set in: Debian's, those that ship along, and which scripts have none on this machine."""

from __future__ import annotations

import shutil
import subprocess
import tempfile
from functools import lru_cache
from pathlib import Path

import regex

_HERE = Path(__file__).parent
#: Scripts that messages are written in and that a bare machine may lack, by a language that is written in each (fontconfig, :lang=).
_SCRIPTS = {
    "Han": (r"\p{Han}", "zh"),
    "Japanese": (r"[\p{Hiragana}\p{Katakana}]", "ja"),
    "Hangul": (r"\p{Hangul}", "ko"),
    "Arabic": (r"\p{Arabic}", "ar"),
    "Hebrew": (r"\p{Hebrew}", "he"),
    "Devanagari": (r"\p{Devanagari}", "hi"),
    "Bengali": (r"\p{Bengali}", "bn"),
    "Tamil": (r"\p{Tamil}", "ta"),
    "Thai": (r"\p{Thai}", "th"),
    "Georgian": (r"\p{Georgian}", "ka"),
    "Armenian": (r"\p{Armenian}", "hy"),
    "Ethiopic": (r"\p{Ethiopic}", "am"),
    "colour emoji": (r"[\U0001f300-\U0001faff]", "und-zsye"),
}
_CONFIGURATION = """<?xml version="1.0"?>
<!DOCTYPE fontconfig SYSTEM "urn:fontconfig:fonts.dtd">
<fontconfig><include ignore_missing="yes">/etc/fonts/fonts.conf</include><dir>{folder}</dir></fontconfig>
"""


@lru_cache(maxsize=1)
def configuration() -> Path:
    """A fontconfig file that adds the fonts that ship along to the machine's own; made once for a process."""
    path = Path(tempfile.mkdtemp(prefix="jetwind-fonts-")) / "fonts.conf"
    path.write_text(_CONFIGURATION.format(folder=_HERE), "utf-8")
    return path


@lru_cache(maxsize=1)
def _lacking() -> tuple[tuple[str, regex.Pattern[str]], ...]:
    """Scripts that no font on this machine is made for."""
    asker = shutil.which("fc-list")
    if asker is None:
        return ()
    lacking = []
    for name, (letters, language) in _SCRIPTS.items():
        found = subprocess.run([asker, f":lang={language}", "family"], capture_output=True, text=True, check=False, timeout=20)
        if found.returncode == 0 and not found.stdout.strip():
            lacking.append((name, regex.compile(letters)))
    return tuple(lacking)


def scripts_without() -> tuple[str, ...]:
    """The scripts that no font on this machine is made for."""
    return tuple(name for name, _ in _lacking())


def without_font(text: str) -> tuple[str, ...]:
    """The scripts of a text that this machine has no font for: they are drawn as boxes."""
    return tuple(name for name, letters in _lacking() if letters.search(text)) if not text.isascii() else ()
