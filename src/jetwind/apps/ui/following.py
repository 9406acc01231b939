"""The way up to ``apps/follows.py``: an app tells of an event, and knows nothing of the apps above it."""

from __future__ import annotations

from importlib import import_module
from typing import Any


def follows() -> Any:
    """The module whose functions say what follows each event."""
    return import_module("jetwind.apps.follows")
