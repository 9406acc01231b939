"""HTML as the standard builds it, with the exact place of every tag, attribute and text run."""

from jetwind.core.markup.document import Document, parse
from jetwind.core.markup.nodes import Attribute, Comment, Element, ParseFault, TextRun
from jetwind.core.markup.offsets import source_span
from jetwind.core.markup.tokens import Token

__all__ = ["Attribute", "Comment", "Document", "Element", "ParseFault", "TextRun", "Token", "parse", "source_span"]
