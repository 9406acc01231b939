"""The losses of a message where its text is set twice as large."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from jetwind.core.source.plain import read


@dataclass(frozen=True, slots=True)
class Loss:
    """A text that is lost at 200 %: cut off by the box of another element, or covering the text of another. Elements by index, -1 for none."""

    kind: Literal["cut", "covers"]
    element: int
    other: int

    def as_row(self) -> tuple[str, int, int]:
        """The values in order, for keeping."""
        return (self.kind, self.element, self.other)

    @classmethod
    def from_row(cls, row: Sequence[object]) -> Loss:
        """The loss that was kept.

        Raises:
            Unfit: something else was kept.
        """
        return cls(*read(row, tuple[Literal["cut", "covers"], int, int]))
