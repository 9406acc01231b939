"""An element that is found again in another source of the same message, by what it is rather than where it stands."""

from __future__ import annotations

import difflib
from dataclasses import dataclass

from jetwind.core.markup.document import Document
from jetwind.core.markup.nodes import Element, TextRun
from jetwind.core.source.plain import as_table, read

_NAMING = ("id", "href", "src", "alt", "name")


@dataclass(frozen=True, slots=True)
class Anchor:
    """The marks by which an element is known: its tag, the words in it, its naming attributes, the tags around it, its number among its like."""

    tag: str
    words: str
    names: tuple[tuple[str, str], ...]
    path: str
    number: int
    of: int

    def as_json(self) -> dict[str, object]:
        """The anchor as a table, for keeping."""
        return as_table(self)

    @classmethod
    def from_json(cls, kept: dict[str, object]) -> Anchor:
        """The anchor that was kept."""
        return read(kept, cls)


def anchor_of(element: Element, document: Document) -> Anchor:
    """The marks by which an element is known."""
    alike = [other for other in document.all_elements if other.tag == element.tag]
    names = tuple((name, value) for name in _NAMING if (value := element.get(name)))
    return Anchor(element.tag, _words(element), names=names, path=_path(element), number=alike.index(element), of=len(alike))


def find(anchor: Anchor, document: Document) -> Element | None:
    """The element of a document that an anchor means, or None where nothing is like it enough.

    The same words or names weigh most, then the tags around it, then its number among elements of its tag; half of what can be
    alike must be.
    """
    best: tuple[float, int] | None = None
    alike = [element for element in document.all_elements if element.tag == anchor.tag]
    for number, element in enumerate(alike):
        score = _likeness(anchor, element, number, len(alike))
        if score >= 0.5 and (best is None or score > best[0]):
            best = (score, number)
    return alike[best[1]] if best is not None else None


def _likeness(anchor: Anchor, element: Element, number: int, count: int) -> float:
    names = dict(anchor.names)
    parts: list[tuple[float, float]] = []
    words = _words(element)
    if anchor.words or words:
        # A mark says something about the words: an element that says something else is another one, whatever its place.
        parts.append((4.0, _ratio(anchor.words, words)))
    for name in names:
        parts.append((1.5, _ratio(names[name], element.get(name) or "")))
    parts.append((1.0, _ratio(anchor.path, _path(element))))
    parts.append((1.0, 1 - abs(number / max(count, 1) - anchor.number / max(anchor.of, 1))))
    return sum(weight * value for weight, value in parts) / sum(weight for weight, _ in parts)


def _ratio(one: str, other: str) -> float:
    if one == other:
        return 1.0
    matcher = difflib.SequenceMatcher(None, one, other, autojunk=False)
    return matcher.ratio() if matcher.real_quick_ratio() > 0.4 and matcher.quick_ratio() > 0.4 else 0.0


def _words(element: Element) -> str:
    """The first letters in an element, white space as one space."""
    taken: list[str] = []
    length = 0
    for node in element.walk():
        if isinstance(node, TextRun):
            taken.append(node.text)
            length += len(node.text)
            if length > 400:
                break
    return " ".join("".join(taken).split())[:120]


def _path(element: Element) -> str:
    return "/".join(outer.tag for outer in element.ancestors())[:200]
