"""An element that is found again in another source of the same message, by what it is rather than where it stands."""

from __future__ import annotations

import difflib
from collections.abc import Sequence
from dataclasses import dataclass
from itertools import islice

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


#: Elements of its tag that an anchor is held against, where none says exactly the same: those nearest by their number.
_MOST_HELD = 400


def find(anchor: Anchor, document: Document) -> Element | None:
    """The element of a document that an anchor means, or None where nothing is like it enough."""
    return find_all([anchor], document)[0]


def find_all(anchors: Sequence[Anchor], document: Document) -> list[Element | None]:
    """For each anchor the element of a document that it means, or None where nothing is like it enough.

    The same words or names weigh most, then the tags around it, then its number among elements of its tag; half of what can be
    alike must be. Words of an element are read once for all anchors.
    """
    tags = {anchor.tag for anchor in anchors}
    alike: dict[str, list[_Candidate]] = {tag: [] for tag in tags}
    for element in document.all_elements:
        if element.tag in tags:
            alike[element.tag].append(_Candidate(element, len(alike[element.tag])))
    for candidates in alike.values():
        for candidate in candidates:
            candidate.words = _words(candidate.element)
    return [_best(anchor, alike[anchor.tag]) for anchor in anchors]


@dataclass(slots=True)
class _Candidate:
    """An element, its number among those of its tag, and its first words."""

    element: Element
    number: int
    words: str = ""


def _best(anchor: Anchor, alike: Sequence[_Candidate]) -> Element | None:
    held = [one for one in alike if one.words == anchor.words and all(one.element.get(name) == value for name, value in anchor.names)]
    if not held:
        held = sorted(alike, key=lambda one: abs(one.number / len(alike) - anchor.number / max(anchor.of, 1)))
    best: tuple[float, _Candidate] | None = None
    for candidate in held[:_MOST_HELD]:
        score = _likeness(anchor, candidate, len(alike))
        if score >= 0.5 and (best is None or score > best[0]):
            best = (score, candidate)
    return best[1].element if best is not None else None


def _likeness(anchor: Anchor, candidate: _Candidate, count: int) -> float:
    element, words, number = candidate.element, candidate.words, candidate.number
    names = dict(anchor.names)
    parts: list[tuple[float, float]] = []
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
    """The first letters in an element, white space as one space: as far as 400 letters or 80 nodes go."""
    taken: list[str] = []
    length = 0
    for node in islice(element.walk(), 80):
        if isinstance(node, TextRun):
            taken.append(node.text[:401])
            length += len(node.text)
            if length > 400:
                break
    return " ".join("".join(taken).split())[:120]


def _path(element: Element) -> str:
    return "/".join(outer.tag for outer in element.ancestors())[:200]
