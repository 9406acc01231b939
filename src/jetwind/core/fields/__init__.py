"""Merge fields: a syntax as data, its tokens with spans, and the message as one reader would get it."""

from jetwind.core.fields.fill import fill
from jetwind.core.fields.shapes import token_shapes
from jetwind.core.fields.syntax import LIQUID, FieldToken, Syntax, mask

__all__ = ["LIQUID", "FieldToken", "Syntax", "fill", "mask", "token_shapes"]
