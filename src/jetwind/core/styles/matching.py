"""Which rules of a document's style elements hit which elements: worked out once, for every medium and every question."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import tinycss2

from jetwind.core.markup import Document
from jetwind.core.styles.placed import Rule, rules

if TYPE_CHECKING:
    from tinycss2.ast import Value

_PSEUDO_ELEMENT = re.compile(r"::|:(?:before|after|first-line|first-letter)\b", re.IGNORECASE)
_DYNAMIC = re.compile(r":(?:hover|active|focus|focus-within|focus-visible|visited|target|checked)\b", re.IGNORECASE)
_LINK = re.compile(r":(?:any-|-webkit-any-)?link\b", re.IGNORECASE)

#: Rules times elements that are worked out, many times what real messages have (150 rules, 400 elements); a sheet made to take
#: the reader down is read so far.
MOST_MATCHES = 300_000

Specificity = tuple[int, int, int]


@dataclass(frozen=True, slots=True)
class Match:
    """A rule that hits an element, how specifically, and its place in the order of appearance."""

    specificity: Specificity
    order: int
    rule: Rule


def matches(document: Document) -> dict[int, list[Match]]:
    """Rules by the index of the element they hit, in order of appearance. Pseudo-elements and states of use hit nothing."""
    hits: dict[int, list[Match]] = {}
    order = taken = 0
    for block in document.elements("style"):
        if (block.get("type") or "text/css").strip().lower() != "text/css":
            continue
        # A merge field stands for a value that nobody knows yet; as filler it cannot break the rule around it.
        sheet = document.sheet_of(block)
        for rule in rules(sheet[0]) if sheet is not None else ():
            order += 1
            if not rule.declarations or any(name == "font-face" for name, _ in rule.within):
                continue
            media = block.get("media")
            placed = Rule(rule.prelude, rule.declarations, (("media", media), *rule.within)) if media else rule
            for selector in selectors(list(rule.prelude)):
                if _PSEUDO_ELEMENT.search(selector) or _DYNAMIC.search(selector):
                    continue
                # The selector engine has no links: of the elements with an address, a and area are links (Selectors 4 §8.2).
                plain = _LINK.sub("[href]", selector)
                try:
                    elements = document.select(plain)
                except ValueError:
                    continue
                if plain != selector and re.search(r"\[href\]\Z", plain):
                    elements = [element for element in elements if element.tag in ("a", "area")]
                match = Match(specificity(selector), order, placed)
                taken += len(elements)
                if taken > MOST_MATCHES:
                    return hits
                for element in elements:
                    hits.setdefault(element.index, []).append(match)
    return hits


def selectors(prelude: Sequence[Value]) -> list[str]:
    """A selector list cut at its top-level commas."""
    groups: list[list[Value]] = [[]]
    for node in prelude:
        if node.type == "literal" and node.value == ",":
            groups.append([])
        else:
            groups[-1].append(node)
    return [text for group in groups if (text := tinycss2.serialize(group).strip())]


def specificity(selector: str) -> Specificity:
    """Ids, classes with attributes and pseudo-classes, types (Selectors 4 §17), counted on the text."""
    bare = re.sub(r"\[[^\]]*\]", "[]", selector)
    bare = re.sub(r":where\([^()]*\)", "", bare)
    bare = re.sub(r":(?:is|not|has|matches)\(", "(", bare)
    ids = len(re.findall(r"#[\w-]+", bare))
    classes = len(re.findall(r"\.[\w-]+|\[\]|(?<!:):(?!:)[\w-]+", bare))
    types = len(re.findall(r"(?:^|[\s>+~(])[a-zA-Z][\w-]*", bare))
    return ids, classes, types
