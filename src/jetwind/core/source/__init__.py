"""Raw text with a line index, spans in it, and edits at exact places."""

from jetwind.core.source.splice import Edit, splice
from jetwind.core.source.text import Excerpt, Position, SourceText, Span

__all__ = ["Edit", "Excerpt", "Position", "SourceText", "Span", "splice"]
