"""Merge fields: a syntax as data, its tokens with spans, and the message as one reader would get it."""

from jetwind.core.fields.blocks import Block, Misplaced, Part, Structure, structure
from jetwind.core.fields.branches import branches
from jetwind.core.fields.described import Understood, UnusableSyntax, as_description, described, from_toml, guess, tried
from jetwind.core.fields.fill import fill, past_limit
from jetwind.core.fields.length import CopyLength
from jetwind.core.fields.marked import condition
from jetwind.core.fields.merging import Merged, Piece, merge, merge_each, merging_each
from jetwind.core.fields.metering import metered
from jetwind.core.fields.reading import fields_read
from jetwind.core.fields.shapes import blanked, foreign_tokens, opaque, source_tokens, tokens, unclosed, without_blocks
from jetwind.core.fields.syntax import LIQUID, BlockWords, FieldToken, Syntax

__all__ = [
    "LIQUID",
    "Block",
    "BlockWords",
    "CopyLength",
    "FieldToken",
    "Merged",
    "Misplaced",
    "Part",
    "Piece",
    "Structure",
    "Syntax",
    "Understood",
    "UnusableSyntax",
    "as_description",
    "blanked",
    "branches",
    "condition",
    "described",
    "fields_read",
    "fill",
    "foreign_tokens",
    "from_toml",
    "guess",
    "merge",
    "merge_each",
    "merging_each",
    "metered",
    "opaque",
    "past_limit",
    "source_tokens",
    "structure",
    "tokens",
    "tried",
    "unclosed",
    "without_blocks",
]
