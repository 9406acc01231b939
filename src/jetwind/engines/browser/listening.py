"""The accessibility tree of a page as a list of what a screen reader says.

Tables that lay out are flattened by the browser's own judgement, as screen readers take it (Chromium's roles LayoutTable and none).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from jetwind.core.prose.reading import BLOCKS
from jetwind.core.renders.spoken import Spoken

#: Things that are said, and characters of each, that are kept.
MOST_SAID, MOST_WORDS = 1_500, 300
#: A screen reader says the name of such an element and not its content.
_WHOLE = frozenset({"link", "button", "checkbox", "radio", "textbox", "combobox", "menuitem", "switch", "slider"})
_UNSAID = frozenset({"InlineTextBox", "ListMarker"})

Node = Mapping[str, Any]


def read(tree: Sequence[Node], elements: Sequence[Node], mark: str) -> tuple[Spoken, ...]:
    """``tree`` are the nodes of ``Accessibility.getFullAXTree``, ``elements`` those of ``DOM.getFlattenedDocument``.

    ``mark`` names the attribute that holds an element's index.
    """
    nodes = {node["nodeId"]: node for node in tree}
    places = _places(elements, mark)
    said: list[Spoken] = []
    line: str | None = None
    # (node, the block it stands in, whether only links and pictures are still said: a heading has said its words)
    stack: list[tuple[Node, str, bool]] = [(tree[0], "", False)] if tree else []
    while stack and len(said) < MOST_SAID:
        node, block, is_told = stack.pop()
        role, name = _value(node, "role"), _value(node, "name")
        children = [nodes[number] for number in node.get("childIds", ()) if number in nodes]
        element, language, tag = places.get(node.get("backendDOMNodeId"), (-1, "", ""))
        if role in _UNSAID:
            continue
        # A box that says nothing itself, such as a cell of a layout table, still parts what is said before and after it.
        if tag in BLOCKS and tag != "br":
            block = node["nodeId"]
        if role == "LineBreak":
            if said and said[-1].role == "text":
                said[-1] = replace(said[-1], words=f"{said[-1].words} ")
            continue
        if not node.get("ignored") and role == "StaticText":
            if name.strip() and not is_told:
                if line == block and said and said[-1].role == "text" and said[-1].language == language:
                    said[-1] = replace(said[-1], words=f"{said[-1].words}{name}"[:MOST_WORDS])
                else:
                    said.append(Spoken("text", name[:MOST_WORDS], 0, language, element))
                line = block
            continue
        if not node.get("ignored") and (one := _said(role, name, node, children)) is not None:
            said.append(replace(one, words=one.words[:MOST_WORDS], language=language, element=element))
            line = None
        if role in _WHOLE and not node.get("ignored"):
            continue
        inside = is_told or (role == "heading" and not node.get("ignored"))
        stack.extend((child, block, inside) for child in reversed(children))
    return tuple(replace(one, words=" ".join(one.words.split())) for one in said)


def _said(role: str, name: str, node: Node, children: Sequence[Node]) -> Spoken | None:
    """The words for a node itself; those for its children come after."""
    if role == "heading":
        return Spoken("heading", name, int(_property(node, "level") or 0))
    if role in _WHOLE or role in ("image", "separator"):
        return Spoken("line" if role == "separator" else role, name)
    if role == "list":
        count = sum(_value(child, "role") == "listitem" for child in children)
        return Spoken("list", f"{count} {'item' if count == 1 else 'items'}")
    if role == "table":
        return Spoken("table", name)
    return None


def _places(elements: Sequence[Node], mark: str) -> dict[int | None, tuple[int, str, str]]:
    """For each node of the page by its number: the marked element it stands in, the language that holds there, and its tag."""
    by_number = {node["nodeId"]: node for node in elements}
    known: dict[int, tuple[int, str]] = {}
    for node in elements:
        # A node may come before its parent, so the search goes up to a known node and down again.
        way: list[Node] = []
        here: Node | None = node
        while here is not None and here["nodeId"] not in known:
            way.append(here)
            here = by_number.get(here.get("parentId", -1))
        element, language = known[here["nodeId"]] if here is not None else (-1, "")
        for one in reversed(way):
            written = one.get("attributes") or ()
            attributes = dict(zip(written[::2], written[1::2], strict=False))
            if attributes.get(mark, "").isdecimal():
                element = int(attributes[mark])
            language = (attributes.get("lang") or language)[:40]
            known[one["nodeId"]] = (element, language)
    return {node.get("backendNodeId"): (*known[node["nodeId"]], str(node.get("localName", ""))) for node in elements}


def _value(node: Node, name: str) -> str:
    value = (node.get(name) or {}).get("value")
    return value if isinstance(value, str) else ""


def _property(node: Node, name: str) -> Any:
    return next((one["value"].get("value") for one in node.get("properties", ()) if one.get("name") == name), None)
