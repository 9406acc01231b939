"""Every declaration of a document with its place: in style attributes, and in style elements with selector and media query."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING

import tinycss2

from jetwind.core.markup import Document, Element, source_span
from jetwind.core.source import SourceText, Span
from jetwind.core.styles.declarations import Declaration, declarations, end_of, from_nodes
from jetwind.core.styles.reading import block_nodes, sheet_nodes

if TYPE_CHECKING:
    from tinycss2 import ast


@dataclass(frozen=True, slots=True)
class Rule:
    """A style rule: its selector list as nodes and its declarations. ``within`` are the preludes of the at-rules around it, outermost first."""

    prelude: tuple[ast.Value, ...]
    declarations: tuple[Declaration, ...]
    within: tuple[tuple[str, str], ...]


@lru_cache(maxsize=64)
def rules(css: str) -> tuple[Rule, ...]:
    """The style rules of a sheet in order (CSS Syntax 3 §9), those inside at-rules too. Each sheet is read once."""
    found: list[Rule] = []
    stack: list[tuple[ast.Rule, tuple[tuple[str, str], ...]]] = [(node, ()) for node in reversed(sheet_nodes(css))]
    while stack:
        node, within = stack.pop()
        if node.type == "qualified-rule":
            content = block_nodes(node.content)
            found.append(Rule(tuple(node.prelude), from_nodes(content), within))
        elif node.type == "at-rule" and node.content is not None and node.lower_at_keyword in ("media", "supports", "layer", "container"):
            inner = (*within, (node.lower_at_keyword, tinycss2.serialize(node.prelude).strip()))
            nested = tinycss2.parse_rule_list(node.content, skip_comments=True, skip_whitespace=True)
            stack.extend((child, inner) for child in reversed(nested))
        elif node.type == "at-rule" and node.content is not None and node.lower_at_keyword == "font-face":
            content = block_nodes(node.content)
            found.append(Rule((), from_nodes(content), (*within, ("font-face", ""))))
    return tuple(found)


@dataclass(frozen=True, slots=True)
class PlacedDeclaration:
    """A declaration, the element whose attribute or style block holds it, its rule where it has one, and the span of name and value."""

    declaration: Declaration
    element: Element
    rule: Rule | None
    span: Span


def placed_declarations(document: Document, about: str = "") -> Iterator[PlacedDeclaration]:
    """All declarations in source order of their holders; with ``about``, those whose name begins with it."""
    for element in document.elements():
        if element.tag == "style":
            if about not in element.text.lower() or (sheet := document.sheet_of(element)) is None:
                continue
            css, span = sheet
            given = SourceText(css)
            for rule in rules(css):
                for declaration in rule.declarations:
                    if not declaration.name.startswith(about):
                        continue
                    start = given.offset(declaration.line, declaration.column)
                    end = end_of(css, start)
                    yield PlacedDeclaration(declaration, element, rule, Span(span.start + start, span.start + end))
        elif "style" in element.names:
            attribute = element.attributes.get("style") if about in document.style_of(element).lower() else None
            if attribute is None:
                continue  # a copy that the parser made of a misnested element; the original has its place
            style = document.style_of(element)
            if len(style) != len(attribute.value):
                continue  # over the limit of all style attributes
            text = SourceText(style)
            for declaration in declarations(style):
                if not declaration.name.startswith(about):
                    continue
                start = text.offset(declaration.line, declaration.column)
                raw = document.source.slice(attribute.value_span)
                yield PlacedDeclaration(declaration, element, None, source_span(raw, attribute.value_span, start, end_of(text.text, start)))
