"""Places that several checks of appearance give."""

from __future__ import annotations

from jetwind.core.checking import Place
from jetwind.core.markup import Element
from jetwind.core.message import Message, Shared
from jetwind.core.source import SourceText, Span

_SHEET: Shared[tuple[SourceText, SourceText]] = Shared("sheet")


def in_style(message: Message, style: Element, start: int, end: int) -> Place:
    """Characters of a style element's text; lines and columns are the same in the tree and in the source, offsets are not."""
    run = next((child for child in style.children if not isinstance(child, Element)), None)
    document = message.document
    if run is None or run.span is None or document is None:
        return Place.in_html(message, style.start_tag, style.index)
    of_source, of_tree = run.span, style.text
    given, read = message.shared(_SHEET.of(style.index), lambda: (SourceText(document.source.slice(of_source)), SourceText(of_tree)))
    first, last = (read.position(offset) for offset in (start, end))
    span = Span(run.span.start + given.offset(first.line, first.column), run.span.start + given.offset(last.line, last.column))
    return Place.in_html(message, span, style.index)
