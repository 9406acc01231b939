"""Renders of a reader's copy led back to the message that everybody else looks at: blocks to its elements, places to its source."""

from __future__ import annotations

from array import array
from collections.abc import Mapping
from dataclasses import dataclass, replace

from jetwind.core.message import Message
from jetwind.core.readers import AsReader
from jetwind.core.renders.enlarged import Loss
from jetwind.core.renders.measured import Measured
from jetwind.core.renders.of_message import Renders
from jetwind.core.renders.showing import Shown
from jetwind.core.source import Span


@dataclass(frozen=True, slots=True)
class ElementsBack:
    """The way from each element of a merged message to that of the message, without either: four octets for each.

    ``own`` has the message's element for each of the merged one, by number; -1 for none.
    """

    own: array[int]

    @classmethod
    def of(cls, found: Mapping[int, int]) -> ElementsBack:
        """The way for these elements."""
        return cls(array("i", (found.get(index, -1) for index in range(max(found, default=-1) + 1))))

    def element(self, index: int) -> int:
        """The element of the message that an element of the merged one comes from; -1 for none."""
        return self.own[index] if 0 <= index < len(self.own) else -1

    def measured(self, measured: Measured) -> Measured:
        """The measurements, with elements of the message."""
        return replace(measured, blocks=tuple(replace(block, element=self.element(block.element)) for block in measured.blocks))

    def enlarged(self, found: tuple[Loss, ...]) -> tuple[Loss, ...]:
        """The losses with larger text, with elements of the message; without what only some client reads."""
        led = (Loss(one.kind, self.element(one.element), self.element(one.other)) for one in found)
        return tuple(dict.fromkeys(one for one in led if one.element >= 0))


class LedBack:
    """The way from the tree of a merged message to that of the message it was merged from.

    ``elements`` leads elements back, without the two messages.
    """

    def __init__(self, message: Message, merged: AsReader) -> None:
        self._merged = merged
        self.elements = ElementsBack.of(_elements(message, merged))

    def element(self, index: int) -> int:
        """The element of the message that an element of the merged one comes from; -1 for none."""
        return self.elements.element(index)

    def span(self, span: Span) -> Span | None:
        """The stretch of the source that a stretch of the merged HTML comes from."""
        return self._merged.in_source(span)

    def renders(self, found: Renders) -> Renders:
        """All renders, and the losses that show."""
        renders = {
            name: replace(
                render, measured=self.elements.measured(render.measured), blocked=frozenset(map(self.element, render.blocked)) - {-1}
            )
            for name, render in found.renders.items()
        }
        shown = tuple(self.shown(one) for one in found.shown) if found.shown is not None else None
        enlarged = self.elements.enlarged(found.enlarged) if found.enlarged is not None else None
        return replace(found, renders=renders, shown=shown, reader=self._merged.reader.name, enlarged=enlarged)

    def shown(self, shown: Shown) -> Shown:
        """A loss that shows, with the places of the message's own source and its own elements."""
        spans = sorted({own for span in shown.spans if (own := self.span(span)) is not None})
        elements = sorted({self.element(element) for element in shown.elements} - {-1})
        return replace(shown, spans=tuple(spans), elements=tuple(elements))


def _elements(message: Message, merged: AsReader) -> dict[int, int]:
    """The message's element for each of the merged one."""
    found: dict[int, int] = {}
    if message.document is None or merged.message.document is None:
        return found
    own = {element.start_tag.start: element.index for element in message.document.all_elements if element.start_tag}
    around = -1
    for element in merged.message.document.all_elements:
        if element.start_tag is None:
            # Implied by the parser: it belongs where what holds it does.
            found[element.index] = found.get(element.parent.index, -1) if element.parent else 0
            continue
        piece = merged.html.piece_at(element.start_tag.start) if merged.html is not None else None
        if piece is None:
            around = -1
        elif piece.token is None:
            around = own.get(piece.source.start + element.start_tag.start - piece.start, -1)
        else:
            inside = message.document.element_around(piece.source.start)
            around = -1 if inside is None else inside
        found[element.index] = around
    return found
