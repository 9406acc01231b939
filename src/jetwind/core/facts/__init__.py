"""Facts as tables: each data file in this folder says where its facts come from and when they were written down."""

from __future__ import annotations

import re
import tomllib
from functools import lru_cache
from importlib.resources import files
from typing import Any

__all__ = ["phrase_pattern", "phrases", "table"]


@lru_cache
def table(name: str) -> dict[str, Any]:
    """The data file ``name``.toml of this folder. Read once; treat it as frozen."""
    return tomllib.loads(files(__package__).joinpath(f"{name}.toml").read_text("utf-8"))


def phrases(table_name: str, key: str) -> tuple[str, ...]:
    """The list of words or phrases under ``key``, all languages together."""
    value = table(table_name)[key]
    if isinstance(value, dict):
        return tuple(word for words in value.values() for word in words)
    return tuple(value)


@lru_cache
def phrase_pattern(table_name: str, key: str) -> re.Pattern[str]:
    """A case-blind pattern that finds any of the phrases as whole words; a space in a phrase matches any white space."""
    alternatives = "|".join(
        re.escape(phrase).replace(r"\ ", r"[\s\u00a0]+") for phrase in sorted(phrases(table_name, key), key=len, reverse=True)
    )
    return re.compile(rf"(?<!\w)(?:{alternatives})(?!\w)", re.IGNORECASE)
