"""A tree of elements, text runs and comments over turbohtml, in the source's own coordinates.

turbohtml builds the tree as HTML §13.2 asks and gives spans of tags and attributes; text and comments get theirs from
one pass of its tokeniser. It reads newline-normalised text, so places are taken as line and column, which are the same
in both, and turned into offsets of the source as given. Merge fields are masked before parsing (see ``fields.mask``);
every value is read back from the unmasked source.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import turbohtml

from jetwind.core.fields import LIQUID, Syntax, mask
from jetwind.core.fields.syntax import FILLER
from jetwind.core.source import SourceText, Span

_VALUE = re.compile(r"(?P<name>[^\s=/>]*)(?:\s*=\s*(?P<quote>[\"']?)(?P<value>.*))?\Z", re.DOTALL)


@dataclass(frozen=True, slots=True)
class Attribute:
    """One attribute: ``value`` with character references resolved, and the spans of the whole, its name, its value.

    ``value_span`` covers the characters inside the quotes; it is empty, after the name, for an attribute without value.
    """

    name: str
    value: str
    span: Span
    name_span: Span
    value_span: Span


@dataclass(eq=False, slots=True, repr=False)
class TextRun:
    """A run of character data. ``span`` is None only for text that the parser could not be matched to the source."""

    text: str
    span: Span | None
    parent: Element


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
    """An element of the tree. ``start_tag`` is None for one that the parser implied (such as ``tbody``)."""

    tag: str
    index: int
    parent: Element | None
    start_tag: Span | None
    end_tag: Span | None
    children: list[Element | TextRun] = field(default_factory=list)
    _attributes: dict[str, Attribute] | None = None
    _node: Any = None
    _document: Document | None = None

    def __repr__(self) -> str:
        return f"<{self.tag} #{self.index}>"

    @property
    def attributes(self) -> dict[str, Attribute]:
        """Attributes by lower-case name, in source order; of a doubled one, the first (HTML §13.2.5.33)."""
        if self._attributes is None:
            assert self._document is not None
            self._attributes = self._document.read_attributes(self._node)
        return self._attributes

    def get(self, name: str) -> str | None:
        """The value of an attribute, or None where it is absent."""
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


class Document:
    """A parsed HTML source. Build it with :func:`parse`."""

    def __init__(self, source: SourceText, syntax: Syntax) -> None:
        self.source = source
        self.syntax = syntax
        self._masked = SourceText(mask(source.text, syntax))
        self._tree = turbohtml.parse(self._masked.text, positions=True, source_locations=True)
        self.comments: list[Comment] = []
        self.all_elements: list[Element] = []
        self.root = self._build()
        self._by_node = {id(element._node): element for element in self.all_elements}

    def elements(self, *tags: str) -> Iterator[Element]:
        """All elements in document order, or those with one of these tags."""
        return (element for element in self.all_elements if not tags or element.tag in tags)

    def select(self, selector: str) -> list[Element]:
        """Elements that a CSS selector matches, in document order.

        Raises:
            ValueError: the selector cannot be read or is not supported.
        """
        try:
            nodes: Sequence[Any] = self._tree.select(selector)
        except (turbohtml.SelectorSyntaxError, ValueError, NotImplementedError) as fault:
            raise ValueError(f"cannot read the selector {selector!r}: {fault}") from fault
        return [self._by_node[id(node)] for node in nodes if id(node) in self._by_node]

    @property
    def body(self) -> Element:
        """The body element; an HTML tree always has one, save for a frameset, where the root stands in."""
        return next(self.elements("body"), self.root)

    @cached_property
    def faults(self) -> list[ParseFault]:
        """Parse errors of the HTML standard that the parser recovered from."""
        return [ParseFault(error.code, self.source.offset(error.line, error.col + 1)) for error in self._tree.errors]

    @cached_property
    def has_doctype(self) -> bool:
        """Whether the source starts with a doctype of any kind."""
        return any(isinstance(node, turbohtml.Doctype) for node in self._tree.children)

    # How the tree is built.

    def _span(self, location: Any) -> Span:
        start = self.source.offset(location.start_line, location.start_col + 1)
        return Span(start, max(start, self.source.offset(location.end_line, location.end_col + 1)))

    def _build(self) -> Element:
        runs = _RunFinder(self._masked, self.source, self.comments)
        root: Element | None = None
        stack: list[tuple[Any, Element | None]] = [
            (node, None) for node in reversed(list(self._tree.children)) if isinstance(node, turbohtml.Element)
        ]
        while stack:
            node, parent = stack.pop()
            if isinstance(node, turbohtml.Text):
                if parent is not None:
                    text, span = runs.take(node.data)
                    parent.children.append(TextRun(text, span, parent))
                continue
            location = node.source_location
            element = Element(
                tag=node.tag,
                index=len(self.all_elements),
                parent=parent,
                start_tag=self._span(location.start_tag) if location and location.start_tag else None,
                end_tag=self._span(location.end_tag) if location and location.end_tag else None,
                _node=node,
                _document=self,
            )
            self.all_elements.append(element)
            if parent is None:
                root = root or element
            else:
                parent.children.append(element)
            children = [child for child in node.children if isinstance(child, turbohtml.Element | turbohtml.Text)]
            stack.extend((child, element) for child in reversed(children))
        runs.finish()
        assert root is not None, "the HTML standard always builds an html element"
        return root

    def read_attributes(self, node: Any) -> dict[str, Attribute]:
        """The attributes of a turbohtml node with their spans in the source as given."""
        location = node.source_location
        if location is None or not location.attrs:
            return {}
        values = node.attrs
        found: dict[str, Attribute] = {}
        for name, place in location.attrs.items():
            span = self._span(place)
            raw = self.source.slice(span)
            match = _VALUE.match(raw)
            assert match is not None, "the pattern matches any text"
            start = match.start("value") if match["value"] is not None else len(match["name"])
            end = len(raw)
            if match["quote"] and raw.endswith(match["quote"]) and end > start:
                end -= 1
            value = values.get(name, "")
            value = " ".join(value) if isinstance(value, list) else (value or "")
            if raw != self._masked.slice(span) or name == "class":
                value = html.unescape(raw[start:end])
            found[name] = Attribute(
                name,
                value,
                span,
                Span(span.start, span.start + len(match["name"])),
                Span(span.start + start, span.start + end),
            )
        return found


class _RunFinder:
    """Hands out the source spans of text, run by run, in document order.

    The tree's text nodes come in the tokeniser's order except where the tree builder moves text (out of a table, for
    one), so a run is searched for a little ahead, and a node that no run equals keeps no span.
    """

    _AHEAD = 40

    def __init__(self, masked: SourceText, source: SourceText, comments: list[Comment]) -> None:
        self._source = source
        self._masked = masked
        self._comments = comments
        self._runs: list[tuple[str, Span]] = []
        self._next = 0
        self._read()

    def _read(self) -> None:
        start: int | None = None
        pieces: list[str] = []
        text_types = (turbohtml.TokenType.TEXT, turbohtml.TokenType.CHARACTER_REFERENCE)
        tokens = turbohtml.tokenize(self._masked.text, resolve_references=False, capture_source=True, capture_attributes=False)
        for token in tokens:
            if token.type in text_types:
                if start is None:
                    start = self._source.offset(token.line, token.col + 1)
                pieces.append(token.data or "")
                continue
            offset = self._source.offset(token.line, token.col + 1)
            if start is not None:
                self._runs.append(("".join(pieces), Span(start, max(start, offset))))
                start, pieces = None, []
            if token.type == turbohtml.TokenType.COMMENT:
                end = offset + _length_in_source(self._source.text, offset, token.source or "")
                self._comments.append(Comment(self._source.text[offset:end].removeprefix("<!--").removesuffix("-->"), Span(offset, end)))
        if start is not None:
            self._runs.append(("".join(pieces), Span(start, max(start, len(self._source.text)))))

    def take(self, data: str) -> tuple[str, Span | None]:
        """The text of a tree's node as the source has it, and its span."""
        for index in range(self._next, min(self._next + self._AHEAD, len(self._runs))):
            text, span = self._runs[index]
            if text == data:
                self._next = index + 1
                return self._as_given(data, span), span
            if not data.strip() or not text.strip():
                continue
            at = text.find(data)
            if at >= 0 and text.isascii() and "&" not in self._source.slice(span) and "\r" not in self._source.slice(span):
                # The tree split the run, as it does before a moved or implied element.
                part = Span(span.start + at, span.start + at + len(data))
                rest = text[at + len(data) :]
                if rest:
                    self._runs[index] = (rest, Span(part.end, span.end))
                    self._next = index
                else:
                    self._next = index + 1
                return self._as_given(data, part), part
        return data.replace(FILLER, ""), None

    def _as_given(self, data: str, span: Span) -> str:
        if FILLER not in data:
            return data
        return html.unescape(self._source.slice(span))

    def finish(self) -> None:
        """Drop the runs: only spans live on."""
        self._runs = []


def _length_in_source(text: str, offset: int, token_source: str) -> int:
    """How many characters a token takes in the source as given: CR LF counts two where the token has one."""
    length = len(token_source)
    extra = text.count("\r\n", offset, offset + length)
    while extra and text.count("\r\n", offset, offset + length + extra) > extra:
        extra = text.count("\r\n", offset, offset + length + extra)
    return length + extra


def parse(text: str, syntax: Syntax = LIQUID) -> Document:
    """The tree of an HTML text. Never raises for bad markup: the standard defines a tree for every input."""
    return Document(SourceText(text), syntax)
