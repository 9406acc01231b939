"""What an option of a check means and which values it takes, for its page, ``--explain`` and the settings screen."""

from __future__ import annotations

import dataclasses
import re
from dataclasses import dataclass
from typing import Any

#: The docstring of an options class: ``name``, ``other``: what both are; ``third``: what it is.
_NOTE = re.compile(r"((?:``\w+``(?:,\s*| and )?)+):\s*(.*?)(?=\s*(?:``\w+``(?:,\s*| and )?)+:|\Z)", re.DOTALL)
_NAME = re.compile(r"``(\w+)``")


@dataclass(frozen=True, slots=True)
class Option:
    """One option: its name, its default, what it means, and the least and the most that a number may be."""

    name: str
    default: Any
    note: str
    least: float | None
    most: float | None

    @property
    def range(self) -> str:
        """The values it takes, in words."""
        if isinstance(self.default, bool):
            return "yes or no"
        if self.least is None:
            return "text"
        return f"{self.least:g} to {self.most:g}" if self.most is not None else f"{self.least:g} or more"

    def takes(self, value: Any) -> bool:
        """Whether a value of the right type lies in the range."""
        if self.least is None or isinstance(value, bool):
            return True
        return bool(self.least <= value and (self.most is None or value <= self.most))


def options_of(kind: type[Any]) -> tuple[Option, ...]:
    """The options of a check's options class. A share lies between 0 and 1, a percentage between 0 and 100, any other number from 0 on."""
    text = " ".join((kind.__doc__ or "").split())
    notes: dict[str, str] = {}
    for match in _NOTE.finditer(text):
        for name in _NAME.findall(match[1]):
            notes[name] = match[2].strip(" ;.")
    found = []
    for field in dataclasses.fields(kind):
        default = field.default
        is_number = isinstance(default, (int, float)) and not isinstance(default, bool)
        most = 1.0 if "share" in field.name else 100.0 if "percent" in field.name else None
        found.append(Option(field.name, default, notes.get(field.name, ""), 0.0 if is_number else None, most if is_number else None))
    return tuple(found)
