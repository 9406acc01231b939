"""Which fields of a reader a token asks for."""

from __future__ import annotations

import re

from jetwind.core.fields.marked import condition
from jetwind.core.fields.syntax import FieldToken, Syntax

_QUOTED = re.compile(r"\"[^\"]*\"|'[^']*'")
_IDENTIFIER = re.compile(r"(?<![\w.])[A-Za-z_][\w-]*(?:\.[\w-]+)*")
_READS_FIELDS = frozenset({"if", "elsif", "unless", "case", "for", "assign", "echo", "tablerow"})
_NOT_FIELDS = frozenset(
    {"and", "or", "not", "in", "contains", "true", "false", "nil", "null", "blank", "empty", "limit", "offset", "reversed", "cols"}
)


def fields_read(token: FieldToken, syntax: Syntax) -> list[str]:
    """Names of the fields that a field or a block tag reads; a tag such as ``if`` may read several, a comment none."""
    if token.is_foreign or token.is_literal:
        return []
    if not token.is_block:
        return [token.name] if token.name else []
    if syntax.grammar == "marks":
        asked = condition(token) if token.rest and syntax.turn(token) != "ends" else None
        return [asked.name] if asked is not None else []
    if token.word not in _READS_FIELDS:
        return []
    rest = _QUOTED.sub(" ", token.rest)
    if token.word in ("for", "tablerow"):
        rest = rest.partition(" in ")[2]
    elif token.word == "assign":
        rest = rest.partition("=")[2]
    rest = rest.split("|")[0]
    return [name for name in _IDENTIFIER.findall(rest) if name.lower() not in _NOT_FIELDS]
