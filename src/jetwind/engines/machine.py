"""Facts of this machine that answers hang on: its dictionaries, its program that reads pictures, its browser, its fonts and its code."""

from __future__ import annotations

import hashlib
import shutil
import subprocess
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any, Literal

from jetwind.core.checking.code import version_of, versions
from jetwind.engines import browser
from jetwind.engines.browser.executable import find_executable
from jetwind.engines.browser.fonts import scripts_without
from jetwind.engines.dictionaries import Installed
from jetwind.engines.picture_words import installed

#: Work that hangs on facts of a machine: running checks, rendering, and reading the words in pictures.
Needs = Literal["checks", "renders", "pictures"]
#: Seconds for a program to say its version.
_PATIENCE_S = 20


@dataclass(frozen=True)
class MachineFacts:
    """The facts of one machine: what it works with.

    ``checks`` has the version of each check by its id, ``words`` a digest of the dictionaries of each language by its code. ``reading`` is
    the program that reads pictures, ``browser`` the browser's name and version; both are empty where there is none. ``fonts`` is a digest
    of all fonts, ``scripts`` names the scripts that have none. ``rendering`` is a digest of the code that renders. ``is_leaving`` says that
    the machine takes no more work: it has stopped a moment ago, and may come back.
    """

    checks: Mapping[str, str] = field(default_factory=dict)
    words: Mapping[str, str] = field(default_factory=dict)
    reading: str = ""
    browser: str = ""
    fonts: str = ""
    scripts: tuple[str, ...] = ()
    rendering: str = ""
    is_leaving: bool = False

    def as_json(self) -> dict[str, Any]:
        """As a value that JSON takes."""
        return asdict(self)

    @classmethod
    def from_json(cls, value: Mapping[str, Any]) -> MachineFacts:
        """From what :meth:`as_json` gave; what it lacks or has too much of is left out."""
        known = {name: kept for name, kept in value.items() if name in cls.__dataclass_fields__}
        return cls(**{**known, "scripts": tuple(known.get("scripts", ()))})

    @cached_property
    def code(self) -> str:
        """The same for machines that run the same code."""
        return _digest([sorted(self.checks.items()), self.rendering])

    @cached_property
    def renders_key(self) -> str:
        """Machines with the same key render alike; empty without a browser."""
        return _digest([self.browser, self.fonts, self.rendering]) if self.browser else ""

    @cached_property
    def checks_key(self) -> str:
        """Machines with the same key answer every check alike."""
        return _digest([sorted(self.words.items()), sorted(self.checks.items())])

    def key(self, needs: Needs) -> str:
        """The same for machines that do this work alike; empty where this one cannot do it."""
        if needs == "checks":
            return self.checks_key
        return self.renders_key if needs == "renders" else _digest(self.reading) if self.reading else ""


@lru_cache(maxsize=1)
def facts_here() -> MachineFacts:
    """The facts of this machine, looked up once for a process. Takes some seconds."""
    reader = installed()
    return MachineFacts(
        checks=dict(versions()),
        words=Installed().versions(),
        reading=reader.name if reader is not None else "",
        browser=_browser(),
        fonts=_fonts(),
        scripts=scripts_without(),
        rendering=_rendering(),
    )


def _browser() -> str:
    """Name and version of the browser, as it says them."""
    executable = find_executable()
    if executable is None or shutil.which(executable) is None:
        return ""
    try:
        found = subprocess.run([executable, "--version"], capture_output=True, text=True, timeout=_PATIENCE_S, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    # The path tells the full browser from the headless shell, which say the same of themselves.
    return " ".join([Path(executable).name, *found.stdout.split()[:3]]) if found.returncode == 0 else ""


def _fonts() -> str:
    """A digest of the names and octets of all fonts of the machine, as fontconfig lists them; empty where nobody can tell."""
    asker = shutil.which("fc-list")
    if asker is None:
        return ""
    try:
        found = subprocess.run([asker, "--format", "%{file}\n"], capture_output=True, text=True, timeout=_PATIENCE_S, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    paths = [Path(line) for line in found.stdout.splitlines()]
    return _digest(sorted((path.name, path.stat().st_size) for path in paths if path.is_file()))


def _rendering() -> str:
    """A digest of the code that renders: rewriting, measuring, and the browser's handling with the fonts that ship along."""
    folder = Path(browser.__file__).parent
    own = sorted((str(path.relative_to(folder)), path.read_bytes()) for path in folder.rglob("*") if path.suffix in (".py", ".js", ".ttf"))
    digest = hashlib.sha256(
        version_of(["jetwind.core.profiles", "jetwind.core.renders.showing", "jetwind.core.renders.departure"]).encode()
    )
    for name, octets in own:
        digest.update(name.encode())
        digest.update(octets)
    return digest.hexdigest()[:16]


def _digest(value: Any) -> str:
    return hashlib.sha256(repr(value).encode()).hexdigest()[:16]
