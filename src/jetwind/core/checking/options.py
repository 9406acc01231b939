"""The meaning of a check's option and the values that it takes, for its page, ``--explain``, the settings screen and refusals."""

from __future__ import annotations

import dataclasses
from dataclasses import dataclass
from typing import TYPE_CHECKING, get_args, get_type_hints

if TYPE_CHECKING:
    from _typeshed import DataclassInstance


@dataclass(frozen=True, slots=True)
class About:
    """The meaning of an option, in words; of a number its unit, the least and the most that it may be. It stands in the annotation of the option's field."""

    note: str
    unit: str = ""
    least: float = 0
    most: float | None = None


@dataclass(frozen=True, slots=True)
class Option:
    """One option: its name, its default, and what it is."""

    name: str
    default: str | float | bool
    about: About

    @property
    def note(self) -> str:
        """The meaning of the option."""
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

    def takes(self, value: object) -> bool:
        """Whether a value of the right type lies in the range."""
        if not self.is_number or not isinstance(value, (int, float)) or isinstance(value, bool):
            return True
        return bool(self.about.least <= value and (self.about.most is None or value <= self.about.most))


def options_of(kind: type[DataclassInstance]) -> tuple[Option, ...]:
    """The options of a check's options class.

    Raises:
        TypeError: a field does not say what it is, or has no default.
    """
    hints = get_type_hints(kind, include_extras=True)
    found = []
    for field in dataclasses.fields(kind):
        about = next((one for one in get_args(hints[field.name]) if isinstance(one, About)), None)
        if about is None:
            raise TypeError(f"{kind.__name__}.{field.name} does not say what it is: Annotated[…, About(…)]")
        if not isinstance(field.default, (str, int, float)):
            raise TypeError(f"{kind.__name__}.{field.name} has no default that is a text, a number, or yes or no")
        found.append(Option(field.name, field.default, about))
    return tuple(found)
