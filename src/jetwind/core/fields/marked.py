"""Filling a template whose syntax is described by its marks: fields and their defaults, blocks decided, comments left out."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from jetwind.core.fields.blocks import Part, structure
from jetwind.core.fields.syntax import FieldToken, Syntax
from jetwind.core.source import Span

_CONDITION = re.compile(
    r"(?P<not>(?:not\s+|!\s*)?)(?P<name>[A-Za-z_][\w-]*(?:\.[\w-]+)*)"
    r"(?:\s*(?P<sign>==?|!=|<>|\bis\b)\s*(?P<value>\"[^\"]*\"|'[^']*'|[^\s\"']+))?\s*\Z"
)


@dataclass(frozen=True, slots=True)
class Condition:
    """The condition of a part of a block: whether a field is filled or, with ``value``, whether it has that one."""

    name: str
    value: str | None
    is_turned: bool

    def holds(self, values: Mapping[str, str]) -> bool:
        """Whether it holds for a reader with these values."""
        value = values.get(self.name, "")
        return (value == self.value if self.value is not None else bool(value.strip())) is not self.is_turned


def condition(token: FieldToken) -> Condition | None:
    """The condition of a block tag; None where it has none that can be read."""
    found = _CONDITION.match(token.rest)
    if found is None:
        return None
    value = found["value"]
    if value is not None and value[0] in "\"'":
        value = value[1:-1]
    return Condition(found["name"], value, bool(found["not"]) is not (found["sign"] in ("!=", "<>")))


def shown(source: str, values: Mapping[str, str], syntax: Syntax) -> Iterator[tuple[str, Span, FieldToken | None]]:
    """The text that a reader gets, in order: text, the stretch of the source that it comes from, and the field that brought it, None for text.

    Where a block is broken all parts of all blocks are shown, so that nothing is hidden by it.
    """
    tokens = list(syntax.tokens(source))
    found = structure(tokens, syntax)
    hidden: list[Span] = []
    if not found.misplaced:
        for _, block in found.walk():
            hidden.extend(part.body for part in _not_shown(block.parts, values))
    # In source order an outer stretch comes before those inside it, which it takes along.
    hidden.sort(key=lambda span: (span.start, -span.end))
    at = number = 0
    for token in tokens:
        if token.span.start < at:
            continue
        if at < token.span.start:
            yield source[at : token.span.start], Span(at, token.span.start), None
        if token.name is not None:
            yield values.get(token.name, "") or token.default or "", token.span, token
        elif not token.is_block:
            yield token.source, token.span, token
        at = token.span.end
        while number < len(hidden) and hidden[number].start < at:
            number += 1
        if number < len(hidden) and hidden[number].start == at:
            at = hidden[number].end
    if at < len(source):
        yield source[at:], Span(at, len(source)), None


def _not_shown(parts: list[Part], values: Mapping[str, str]) -> Iterator[Part]:
    decided = False
    for part in parts:
        asked = condition(part.token)
        # An else without a condition of its own takes what is left; a condition that cannot be read hides nothing.
        holds = not decided and (asked is None or asked.holds(values))
        if not holds:
            yield part
        decided = decided or (holds and (asked is not None or part is not parts[0]))
