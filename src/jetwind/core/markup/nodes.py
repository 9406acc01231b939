"""Elements, text runs, comments and attributes of a tree, each with its place in the source."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Protocol

from jetwind.core.fields.syntax import FILLER
from jetwind.core.source import SourceText, Span

if TYPE_CHECKING:
    import turbohtml

#: HTML §13.2.5.33 and on: a name of any characters (an equals sign only as its first), then perhaps a value.
_NAME = re.compile(r"=?[^=\s]*")
_EQUALS = re.compile(r"\s*=\s*")


@dataclass(frozen=True, slots=True)
class Attribute:
    """One attribute: ``value`` with character references resolved, and the spans of the whole, its name, its value."""

    name: str
    value: str
    span: Span
    _source: SourceText = field(repr=False, compare=False)

    @property
    def name_span(self) -> Span:
        """The characters of the name."""
        return Span(self.span.start, self.span.start + len(self.name))

    @property
    def value_span(self) -> Span:
        """The characters inside the quotes; empty, after the name, for an attribute without value."""
        start, end = value_bounds(self._source.slice(self.span))
        return Span(self.span.start + start, self.span.start + end)


def value_bounds(raw: str) -> tuple[int, int]:
    """Where the value begins and ends in the source of an attribute."""
    name = _NAME.match(raw)
    after_name = name.end() if name else 0
    equals = _EQUALS.match(raw, after_name)
    if equals is None:
        return after_name, after_name
    start, end = equals.end(), len(raw)
    if raw[start : start + 1] in ('"', "'"):
        quote, start = raw[start], start + 1
        if end > start and raw.endswith(quote):
            end -= 1
    return min(start, end), end


class Source(Protocol):
    """The source of the places and values of nodes, which are worked out when somebody first asks for them."""

    def place_of_run(self, number: int) -> tuple[str, Span | None]:
        """The text of a run as the source has it, and its span."""
        ...

    def read_spans(self, node: turbohtml.Element) -> tuple[Span | None, Span | None]:
        """The spans of the start and the end tag of a turbohtml node."""
        ...

    def read_attributes(self, node: turbohtml.Element) -> dict[str, Attribute]:
        """The attributes of a turbohtml node with their spans in the source as given."""
        ...


@dataclass(eq=False, slots=True, repr=False)
class TextRun:
    """A run of character data. Where the runs stand is worked out for all of them when one is first asked for."""

    _data: str
    parent: Element
    _number: int
    _document: Source

    @property
    def text(self) -> str:
        """The characters, references resolved, fields as they are written."""
        return self._document.place_of_run(self._number)[0] if FILLER in self._data else self._data

    @property
    def span(self) -> Span | None:
        """Its place in the source; None only for text that the parser could not be matched to it."""
        return self._document.place_of_run(self._number)[1]


@dataclass(frozen=True, slots=True)
class Comment:
    """A comment, conditional comments among them; ``text`` is what stands between its marks."""

    text: str
    span: Span


@dataclass(frozen=True, slots=True)
class ParseFault:
    """A parse error of the HTML standard, by its standard code (HTML §13.2.2), and where it stands."""

    code: str
    offset: int


@dataclass(eq=False, slots=True, repr=False)
class Element:
    """An element of the tree. Spans and attributes are read from the source when they are first asked for."""

    tag: str
    index: int
    parent: Element | None
    _node: turbohtml.Element
    _document: Source
    children: list[Element | TextRun] = field(default_factory=list)
    _attributes: dict[str, Attribute] | None = None
    _spans: tuple[Span | None, Span | None] | None = None

    def __repr__(self) -> str:
        return f"<{self.tag} #{self.index}>"

    @property
    def start_tag(self) -> Span | None:
        """The start tag; None for an element that the parser implied (such as ``tbody``)."""
        return (self._spans or self._read_spans())[0]

    @property
    def end_tag(self) -> Span | None:
        """The end tag; None where none stands in the source."""
        return (self._spans or self._read_spans())[1]

    def _read_spans(self) -> tuple[Span | None, Span | None]:
        self._spans = self._document.read_spans(self._node)
        return self._spans

    @property
    def names(self) -> Collection[str]:
        """The names of the attributes, lower case, in source order."""
        return self._node.attrs.keys()

    @property
    def attributes(self) -> dict[str, Attribute]:
        """Attributes by lower-case name, in source order; of a doubled one, the first (HTML §13.2.5.33)."""
        if self._attributes is None:
            self._attributes = self._document.read_attributes(self._node)
        return self._attributes

    def get(self, name: str) -> str | None:
        """The value of an attribute, or None where it is absent."""
        attrs = self._node.attrs
        if name not in attrs:
            return None
        value = attrs[name]
        # A list has lost its white space and a filled-in value its fields: those are read from the source.
        if isinstance(value, str) and FILLER not in value and self._attributes is None:
            return value
        attribute = self.attributes.get(name)
        return None if attribute is None else attribute.value

    @property
    def span(self) -> Span | None:
        """From the start tag to the end tag, or the start tag alone where no end tag stands in the source."""
        if self.start_tag is None:
            return None
        return Span(self.start_tag.start, max(self.start_tag.end, self.end_tag.end if self.end_tag else 0))

    def ancestors(self) -> Iterator[Element]:
        """Parent, its parent, and so on to ``html``."""
        place = self.parent
        while place is not None:
            yield place
            place = place.parent

    def walk(self) -> Iterator[Element | TextRun]:
        """Everything inside, in document order, without recursion (hostile trees are deep)."""
        stack: list[Element | TextRun] = list(reversed(self.children))
        while stack:
            node = stack.pop()
            yield node
            if isinstance(node, Element):
                stack.extend(reversed(node.children))

    def elements(self, *tags: str) -> Iterator[Element]:
        """Elements inside with one of these tags, or all of them."""
        return (node for node in self.walk() if isinstance(node, Element) and (not tags or node.tag in tags))

    @property
    def text(self) -> str:
        """All character data inside, joined as it stands."""
        return "".join(node.text for node in self.walk() if isinstance(node, TextRun))
