"""The cascade, as far as static checks need it: which value a property has on an element, outside media queries.

Order follows CSS Cascade 4 §6: importance, then style attribute, then specificity, then order of appearance.
"""

from __future__ import annotations

from functools import cached_property, lru_cache

from jetwind.core.markup import Document, Element, TextRun
from jetwind.core.styles.declarations import declarations, length_px
from jetwind.core.styles.matching import Match, matches

#: Elements whose text is never shown (HTML §15.3.1).
NEVER_SHOWN = frozenset({"head", "style", "script", "title", "template", "iframe", "noframes", "noembed", "datalist", "meta", "link"})


class Cascade:
    """Winning declarations of one document's style blocks and style attributes."""

    def __init__(self, document: Document) -> None:
        self._document = document
        self._hidden: dict[int, bool] = {}
        self._known: dict[object, dict[str, str]] = {}
        self._of: dict[int, dict[str, str]] = {}

    def value(self, element: Element, name: str) -> str | None:
        """The value that wins for ``name`` on this very element (nothing is inherited), or None."""
        return self._values(element).get(name)

    def _values(self, element: Element) -> dict[str, str]:
        """All winning values of an element; read them, never change them."""
        if element.index not in self._of:
            self._of[element.index] = self._worked_out(element)
        return self._of[element.index]

    def _worked_out(self, element: Element) -> dict[str, str]:
        """Messages repeat themselves, so equal rules and styles are worked out once."""
        hits = self._rules.get(element.index, ())
        style = self._document.style_of(element)
        if not hits:
            return _of_style(style)
        key = (style, tuple((hit.specificity, hit.order) for hit in hits))
        if key not in self._known:
            won: dict[str, str] = {}
            for important in (False, True):
                for hit in sorted(hits, key=lambda hit: (hit.specificity, hit.order)):
                    won.update((found.name, found.value) for found in hit.rule.declarations if found.important is important)
                won.update((found.name, found.value) for found in declarations(style) if found.important is important)
            self._known[key] = won
        return self._known[key]

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
        if element.tag in NEVER_SHOWN or "hidden" in element.names:
            return True
        values = self._values(element)
        if not values:
            return False
        if values.get("display", "").lower() == "none" or values.get("visibility", "").lower() in ("hidden", "collapse"):
            return True
        if length_px(values.get("opacity")) == 0:
            return True
        if (size := length_px(values.get("font-size"))) is not None and size < 2 and _only_text(element):
            return True
        clips = values.get("overflow", "").lower() in ("hidden", "clip")
        return clips and any(length_px(values.get(name)) == 0 for name in ("max-height", "height", "max-width", "width"))

    @cached_property
    def _rules(self) -> dict[int, list[Match]]:
        """Rules outside media queries that hit each element, by element index, in order of appearance."""
        return {index: kept for index, hits in matches(self._document).items() if (kept := [hit for hit in hits if not hit.rule.within])}


@lru_cache(maxsize=4096)
def _of_style(style: str) -> dict[str, str]:
    """The winning values of a style attribute alone; read it, never change it."""
    found = declarations(style)
    won = {declaration.name: declaration.value for declaration in found if not declaration.important}
    won.update((declaration.name, declaration.value) for declaration in found if declaration.important)
    return won


def _only_text(element: Element) -> bool:
    """A tiny font size is also the usual way to close gaps between pictures; it hides only where text takes it as it is."""
    return any(isinstance(child, TextRun) and child.text.strip() for child in element.children)
