"""Declarations written into style attributes, for mends of single elements."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping

from jetwind.core.checking.mends import Change
from jetwind.core.markup import Document, Element
from jetwind.core.source import Span
from jetwind.core.styles import placed_declarations
from jetwind.core.styles.placed import PlacedDeclaration

_VALUE = re.compile(r"[^:]*:\s*(?P<value>.*?)(?:\s*!\s*important)?\s*\Z", re.DOTALL | re.IGNORECASE)


class InlineStyles:
    """The style attributes of some elements of a document, each of which may be changed once."""

    def __init__(self, document: Document, elements: Collection[int]) -> None:
        self._document = document
        self._placed: dict[int, dict[str, PlacedDeclaration]] = {}
        wanted = set(elements)
        for placed in placed_declarations(document):
            if placed.rule is None and placed.element.index in wanted:
                # Of two declarations of a property the later holds (CSS Cascade 4 §6.4).
                self._placed.setdefault(placed.element.index, {})[placed.declaration.name] = placed

    def value(self, element: Element, name: str) -> str | None:
        """The value of a property as the element's own attribute says it; None where it does not."""
        placed = self._placed.get(element.index, {}).get(name)
        return placed.declaration.value.strip() if placed is not None else None

    def with_values(self, element: Element, values: Mapping[str, str]) -> Iterator[Change]:
        """The changes after which the attribute says these values: old ones are replaced, new ones stand at its end."""
        if element.start_tag is None:
            return
        added = []
        for name, value in values.items():
            placed = self._placed.get(element.index, {}).get(name)
            if placed is None:
                added.append(f"{name}:{value}")
                continue
            written = _VALUE.match(self._document.source.slice(placed.span))
            assert written is not None, "a declaration has a colon"
            start, end = written.span("value")
            yield Change("html", Span(placed.span.start + start, placed.span.start + end), value)
        if added and (more := self._with_more(element, element.start_tag, ";".join(added))) is not None:
            yield more

    def _with_more(self, element: Element, tag: Span, css: str) -> Change | None:
        attribute = element.attributes.get("style")
        if attribute is None:
            at = tag.start + 1 + len(element.tag)
            return Change("html", Span(at, at), f' style="{css}"')
        raw = self._document.source.slice(attribute.value_span)
        end = attribute.value_span.start + len(raw.rstrip())
        more = f"{';' if raw.strip() and not raw.rstrip().endswith(';') else ''}{css}"
        if self._document.source.text[attribute.value_span.start - 1] in "\"'" and attribute.value_span.end < attribute.span.end:
            return Change("html", Span(end, end), more)
        if '"' in raw:
            return None
        # Without quotation marks a blank would end the value.
        name = self._document.source.slice(attribute.name_span)
        return Change("html", attribute.span, f'{name}="{raw}{more}"')
