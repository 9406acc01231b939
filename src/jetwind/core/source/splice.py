"""Changing a source at exact places and nowhere else."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from jetwind.core.source.text import Span


@dataclass(frozen=True, slots=True)
class Edit:
    """Replace the characters of ``span`` by ``text``."""

    span: Span
    text: str

    @classmethod
    def insert(cls, offset: int, text: str) -> Edit:
        """Put ``text`` before the character at ``offset``."""
        return cls(Span(offset, offset), text)


def splice(source: str, edits: Iterable[Edit]) -> str:
    """The text of ``source`` with all edits made. Of two that overlap, the one that starts first, or else is longer, wins."""
    pieces: list[str] = []
    end = 0
    for edit in sorted(edits, key=lambda edit: (edit.span.start, -edit.span.end)):
        if edit.span.start < end:
            continue
        pieces.extend((source[end : edit.span.start], edit.text))
        end = edit.span.end
    return "".join(pieces) + source[end:]
