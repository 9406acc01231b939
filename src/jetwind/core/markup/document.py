"""A tree of elements, text runs and comments over turbohtml, in the source's own coordinates.

turbohtml builds the tree as HTML §13.2 asks and gives spans of tags and attributes; text and comments get theirs from
one pass of its tokeniser. It reads newline-normalised text, so places are taken as line and column, which are the same
in both, and turned into offsets of the source as given. Merge fields are masked before parsing (see ``fields.blanked``);
every value is read back from the unmasked source.
"""

from __future__ import annotations

import html
import re
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, Literal

import turbohtml

from jetwind.core.fields import LIQUID, Syntax, blanked, opaque, source_tokens
from jetwind.core.fields.syntax import FILLER
from jetwind.core.markup.bounds import bounded
from jetwind.core.source import LIMITS, Reached, SourceText, Span

#: Elements whose text holds no references (HTML §13.1.2, raw text).
_RAW_TEXT = frozenset({"style", "script", "xmp", "iframe", "noembed", "noframes"})
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


@dataclass(eq=False, slots=True, repr=False)
class TextRun:
    """A run of character data. Where the runs stand is worked out for all of them when one is first asked for."""

    _data: str
    parent: Element
    _number: int
    _document: Document

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


TokenKind = Literal["text", "start tag", "end tag", "comment", "doctype"]


@dataclass(frozen=True, slots=True)
class Token:
    """One token of the source: what it is, the tag's name where it has one, and its span. Joined, they are the source."""

    kind: TokenKind
    name: str
    span: Span


@dataclass(eq=False, slots=True, repr=False)
class Element:
    """An element of the tree. Spans and attributes are read from the source when they are first asked for."""

    tag: str
    index: int
    parent: Element | None
    children: list[Element | TextRun] = field(default_factory=list)
    _node: Any = None
    _document: Document | None = None
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
        assert self._document is not None
        self._spans = self._document.read_spans(self._node)
        return self._spans

    @property
    def names(self) -> Collection[str]:
        """The names of the attributes, lower case, in source order."""
        names: Collection[str] = self._node.attrs.keys()
        return names

    @property
    def attributes(self) -> dict[str, Attribute]:
        """Attributes by lower-case name, in source order; of a doubled one, the first (HTML §13.2.5.33)."""
        if self._attributes is None:
            assert self._document is not None
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


class Document:
    """A parsed HTML source. Build it with :func:`parse`."""

    def __init__(self, source: SourceText, syntax: Syntax) -> None:
        self.source = source
        self.syntax = syntax
        #: Tokens of any syntax in the raw source, inside tags, styles and comments too.
        looked_at = source.text if len(source.text) <= LIMITS.html_characters else source.text[: LIMITS.html_characters]
        self.field_tokens = source_tokens(looked_at, syntax)
        masked = blanked(looked_at, self.field_tokens) if self.field_tokens else looked_at
        #: Limits that the source goes over: what lies beyond them is not in the tree.
        self.limits: list[Reached] = []
        if looked_at is not source.text:
            self.limits.append(Reached("characters of HTML", LIMITS.html_characters))
        if len(self.field_tokens) >= LIMITS.tokens:
            self.limits.append(Reached("fields", LIMITS.tokens))
        self._styles: dict[str, str] = {}
        self._style_characters = 0
        masked = bounded(masked, self.limits)
        self._read(masked)
        if len(self.all_elements) > LIMITS.elements:
            self.limits.append(Reached("elements", LIMITS.elements))
            # The tree is built again without what comes after, so that no question is asked of a million elements.
            last = next((tag for element in reversed(self.all_elements) if (tag := element.start_tag) is not None), Span(0, 0))
            self._read(masked[: last.start])
        self._by_node = {id(element._node): element for element in self.all_elements}

    def _read(self, masked: str) -> None:
        self._masked = self.source if masked is self.source.text else SourceText(masked)
        self._tree = turbohtml.parse(masked, positions=True, source_locations=True)
        self._run_data: list[str] = []
        self.all_elements: list[Element] = []
        self.root = self._build()

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

    def style_of(self, element: Element) -> str:
        """The style attribute of an element as it is read: with every field as filler, and as far as the limit of all of them goes."""
        written = element.get("style") if "style" in element.names else None
        if not written:
            return ""
        if written not in self._styles:
            self._style_characters += len(written)
            if self._style_characters > LIMITS.styles_characters:
                return ""
            self._styles[written] = opaque(written, self.syntax)
        return self._styles[written]

    def masked(self, span: Span) -> str:
        """The characters of a span with every field as filler of the same length."""
        return self._masked.text[span.start : span.end]

    def sheet_of(self, element: Element) -> tuple[str, Span] | None:
        """The text of a style element as it is read, with every field as filler, and its span; None for one that holds nothing."""
        run = next((child for child in element.children if isinstance(child, TextRun)), None)
        return None if run is None or run.span is None else (self.masked(run.span), run.span)

    @cached_property
    def faults(self) -> list[ParseFault]:
        """Parse errors of the HTML standard that the parser recovered from."""
        return [ParseFault(error.code, self.source.offset(error.line, error.col + 1)) for error in self._tree.errors]

    @cached_property
    def has_doctype(self) -> bool:
        """Whether the source starts with a doctype of any kind."""
        return any(isinstance(node, turbohtml.Doctype) for node in self._tree.children)

    @cached_property
    def tokens(self) -> list[Token]:
        """The source cut into its tokens (HTML §13.2.5): text, tags, comments, doctypes."""
        return self._tokens

    @cached_property
    def comments(self) -> list[Comment]:
        """All comments in source order."""
        spans = (token.span for token in self._tokens if token.kind == "comment")
        return [Comment(self.source.slice(span).removeprefix("<!--").removesuffix("-->"), span) for span in spans]

    def place_of_run(self, number: int) -> tuple[str, Span | None]:
        """The text of a run as the source has it, and its span."""
        return self._places[number]

    @cached_property
    def _places(self) -> list[tuple[str, Span | None]]:
        finder = _RunFinder(self._tokens, self._masked, self.source)
        return [finder.take(data) for data in self._run_data]

    @cached_property
    def end_tags(self) -> list[tuple[str, Span]]:
        """Every end tag of the source with its name, those that close nothing too."""
        return [(token.name, token.span) for token in self._tokens if token.kind == "end tag"]

    # How the tree is built.

    @cached_property
    def _is_normal(self) -> bool:
        """Whether the parser's offsets are the source's: it reads text whose newlines are made alike (HTML §13.2.3.5)."""
        return "\r" not in self.source.text

    def _span(self, location: Any) -> Span:
        if self._is_normal:
            return Span(location.start_offset, max(location.start_offset, location.end_offset))
        starts, end = self.source.line_starts, len(self._masked.text)
        start = min(starts[location.start_line - 1] + location.start_col, end)
        return Span(start, max(start, min(starts[location.end_line - 1] + location.end_col, end)))

    def read_spans(self, node: Any) -> tuple[Span | None, Span | None]:
        """The spans of the start and the end tag of a turbohtml node."""
        location = node.source_location
        if location is None:
            return None, None
        return (
            self._span(location.start_tag) if location.start_tag else None,
            self._span(location.end_tag) if location.end_tag else None,
        )

    @cached_property
    def _tokens(self) -> list[Token]:
        return list(_tokenise(self._masked, self.source))

    def _build(self) -> Element:
        run_data = self._run_data
        root: Element | None = None
        element_type, text_type = turbohtml.Element, turbohtml.Text
        elements = self.all_elements
        stack: list[tuple[Any, Element | None]] = [
            (node, None) for node in reversed(list(self._tree.children)) if isinstance(node, element_type)
        ]
        while stack:
            node, parent = stack.pop()
            if isinstance(node, text_type):
                if parent is not None:
                    parent.children.append(TextRun(node.data, parent, len(run_data), self))
                    run_data.append(node.data)
                continue
            element = Element(node.tag, len(elements), parent, [], node, self)
            elements.append(element)
            if len(elements) > LIMITS.elements:
                return root or element
            if parent is None:
                root = root or element
            else:
                parent.children.append(element)
            children = [(child, element) for child in node.children if isinstance(child, (element_type, text_type))]
            children.reverse()
            stack += children
        assert root is not None, "the HTML standard always builds an html element"
        return root

    def read_attributes(self, node: Any) -> dict[str, Attribute]:
        """The attributes of a turbohtml node with their spans in the source as given."""
        location = node.source_location
        if location is None or not location.attrs:
            return {}
        values = node.attrs
        found: dict[str, Attribute] = {}
        source, masked = self.source, self._masked
        for name, place in location.attrs.items():
            span = self._span(place)
            value = values.get(name, "")
            # A list has lost its white space, and a field was masked: both are read from the source.
            if not isinstance(value, str) or (masked is not source and source.slice(span) != masked.slice(span)):
                raw = source.slice(span)
                start, end = value_bounds(raw)
                value = html.unescape(raw[start:end])
            found[name] = Attribute(name, value, span, source)
        return found


def _tokenise(masked: SourceText, source: SourceText) -> Iterator[Token]:
    """The tokens of a source. Text and the references in it are one token; a token ends where the next begins."""
    kinds: dict[Any, TokenKind] = {
        turbohtml.TokenType.START_TAG: "start tag",
        turbohtml.TokenType.END_TAG: "end tag",
        turbohtml.TokenType.COMMENT: "comment",
        turbohtml.TokenType.DOCTYPE: "doctype",
    }
    starts = source.line_starts
    end = len(masked.text)
    open_token: tuple[TokenKind, str, int] | None = None
    for token in turbohtml.tokenize(masked.text, resolve_references=False, capture_source=False, capture_attributes=False):
        kind: TokenKind = kinds.get(token.type, "text")
        if kind == "text" and open_token is not None and open_token[0] == "text":
            continue
        offset = min(starts[token.line - 1] + token.col, end)
        if open_token is not None:
            yield Token(open_token[0], open_token[1], Span(open_token[2], max(open_token[2], offset)))
        open_token = kind, (token.tag or "").lower() if kind in ("start tag", "end tag") else "", 0 if open_token is None else offset
    if open_token is not None:
        yield Token(open_token[0], open_token[1], Span(open_token[2], max(end, open_token[2])))
    elif end:
        yield Token("comment", "", Span(0, end))  # a bogus comment that ends with the source gives no token


class _RunFinder:
    """Hands out the source spans of text, run by run, in document order.

    The tree's text nodes come in the tokeniser's order except where the tree builder moves text (out of a table, for
    one), so a run is searched for a little ahead, and a node that no run equals keeps no span.
    """

    _AHEAD = 40

    def __init__(self, tokens: list[Token], masked: SourceText, source: SourceText) -> None:
        self._source = source
        self._runs: list[tuple[str, Span]] = []
        self._next = 0
        within = ""
        for token in tokens:
            if token.kind == "start tag":
                within = token.name
            elif token.kind == "text":
                text = masked.text[token.span.start : token.span.end]
                if "&" in text and within not in _RAW_TEXT:
                    text = html.unescape(text)
                self._runs.append((text.replace("\r\n", "\n").replace("\r", "\n") if "\r" in text else text, token.span))
            elif token.kind == "end tag":
                within = ""

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


def parse(text: str, syntax: Syntax = LIQUID) -> Document:
    """The tree of an HTML text. Never raises for bad markup: the standard defines a tree for every input."""
    return Document(SourceText(text), syntax)
