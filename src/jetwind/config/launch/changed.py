"""Which tests the changed files reach: for ``./jetwind test --changed``.

Imports tell what a change of a module reaches. Imports that are made while the program runs are named here, since nobody can read them off.
A change of anything else than a module reaches the tests of the package that it lies in. A document reaches the tests of documents; any
other change outside of ``src`` and ``tests`` reaches all tests.
"""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Iterable, Iterator
from pathlib import Path

#: Packages whose modules are imported while the program runs, with the module that does it.
_LOADED_BY = {
    "jetwind.core.checks": "jetwind.core.checking.registry",
    "jetwind.core.spam.reasons": "jetwind.core.spam.declaring",
}
#: Tests that drive the whole application, in a browser, by its addresses or by its commands.
_OF_THE_WHOLE = ("tests/apps", "tests/journeys")
#: Tests of what only tells people something.
_OF_DOCUMENTS = "tests/core/test_documents.py"


def changed_files(root: Path, base: str) -> list[Path]:
    """Files that differ from a commit, and those that git does not know yet, as paths below the root of the project.

    Raises:
        subprocess.CalledProcessError: git knows no such commit.
    """
    asked = (["diff", "--name-only", base], ["ls-files", "--others", "--exclude-standard"])
    told = [subprocess.run(["git", *ask], cwd=root, check=True, capture_output=True, text=True).stdout for ask in asked]
    return [Path(line) for part in told for line in part.splitlines()]


def tests_reached(root: Path, changed: Iterable[Path]) -> list[str]:
    """Test files and folders, as pytest takes them; empty where nothing is reached."""
    import grimp

    changed = list(changed)
    told = [path for path in changed if path.suffix in (".md", ".png")]
    if any(path.parts[0] not in ("src", "tests") for path in changed if path not in told):
        return ["tests"]
    sys.path[:0] = [str(root), str(root / "src")]
    graph = grimp.build_graph("jetwind", "tests", cache_dir=None)
    reached: set[str] = set()
    for module in {one for path in changed if path not in told for one in _modules_of(root, path, graph.modules)}:
        reached |= _reached_from(graph, module)
    files = {path for name in reached if (path := _test_file(root, name)) is not None}
    found = sorted(files | ({_OF_DOCUMENTS} if told else set()))
    whole = any(name.startswith(("jetwind.apps", "jetwind.config", "jetwind.engines")) for name in reached)
    if whole:
        found = [path for path in found if not path.startswith(_OF_THE_WHOLE)] + list(_OF_THE_WHOLE)
    return found


def _modules_of(root: Path, path: Path, known: set[str]) -> Iterator[str]:
    """The module that a file is; for any other file the modules of the nearest package that holds it, so that templates and data count."""
    below = path.relative_to("src") if path.parts[0] == "src" else path
    parts = below.with_suffix("").parts
    name = ".".join(parts[:-1] if parts[-1] == "__init__" else parts)
    if path.suffix == ".py" and name in known:
        yield name
        return
    for length in range(len(below.parts) - 1, 0, -1):
        package = ".".join(below.parts[:length])
        if package in known:
            yield from (one for one in known if one == package or one.startswith(f"{package}."))
            return


def _reached_from(graph: object, module: str) -> set[str]:
    """A module with every module that imports it, directly or by others, or loads it while the program runs."""
    found: set[str] = set()
    waiting = {module}
    while waiting:
        one = waiting.pop()
        new = ({one} | graph.find_downstream_modules(one)) - found  # type: ignore[attr-defined]
        found |= new
        waiting |= {by for name in new for package, by in _LOADED_BY.items() if name.startswith(f"{package}.") and by not in found}
    return found


def _test_file(root: Path, module: str) -> str | None:
    """The file of a module of tests; None for any other module."""
    path = Path(*module.split(".")).with_suffix(".py")
    is_test = path.parts[0] == "tests" and path.name.startswith("test_") and (root / path).is_file()
    return path.as_posix() if is_test else None
