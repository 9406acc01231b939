"""The words that a screen reader says of a message, in its order."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from jetwind.core.source.plain import read


@dataclass(frozen=True, slots=True)
class Spoken:
    """One thing that is said: its role (heading, link, image, text, list, table, …), its words, and the element it belongs to, -1 for none.

    ``level`` is that of a heading, 0 for what has none; ``language`` the tag that holds for it, empty where none is declared.
    """

    role: str
    words: str
    level: int = 0
    language: str = ""
    element: int = -1

    def as_row(self) -> tuple[str, str, int, str, int]:
        """The values in order, for keeping."""
        return (self.role, self.words, self.level, self.language, self.element)

    @classmethod
    def from_row(cls, row: Sequence[object]) -> Spoken:
        """The words that were kept.

        Raises:
            Unfit: something else was kept.
        """
        return cls(*read(row, tuple[str, str, int, str, int]))
