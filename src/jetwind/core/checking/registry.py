"""All checks there are: the packages that hold them are walked, so that adding a check touches one file."""

from __future__ import annotations

import importlib
import pkgutil
from functools import lru_cache

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
