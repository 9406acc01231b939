"""Raw text with a line index, spans in it, and edits at exact places."""

from jetwind.core.source.limits import FILLING, LIMITS, Limits, Reached
from jetwind.core.source.splice import Edit, splice
from jetwind.core.source.text import Excerpt, Position, SourceText, Span, Spans
from jetwind.core.source.without_caches import WithoutCaches

__all__ = [
    "FILLING",
    "LIMITS",
    "Edit",
    "Excerpt",
    "Limits",
    "Position",
    "Reached",
    "SourceText",
    "Span",
    "Spans",
    "WithoutCaches",
    "splice",
]
