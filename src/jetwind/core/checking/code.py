"""The version of a check follows from its code: nobody has to remember to raise a number."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Iterator, Mapping
from functools import cache, lru_cache
from pathlib import Path

import jetwind
from jetwind.core.checking.registry import registry

_ROOT = Path(jetwind.__file__).parents[1]
_CORE = "jetwind.core"


@lru_cache(maxsize=1)
def versions() -> Mapping[str, str]:
    """For each check, by id, twelve hexadecimal digits of the SHA-256 of all that its answer is made of.

    That is its own module, every module of the core that this one imports, directly or through others, and every data file of the core
    that one of them reads.
    """
    files = _Files()
    return {check_id: files.version([check.module, *_RUNNING]) for check_id, check in registry().items()}


#: What runs every check.
_RUNNING = ("jetwind.core.checking.runner",)


def version_of(modules: Iterable[str]) -> str:
    """Twelve hexadecimal digits of the SHA-256 of these modules and of all of the core that they are made of, as ``versions`` has it."""
    return _Files().version(modules)


class _Files:
    """The modules of the core as files: what each imports, and what it reads."""

    def __init__(self) -> None:
        self._parts: dict[str, tuple[frozenset[str], str]] = {}
        data = [path for kind in ("toml", "json", "html", "css", "js") for path in (_ROOT / "jetwind" / "core").rglob(f"*.{kind}")]
        self._data = {path.name: path for path in data}

    def version(self, modules: Iterable[str]) -> str:
        """The digest of these modules and of all of the core that they are made of."""
        found: dict[str, str] = {}
        waiting = list(modules)
        while waiting:
            name = waiting.pop()
            if name not in found:
                imported, found[name] = self._part(name)
                waiting += imported - found.keys()
        return hashlib.sha256(repr(sorted(found.items())).encode()).hexdigest()[:12]

    def _part(self, name: str) -> tuple[frozenset[str], str]:
        """The modules of the core that a module imports, and a digest of its code and of the data files that it reads."""
        if name not in self._parts:
            path = _path(name)
            source = path.read_text("utf-8") if path is not None else ""
            digest = hashlib.sha256(source.encode())
            for read in sorted(_read(source) & self._data.keys()):
                digest.update(self._data[read].read_bytes())
            self._parts[name] = (frozenset(_imported(source)), digest.hexdigest())
        return self._parts[name]


# Every process that asks for versions reads two hundred modules. Patterns find imports and texts forty times as fast as a parser does; a
# docstring that looks like one adds a module or a file to the digest, which does no harm.
_FROM = re.compile(rf"^[ \t]*from[ \t]+({re.escape(_CORE)}(?:\.\w+)*)[ \t]+import[ \t]+(\([^)]*\)|[^\n]*)", re.MULTILINE)
_IMPORT = re.compile(rf"^[ \t]*import[ \t]+({re.escape(_CORE)}(?:\.\w+)*)", re.MULTILINE)
_TEXT = re.compile(r"""["']([\w.-]{1,80})["']""")
#: Calls of functions that read a data file by its name without the ending (``core/facts/__init__.py``), with the text that they are given.
_READS = re.compile(r"""(?<![\w.])(?:table|phrases|phrase_set|phrase_pattern)\(\s*(?:["']([\w.-]+)["']|[^)\s])""")


def _read(source: str) -> set[str]:
    """The names of the data files that code reads, among others: texts that are file names, and what its readers are given."""
    texts = set(_TEXT.findall(source))
    given = _READS.findall(source)
    # A reader that is given no text may be given any of the module's.
    return texts | {f"{name}.toml" for name in (texts if "" in given else given)}


def _imported(source: str) -> Iterator[str]:
    for package, names in _FROM.findall(source):
        # A name that is imported from a package may be a module of it.
        yield from (
            name
            for name in (package, *(f"{package}.{one}" for one in re.findall(r"(\w+)(?:\s+as\s+\w+)?", names)))
            if _path(name) is not None
        )
    yield from (name for name in _IMPORT.findall(source) if _path(name) is not None)


@cache
def _path(name: str) -> Path | None:
    """The file of a module of the core."""
    place = _ROOT.joinpath(*name.split("."))
    return next((path for path in (place.with_suffix(".py"), place / "__init__.py") if path.is_file()), None)
