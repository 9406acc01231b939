"""HTML as the standard builds it, with the exact place of every tag, attribute and text run."""

from jetwind.core.markup.document import Attribute, Comment, Document, Element, ParseFault, TextRun, Token, parse
from jetwind.core.markup.offsets import source_span

__all__ = ["Attribute", "Comment", "Document", "Element", "ParseFault", "TextRun", "Token", "parse", "source_span"]
