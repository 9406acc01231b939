"""What an option of a check means and which values it takes, for its page, ``--explain``, the settings screen and refusals."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import Any, get_args, get_type_hints


@dataclass(frozen=True, slots=True)
class About:
    """What an option is, in words; of a number its unit, the least and the most that it may be. It stands in the annotation of the option's field."""

    note: str
    unit: str = ""
    least: float = 0
    most: float | None = None


@dataclass(frozen=True, slots=True)
class Option:
    """One option: its name, its default, and what it is."""

    name: str
    default: Any
    about: About

    @property
    def note(self) -> str:
        """What it is."""
        return self.about.note

    @property
    def is_number(self) -> bool:
        """Whether it takes numbers."""
        return isinstance(self.default, (int, float)) and not isinstance(self.default, bool)

    @property
    def range(self) -> str:
        """The values it takes, in words."""
        if isinstance(self.default, bool):
            return "yes or no"
        if not self.is_number:
            return "text"
        bounds = f"{self.about.least:g} to {self.about.most:g}" if self.about.most is not None else f"{self.about.least:g} or more"
        return f"{bounds} {self.about.unit}".rstrip()

    def takes(self, value: Any) -> bool:
        """Whether a value of the right type lies in the range."""
        if not self.is_number or isinstance(value, bool):
            return True
        return bool(self.about.least <= value and (self.about.most is None or value <= self.about.most))


def options_of(kind: type[Any]) -> tuple[Option, ...]:
    """The options of a check's options class.

    Raises:
        TypeError: a field does not say what it is.
    """
    hints = get_type_hints(kind, include_extras=True)
    found = []
    for field in dataclasses.fields(kind):
        about = next((one for one in get_args(hints[field.name]) if isinstance(one, About)), None)
        if about is None:
            raise TypeError(f"{kind.__name__}.{field.name} does not say what it is: Annotated[…, About(…)]")
        found.append(Option(field.name, field.default, about))
    return tuple(found)
