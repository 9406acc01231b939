"""A render shows a sign where a field or the code of a template stands: the field's values are not known, and code draws nothing."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator
from html import escape

from jetwind.core.fields import foreign_tokens
from jetwind.core.fields.syntax import FILLER
from jetwind.core.markup import Document, Element, source_span
from jetwind.core.source import Edit, Span

#: A colour that a field will bring is unknown. A picture behind the letters says so to the measuring, and shows nothing.
UNKNOWN_GROUND = "background-image: linear-gradient(transparent, transparent)"
_OPAQUE_COLOUR = re.compile(rf"(?<![\w-])(?:background(?:-color)?|color)\s*:[^;{{}}{FILLER}]{{0,200}}{FILLER}[^;{{}}]*", re.IGNORECASE)


def with_unknown_colours(css: str) -> str:
    """Declarations whose colours are told as unknown where a field, masked as filler, is to bring them."""
    return _OPAQUE_COLOUR.sub(UNKNOWN_GROUND, css) if FILLER in css else css


def without_code(document: Document) -> Iterator[Edit]:
    """Blocks of a template draw nothing; a field whose marks would be read as a tag is written as text, or left out of a tag."""
    text = document.source.text
    tokens = document.field_tokens
    if not tokens and "&lt;" not in text:
        return
    tags = sorted((tag.start, tag.end, element.index) for element in document.all_elements if (tag := element.start_tag))
    starts = [start for start, _, _ in tags]
    for token in tokens:
        at = bisect_right(starts, token.span.start) - 1
        in_tag = at >= 0 and token.span.start < tags[at][1]
        if token.is_block or (in_tag and not _is_quoted(document.all_elements[tags[at][2]], token.span, text)):
            yield Edit(token.span, "")
        elif not in_tag and "<" in token.source:
            yield Edit(token.span, escape(token.source))
    for element in document.all_elements if "&lt;" in text else ():
        for child in element.children:
            if isinstance(child, Element) or "<" not in child.text or child.span is None:
                continue
            raw = document.source.slice(child.span)
            for token in foreign_tokens(child.text):
                if token.is_block:
                    yield Edit(source_span(raw, child.span, token.span.start, token.span.end), "")


def _is_quoted(element: Element, span: Span, text: str) -> bool:
    """Whether a field stands inside the quotes of an attribute's value."""
    return any(
        attribute.value_span.contains(span) and text[attribute.value_span.start - 1] in "\"'" for attribute in element.attributes.values()
    )
