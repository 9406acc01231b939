"""Which places of a loss show: those that are about an element whose block looks otherwise without the feature."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable
from dataclasses import dataclass
from functools import cached_property

from jetwind.core.markup import Document, Element
from jetwind.core.source import SourceText, Span
from jetwind.core.styles.matching import Match, matches
from jetwind.core.styles.placed import rules


@dataclass(frozen=True, slots=True)
class _PlacedRule:
    """A rule of a style element: where it begins in the document's source, its number in the cascade, how many declarations it has.

    ``is_of_media`` says that it holds within a media query alone.
    """

    start: int
    order: int
    declarations: int
    is_of_media: bool


class Sources:
    """Where the tags and style rules of a document stand: worked out once for all losses of a message."""

    def __init__(self, document: Document) -> None:
        self.document = document

    def element_at(self, span: Span) -> Element | None:
        """The element in whose tag, or in whose sheet, a place stands."""
        at = bisect_right(self._tags, (span.start, len(self.document.all_elements))) - 1
        return self.document.all_elements[self._tags[at][1]] if at >= 0 else None

    @cached_property
    def _tags(self) -> list[tuple[int, int]]:
        elements = self.document.all_elements
        return sorted((element.start_tag.start, element.index) for element in elements if element.start_tag is not None)

    @cached_property
    def rules(self) -> list[_PlacedRule]:
        """Every rule of style elements in the order of the source, numbered as the cascade numbers them."""
        found: list[_PlacedRule] = []
        order = 0
        for block in self.document.elements("style"):
            if (block.get("type") or "text/css").strip().lower() != "text/css" or (sheet := self.document.sheet_of(block)) is None:
                continue
            css, span = sheet
            given = SourceText(css)
            for rule in rules(css):
                order += 1
                if rule.prelude:
                    start = span.start + given.offset(rule.prelude[0].source_line, rule.prelude[0].source_column)
                    is_of_media = bool(block.get("media")) or any(name == "media" for name, _ in rule.within)
                    found.append(_PlacedRule(start, order, len(rule.declarations), is_of_media))
        return sorted(found, key=lambda rule: rule.start)

    @cached_property
    def starts(self) -> list[int]:
        """Where each of these rules begins."""
        return [rule.start for rule in self.rules]

    @cached_property
    def matches(self) -> dict[int, list[Match]]:
        """The rules that hit each element, by the element's index."""
        return matches(self.document)


class LossPlaces:
    """The places of one loss. ``elements`` are those whose block shows the loss, by index; without any, every place may show it."""

    def __init__(self, sources: Sources, elements: Iterable[int]) -> None:
        self._sources = sources
        self._near = _near(sources.document, elements)

    @property
    def are_known(self) -> bool:
        """Whether it is known which elements show the loss."""
        return bool(self._near)

    def that_show(self, spans: list[Span]) -> list[Span]:
        """The places of these that show; all of them where that is not known of any."""
        found = [span for span in spans if self._shows(span)] if self.are_known else []
        return found or spans

    def declarations(self, sheets: Iterable[Span]) -> tuple[int, int]:
        """How many declarations stand in style elements with these places, and how many of them are about an element that shows the loss."""
        inside = self._inside(sheets)
        showing = sum(rule.declarations for rule in inside if rule.order in self._hitting)
        return sum(rule.declarations for rule in inside), showing

    def are_of_media(self, sheets: Iterable[Span]) -> bool:
        """Whether the rules of these style elements that are about an element that shows the loss hold within media queries alone."""
        inside = self._inside(sheets)
        showing = [rule for rule in inside if rule.order in self._hitting] or inside
        return bool(showing) and all(rule.is_of_media for rule in showing)

    def _inside(self, sheets: Iterable[Span]) -> list[_PlacedRule]:
        found: list[_PlacedRule] = []
        for span in sheets:
            found += self._sources.rules[bisect_left(self._sources.starts, span.start) : bisect_left(self._sources.starts, span.end)]
        return found

    def _shows(self, span: Span) -> bool:
        element = self._sources.element_at(span)
        if element is None:
            return True
        if element.tag != "style" or element.start_tag is None or span.start < element.start_tag.end:
            return element.index in self._near or (element.tag == "style" and self.declarations([span])[1] > 0)
        at = bisect_right(self._sources.starts, span.start) - 1
        return at >= 0 and self._sources.rules[at].order in self._hitting

    @cached_property
    def _hitting(self) -> frozenset[int]:
        """The numbers of rules that hit an element near one that shows the loss."""
        return frozenset(match.order for index, found in self._sources.matches.items() if index in self._near for match in found)


def _near(document: Document, elements: Iterable[int]) -> frozenset[int]:
    """The elements, those around them, and those right before one of these: a margin below one shows in the next."""
    near: set[int] = set()
    before: dict[int, dict[int, int]] = {}
    for index in elements:
        place = document.all_elements[index] if 0 <= index < len(document.all_elements) else None
        while place is not None and place.index not in near:
            near.add(place.index)
            if place.parent is not None:
                if place.parent.index not in before:
                    children = [child.index for child in place.parent.children if isinstance(child, Element)]
                    before[place.parent.index] = dict(zip(children[1:], children, strict=False))
                near.update({before[place.parent.index].get(place.index, place.index)})
            place = place.parent
    return frozenset(near)
