"""What is lost of a message where its text is set twice as large."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Literal


@dataclass(frozen=True, slots=True)
class Loss:
    """A text that is lost at 200 %: cut off by the box of another element, or covering the text of another. Elements by index, -1 for none."""

    kind: Literal["cut", "covers"]
    element: int
    other: int

    def as_row(self) -> list[Any]:
        """The values in order, for keeping."""
        return [self.kind, self.element, self.other]

    @classmethod
    def from_row(cls, row: Sequence[Any]) -> Loss:
        """What was kept."""
        return cls(*row)
