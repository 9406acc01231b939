"""The cascade, as far as static checks need it: which value a property has on an element, outside media queries.

Order follows CSS Cascade 4 §6: importance, then style attribute, then specificity, then order of appearance.
"""

from __future__ import annotations

from functools import cached_property

from jetwind.core.markup import Document, Element, TextRun
from jetwind.core.styles.declarations import declarations, length_px
from jetwind.core.styles.matching import Match, matches

#: Elements whose text is never shown (HTML §15.3.1).
NEVER_SHOWN = frozenset({"head", "style", "script", "title", "template", "noframes", "datalist", "meta", "link"})


class Cascade:
    """Winning declarations of one document's style blocks and style attributes."""

    def __init__(self, document: Document) -> None:
        self._document = document
        self._hidden: dict[int, bool] = {}

    def value(self, element: Element, name: str) -> str | None:
        """The value that wins for ``name`` on this very element (nothing is inherited), or None."""
        best: tuple[tuple[bool, bool, tuple[int, int, int], int], str] | None = None
        for match in self._rules.get(element.index, ()):
            for declaration in match.rule.declarations:
                if declaration.name == name:
                    rank = (declaration.important, False, match.specificity, match.order)
                    if best is None or rank >= best[0]:
                        best = (rank, declaration.value)
        for order, declaration in enumerate(declarations(element.get("style") or "")):
            if declaration.name == name:
                rank = (declaration.important, True, (0, 0, 0), order)
                if best is None or rank >= best[0]:
                    best = (rank, declaration.value)
        return best[1] if best else None

    def is_hidden(self, node: Element | TextRun) -> bool:
        """Whether a sighted reader never gets to see it: not displayed, invisible, transparent, no size, or off the page."""
        element = node.parent if isinstance(node, TextRun) else node
        path: list[Element] = []
        place: Element | None = element
        while place is not None and place.index not in self._hidden:
            path.append(place)
            place = place.parent
        hidden = self._hidden[place.index] if place is not None else False
        for step in reversed(path):
            hidden = hidden or self._hides(step)
            self._hidden[step.index] = hidden
        return self._hidden[element.index]

    def _hides(self, element: Element) -> bool:
        if element.tag in NEVER_SHOWN or "hidden" in element.attributes:
            return True
        if (self.value(element, "display") or "").lower() == "none":
            return True
        if (self.value(element, "visibility") or "").lower() in ("hidden", "collapse"):
            return True
        if length_px(self.value(element, "opacity")) == 0:
            return True
        if (size := length_px(self.value(element, "font-size"))) is not None and size < 2 and _only_text(element):
            return True
        clips = (self.value(element, "overflow") or "").lower() in ("hidden", "clip")
        return clips and any(length_px(self.value(element, name)) == 0 for name in ("max-height", "height", "max-width", "width"))

    @cached_property
    def _rules(self) -> dict[int, list[Match]]:
        """Rules outside media queries that hit each element, by element index, in order of appearance."""
        return {index: kept for index, hits in matches(self._document).items() if (kept := [hit for hit in hits if not hit.rule.within])}


def _only_text(element: Element) -> bool:
    """A tiny font size is also the usual way to close gaps between pictures; it hides only where text takes it as it is."""
    return any(isinstance(child, TextRun) and child.text.strip() for child in element.children)
