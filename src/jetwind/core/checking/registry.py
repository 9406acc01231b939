"""All checks there are: the packages that hold them are walked, so that adding a check touches one file."""

from __future__ import annotations

import importlib
import pkgutil
from functools import lru_cache
from pathlib import Path

from jetwind.core.checking.declaration import Check, declared

_PACKAGES = ("jetwind.core.checks", "jetwind.core.spam")


@lru_cache(maxsize=1)
def registry() -> dict[str, Check]:
    """Every check by id, sorted by id."""
    for package_name in _PACKAGES:
        package = importlib.import_module(package_name)
        for module in pkgutil.walk_packages(package.__path__, f"{package_name}."):
            importlib.import_module(module.name)
    return dict(sorted(declared().items()))


def declared_as(check_id: str) -> Check | None:
    """The check of an id; only the modules whose source names the id are loaded for it. None where there is none."""
    for package_name in _PACKAGES:
        root = Path(__file__).parents[1] / package_name.rpartition(".")[2]
        for path in sorted(root.rglob("*.py")):
            if f'"{check_id}"' in path.read_text("utf-8"):
                inner = path.relative_to(root).with_suffix("").parts
                importlib.import_module(".".join((package_name, *inner)))
                if check_id in declared():
                    return declared()[check_id]
    return None
