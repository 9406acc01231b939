"""The purposes of a message's parts: header, body, footer; buttons; layout and data tables; columns; the container.

All of it is judged from markup, without layout. Common practice, no published source.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate, islice
from typing import TYPE_CHECKING, Literal

from jetwind.core.facts import phrase_pattern
from jetwind.core.markup import Element, TextRun
from jetwind.core.message import Shared
from jetwind.core.prose.passages import Passage
from jetwind.core.prose.reading import reading_of
from jetwind.core.styles import length_px

_OUTLINE: Shared[Outline] = Shared("outline")

if TYPE_CHECKING:
    from jetwind.core.message.model import Message

Section = Literal["header", "body", "footer"]
_FOOTER_WORDS = re.compile(
    r"©|\bcopyright\b|all rights reserved|you (?:are |have )?(?:receiv|got|get)[a-z]* this|privacy|why did i get", re.IGNORECASE
)
_SAYS_FOOTER = re.compile(r"(?:^|[\s_-])foot(?:er)?(?:$|[\s_-])", re.IGNORECASE)
_WIDTH_ATTRIBUTE = re.compile(r"\s*([0-9]{1,7}(?:\.[0-9]{1,9})?)\s*(?:px)?\s*\Z", re.IGNORECASE)
_PERCENT = re.compile(r"\s*([0-9]{1,7}(?:\.[0-9]{1,9})?)\s*%")
_BOXES = frozenset({"table", "td", "th", "div", "center", "section", "article", "main", "body"})


#: Boxes around an element that are looked at, and nodes of a cell that is one button.
_MOST_BOXES, _MOST_OF_A_BUTTON = 200, 80


@dataclass(frozen=True, slots=True)
class Width:
    """A width as written, in px or in per cent of what is around."""

    value: float
    is_percent: bool = False


@dataclass(frozen=True)
class TableRow:
    """One row of a table: the ``tr``, its cells with the columns each spans, and the table."""

    element: Element
    table: Element
    cells: tuple[tuple[Element, int], ...]


class Outline:
    """Structure of one message's HTML."""

    def __init__(self, message: Message) -> None:
        self._message = message

    def width(self, element: Element) -> Width | None:
        """The width of a box: its style's, held down by max-width, else its width attribute. None where neither tells."""
        cascade = self._message.cascade
        written = cascade.value(element, "width")
        limit = length_px(cascade.value(element, "max-width"))
        found = _css_width(written) or (None if written else _attribute_width(element))
        if limit is not None and (found is None or found.is_percent or found.value > limit):
            return Width(limit)
        return found

    @cached_property
    def blocks(self) -> list[tuple[Element, float]]:
        """The outermost boxes with a width in px, each with that width: together they make the body."""
        document = self._message.document
        if document is None:
            return []
        found: list[tuple[Element, float]] = []
        covered: set[int] = set()
        cascade = self._message.cascade
        for element in document.body.elements():
            if element.parent is not None and element.parent.index in covered:
                covered.add(element.index)
                continue
            if element.tag not in _BOXES or cascade.is_hidden(element):
                continue
            width = self.width(element)
            if width is not None and not width.is_percent:
                covered.add(element.index)
                found.append((element, width.value))
        return found

    @cached_property
    def container(self) -> tuple[Element, float] | None:
        """The box that holds most of the copy and pictures, and its width in px; None where none has a width in px."""
        weights = [(_weight(element), element, width) for element, width in self.blocks]
        best = max(weights, key=lambda item: item[0], default=None)
        return (best[1], best[2]) if best is not None and best[0] > 0 else None

    @cached_property
    def sections(self) -> list[tuple[Section, Passage]]:
        """Every passage with the section that it belongs to."""
        passages = reading_of(self._message).passages
        footer = self._footer_start(passages)
        header = self._header_end(passages, footer)
        return [
            ("header" if number < header else "footer" if number >= footer else "body", passage) for number, passage in enumerate(passages)
        ]

    def section_of(self, element: Element) -> Section:
        """The section an element stands in: the footer where something around it says so, else that of the last passage at or before it."""
        if any(
            place.tag == "footer" or _SAYS_FOOTER.search(f"{place.get('class') or ''} {place.get('id') or ''}")
            for place in (element, *islice(element.ancestors(), _MOST_BOXES))
        ):
            return "footer"
        # The element of a passage may stand before that of the passage ahead of it: what counts is the first that stands behind.
        at = bisect_right(self._furthest, element.index)
        return self.sections[at - 1][0] if at else "header"

    @cached_property
    def _furthest(self) -> list[int]:
        """For each passage, the furthest element of the passages up to it."""
        return list(accumulate((passage.element.index for _, passage in self.sections), max))

    def _footer_start(self, passages: list[Passage]) -> int:
        """The first passage of the footer: from the first words of a footer in the last part of the copy on."""
        unsubscribe = phrase_pattern("phrases", "unsubscribe")
        from_here = len(passages) // 2
        for number in range(from_here, len(passages)):
            text = passages[number].text
            if unsubscribe.search(text) or _FOOTER_WORDS.search(text):
                return number
        return len(passages)

    @staticmethod
    def _header_end(passages: list[Passage], footer: int) -> int:
        """The first passage of the body: the first heading, or words that are no link and more than a slogan."""
        browser = phrase_pattern("phrases", "view_in_browser")
        for number, passage in enumerate(passages[:footer]):
            element = passage.element
            is_heading = any(place.tag in ("h1", "h2", "h3") for place in (element, *element.ancestors()))
            if is_heading or (not passage.is_link and len(passage.text.split()) >= 5 and not browser.search(passage.text)):
                return number
        return 0

    @cached_property
    def buttons(self) -> list[Element]:
        """Links that look like buttons: a box with a ground of its own and few words."""
        document = self._message.document
        if document is None:
            return []
        return [link for link in document.elements("a") if link.get("href") is not None and self._is_button(link)]

    def _is_button(self, link: Element) -> bool:
        words = len(link.text.split())
        if not 1 <= words <= 7:
            return False
        cascade = self._message.cascade
        if cascade.is_hidden(link):
            return False
        if self._has_ground(link) and (cascade.value(link, "padding") or cascade.value(link, "display") or cascade.value(link, "border")):
            return True
        cell = next((place for place in link.ancestors() if place.tag in ("td", "th", "div")), None)
        if cell is None or cell.tag not in ("td", "th") or not self._has_ground(cell):
            return False
        nodes = list(islice(cell.walk(), _MOST_OF_A_BUTTON + 1))
        inside = "".join(node.text for node in nodes if isinstance(node, TextRun))
        return len(nodes) <= _MOST_OF_A_BUTTON and inside.split() == link.text.split()

    def _has_ground(self, element: Element) -> bool:
        cascade = self._message.cascade
        for value in (cascade.value(element, "background-color"), cascade.value(element, "background"), element.get("bgcolor")):
            if value and value.strip().lower() not in ("none", "transparent", "inherit", "initial", "#fff", "#ffffff", "white"):
                return True
        return False

    def is_data_table(self, table: Element) -> bool:
        """Whether a table holds data: it has a caption, header cells, or says so by its role (HTML §4.9.1; from memory)."""
        role = (table.get("role") or "").strip().lower()
        if role in ("presentation", "none"):
            return False
        if role in ("table", "grid"):
            return True
        for node in table.elements("th", "caption"):
            holder = next((place for place in node.ancestors() if place.tag == "table"), None)
            if holder is table and node.text.strip():
                return True
        return False

    def rows(self) -> Iterator[TableRow]:
        """The rows of all tables with their cells."""
        document = self._message.document
        if document is None:
            return
        for element in document.elements("tr"):
            table = next((place for place in element.ancestors() if place.tag == "table"), None)
            cells = tuple((child, _span(child)) for child in element.children if isinstance(child, Element) and child.tag in ("td", "th"))
            if table is not None and cells:
                yield TableRow(element, table, cells)


def _css_width(value: str | None) -> Width | None:
    if value is None:
        return None
    if percent := _PERCENT.match(value):
        return Width(float(percent[1]), is_percent=True)
    pixels = length_px(value)
    return None if pixels is None else Width(pixels)


def _attribute_width(element: Element) -> Width | None:
    """The width attribute (HTML §2.3.4.4, dimension values): a number of px, or a percentage."""
    if element.tag not in ("table", "td", "th", "img", "col", "hr"):
        return None
    value = element.get("width") or ""
    if percent := _PERCENT.match(value):
        return Width(float(percent[1]), is_percent=True)
    pixels = _WIDTH_ATTRIBUTE.match(value)
    return Width(float(pixels[1])) if pixels and float(pixels[1]) > 0 else None


def _span(cell: Element) -> int:
    try:
        return max(1, min(int((cell.get("colspan") or "1")[:9]), 1000))
    except ValueError:
        return 1


def _weight(element: Element) -> int:
    """Characters of copy, a picture counting 40."""
    weight = 0
    for node in element.walk():
        if isinstance(node, TextRun):
            weight += len(node.text.strip())
        elif node.tag == "img":
            weight += 40
    return weight


def outline_of(message: Message) -> Outline:
    """The purposes of the parts of the HTML: header, body, footer, columns, buttons. Made once for a message."""
    return message.shared(_OUTLINE, lambda: Outline(message))
