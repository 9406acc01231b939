"""How long a text becomes for a reader, told without filling it: linear in its tokens, whatever a template asks for."""

from __future__ import annotations

import re
from collections.abc import Mapping

from jetwind.core.fields.blocks import Part, structure
from jetwind.core.fields.marked import Condition, condition
from jetwind.core.fields.syntax import FieldToken, Syntax

#: Tokens that are looked at: what comes after them counts as it is written.
_MOST_TOKENS = 5_000
_NOT_BLANK = re.compile(r"(?P<name>[\w.-]+)\s*(?:!=|<>)\s*(?:blank|empty|nil|null|''|\"\")\s*\Z")


class CopyLength:
    """The length of a text for one reader after another, in characters.

    Conditions on one field are decided; one that asks for more counts as true, a loop as one round.
    """

    def __init__(self, source: str, syntax: Syntax) -> None:
        self._syntax = syntax
        tokens = [token for token, _ in zip(syntax.tokens(source), range(_MOST_TOKENS), strict=False)]
        self._written = len(source) - sum(len(token.source) for token in tokens)
        self._fields = [(token.span.start, token.name, len(token.default or "")) for token in tokens if token.name is not None]
        self._starts = [(token.span.start, token.span.end) for token in tokens]
        self._blocks = [block.parts for _, block in structure(tokens, syntax).walk() if block.decides]

    def of(self, values: Mapping[str, str]) -> int:
        """The length for a reader with these values."""
        hidden = [(part.body.start, part.body.end) for parts in self._blocks for part in self._hidden(parts, values)]
        hidden.sort()
        length = self._written
        at = 0
        for start, end in hidden:
            if start >= at:
                tags = sum(min(stop, end) - begin for begin, stop in self._starts if start <= begin < end)
                length -= end - start - tags
                at = end
        spans = iter(hidden)
        current = next(spans, None)
        for start, name, default in self._fields:
            while current is not None and current[1] <= start:
                current = next(spans, None)
            if current is None or start < current[0]:
                length += len(values.get(name, "")) or default
        return length

    def _hidden(self, parts: list[Part], values: Mapping[str, str]) -> list[Part]:
        decided = False
        found = []
        for part in parts:
            holds = not decided and self._holds(part.token, values)
            if not holds:
                found.append(part)
            decided = decided or holds
        return found

    def _holds(self, token: FieldToken, values: Mapping[str, str]) -> bool:
        not_blank = _NOT_BLANK.match(token.rest)
        if not_blank is not None:
            return bool(values.get(not_blank["name"], "").strip())
        asked: Condition | None = condition(token) if token.rest else None
        if asked is None:
            return True
        if self._syntax.grammar == "liquid" and asked.value is None:
            # To Liquid an empty text is there.
            return (asked.name in values) is not (asked.is_turned or token.word == "unless")
        return asked.holds(values) is not (token.word == "unless")
