"""Facts as tables: each data file in this folder says where its facts come from and when they were written down."""

from __future__ import annotations

import tomllib
from functools import lru_cache
from importlib.resources import files
from typing import TypeVar, cast

from jetwind.core.facts.matching import Phrases
from jetwind.core.facts.tables import Listed

__all__ = ["Phrases", "phrase_pattern", "phrase_set", "phrases", "table"]


T = TypeVar("T")


def table(name: str, kind: type[T]) -> T:
    """The data file ``name``.toml of this folder, of the type that ``tables.KINDS`` gives it. Read once; treat it as frozen."""
    # The files are ours, and a test reads each by its type: nothing is converted here.
    return cast(T, _read(name))


@lru_cache
def _read(name: str) -> dict[str, object]:
    return tomllib.loads(files(__package__).joinpath(f"{name}.toml").read_text("utf-8"))


@lru_cache
def phrases(table_name: str, key: str) -> tuple[str, ...]:
    """The list of words or phrases under ``key``, all languages together, as they are written (see :class:`Phrases`)."""
    value = table(table_name, dict[str, Listed])[key]
    return tuple(phrase for listed in value.values() for phrase in listed) if isinstance(value, dict) else tuple(value)


@lru_cache
def phrase_set(table_name: str, key: str) -> frozenset[str]:
    """The words or phrases under ``key``, all languages together, to ask whether one is among them."""
    return frozenset(phrases(table_name, key))


@lru_cache
def phrase_pattern(table_name: str, key: str) -> Phrases:
    """The phrases under ``key``, all languages together, ready to be sought."""
    return Phrases(phrases(table_name, key))
