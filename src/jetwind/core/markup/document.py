"""A tree of elements, text runs and comments over turbohtml, in the source's own coordinates.

turbohtml builds the tree as HTML §13.2 asks and gives spans of tags and attributes; text and comments get theirs from
one pass of its tokeniser. It reads newline-normalised text, so places are taken as line and column, which are the same
in both, and turned into offsets of the source as given. Merge fields are masked before parsing (see ``fields.blanked``);
every value is read back from the unmasked source.
"""

from __future__ import annotations

import html
from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from functools import cached_property

import turbohtml

from jetwind.core.fields import LIQUID, Syntax, blanked, opaque, source_tokens
from jetwind.core.markup.bounds import bounded
from jetwind.core.markup.nodes import Attribute, Comment, Element, ParseFault, TextRun, value_bounds
from jetwind.core.markup.tokens import RunFinder, Token, tokenise
from jetwind.core.source import LIMITS, Reached, SourceText, Span


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

    @property
    def characters_looked_at(self) -> int:
        """How many characters of the source are in the tree: all of them, unless a limit was reached."""
        return len(self._masked.text)

    def elements(self, *tags: str) -> Iterator[Element]:
        """All elements in document order, or those with one of these tags."""
        return (element for element in self.all_elements if not tags or element.tag in tags)

    def select(self, selector: str) -> list[Element]:
        """Elements that a CSS selector matches, in document order.

        Raises:
            ValueError: the selector cannot be read or is not supported.
        """
        try:
            nodes = self._tree.select(selector)
        except (turbohtml.SelectorSyntaxError, ValueError, NotImplementedError) as fault:
            raise ValueError(f"cannot read the selector {selector!r}: {fault}") from fault
        return [self._by_node[id(node)] for node in nodes if id(node) in self._by_node]

    def element_before(self, offset: int) -> int | None:
        """The index of the last element whose start tag begins at an offset of the source or before it."""
        before = bisect_right(self._starts, (offset, len(self.all_elements)))
        return self._starts[before - 1][1] if before else None

    def element_around(self, offset: int) -> int | None:
        """The index of the element whose text stands at an offset of the source; where there is none, of the element before it."""
        at = bisect_right(self._runs, (offset, len(self.all_elements))) - 1
        return self._runs[at][1] if at >= 0 and self._runs[at][0] >= self._last_tag_end(offset) else self.element_before(offset)

    def _last_tag_end(self, offset: int) -> int:
        at = bisect_right(self._tag_starts, offset) - 1
        return self._tags[at].span.end if at >= 0 else 0

    @cached_property
    def _runs(self) -> list[tuple[int, int]]:
        runs = (node for node in self.root.walk() if isinstance(node, TextRun))
        return sorted((run.span.start, run.parent.index) for run in runs if run.span is not None)

    @cached_property
    def _starts(self) -> list[tuple[int, int]]:
        return sorted((element.start_tag.start, element.index) for element in self.all_elements if element.start_tag)

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
        finder = RunFinder(self._tokens, self._masked, self.source)
        return [finder.take(data) for data in self._run_data]

    def tags_within(self, span: Span) -> list[Token]:
        """Start and end tags that begin inside a stretch of the source."""
        first = bisect_left(self._tag_starts, span.start)
        return self._tags[first : bisect_left(self._tag_starts, span.end)]

    @cached_property
    def _tags(self) -> list[Token]:
        return [token for token in self._tokens if token.kind in ("start tag", "end tag")]

    @cached_property
    def _tag_starts(self) -> list[int]:
        return [token.span.start for token in self._tags]

    @cached_property
    def end_tags(self) -> list[tuple[str, Span]]:
        """Every end tag of the source with its name, those that close nothing too."""
        return [(token.name, token.span) for token in self._tokens if token.kind == "end tag"]

    # How the tree is built.

    @cached_property
    def _is_normal(self) -> bool:
        """Whether the parser's offsets are the source's: it reads text whose newlines are made alike (HTML §13.2.3.5)."""
        return "\r" not in self.source.text

    def _span(self, location: turbohtml.SourceSpan) -> Span:
        if self._is_normal:
            return Span(location.start_offset, max(location.start_offset, location.end_offset))
        starts, end = self.source.line_starts, len(self._masked.text)
        start = min(starts[location.start_line - 1] + location.start_col, end)
        return Span(start, max(start, min(starts[location.end_line - 1] + location.end_col, end)))

    def read_spans(self, node: turbohtml.Element) -> tuple[Span | None, Span | None]:
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
        return list(tokenise(self._masked, self.source))

    def _build(self) -> Element:
        run_data = self._run_data
        root: Element | None = None
        element_type, text_type = turbohtml.Element, turbohtml.Text
        elements = self.all_elements
        stack: list[tuple[turbohtml.Element | turbohtml.Text, Element | None]] = [
            (node, None) for node in reversed(list(self._tree.children)) if isinstance(node, element_type)
        ]
        while stack:
            node, parent = stack.pop()
            if isinstance(node, text_type):
                if parent is not None:
                    parent.children.append(TextRun(node.data, parent, len(run_data), self))
                    run_data.append(node.data)
                continue
            element = Element(node.tag, len(elements), parent, node, self)
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

    def read_attributes(self, node: turbohtml.Element) -> dict[str, Attribute]:
        """The attributes of a turbohtml node with their spans in the source as given."""
        location = node.source_location
        if location is None or not location.attrs:
            return {}
        # A mapping of turbohtml looks each name up among all.
        values = dict(node.attrs.items())
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


def parse(text: str, syntax: Syntax = LIQUID) -> Document:
    """The tree of an HTML text. Never raises for bad markup: the standard defines a tree for every input."""
    return Document(SourceText(text), syntax)
