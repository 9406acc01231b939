"""Merge fields: a syntax as data, its tokens with spans, and the message as one reader would get it."""

from jetwind.core.fields.branches import branches
from jetwind.core.fields.fill import fill, past_limit
from jetwind.core.fields.merging import Merged, Piece, merge, merge_each
from jetwind.core.fields.shapes import blanked, foreign_tokens, opaque, source_tokens, tokens, unclosed, without_blocks
from jetwind.core.fields.syntax import LIQUID, FieldToken, Syntax

__all__ = [
    "LIQUID",
    "FieldToken",
    "Merged",
    "Piece",
    "Syntax",
    "blanked",
    "branches",
    "fill",
    "foreign_tokens",
    "merge",
    "merge_each",
    "opaque",
    "past_limit",
    "source_tokens",
    "tokens",
    "unclosed",
    "without_blocks",
]
