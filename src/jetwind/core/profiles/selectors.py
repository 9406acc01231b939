"""Selectors as a client keeps them: which of a list it drops, and what it makes of class names and ids."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

import tinycss2

from jetwind.core.profiles.plan import Plan
from jetwind.core.profiles.support import Loss

if TYPE_CHECKING:
    from tinycss2.ast import Value

_COMBINATORS = {">": ">", "+": "+", "~": "~"}
_OLD_PSEUDO_ELEMENTS = frozenset({"before", "after", "first-line", "first-letter"})


class Judge:
    """A plan's verdicts on selectors."""

    def __init__(self, plan: Plan) -> None:
        self.prefix = plan.profile.prefix
        self.spared = plan.spared
        self.by_name: dict[str, list[Loss]] = {}
        for loss in plan.by_how.get("selector", ()):
            for name in loss.names:
                self.by_name.setdefault(name, []).append(loss)
        bodies = plan.by_how.get("body", [])
        self.body = bodies[0] if bodies else None

    @property
    def rewrites(self) -> bool:
        """Whether a selector that stays is written anew."""
        return bool(self.prefix)

    def lost(self, nodes: Sequence[Value], text: str) -> Loss | None:
        """The first loss that takes a selector along."""
        first: Loss | None = None
        for loss in self._losses(nodes, text):
            if loss.feature == self.spared:
                return None
            first = first or loss
        return first

    def _losses(self, nodes: Sequence[Value], text: str) -> Iterator[Loss]:
        for name, compound in _features(nodes):
            if name == "body" and self.body is not None:
                yield self.body
            for loss in self.by_name.get(name, ()):
                if loss.values is not None and not loss.values.search(text):
                    continue
                if loss.then == "needs a type" and "type" in compound:
                    continue
                if loss.then == "needs a class" and compound & {".", "#"}:
                    continue
                if loss.then == "no class beside" and "." not in compound:
                    continue
                yield loss


def selectors_kept(prelude: Sequence[Value], judge: Judge) -> tuple[list[str], list[tuple[int, int, Loss]]]:
    """The selectors of a rule that stay, as they are written now, and for each that goes its place in the prelude and its loss."""
    groups: list[list[Value]] = [[]]
    places: list[list[int]] = [[0, 0]]
    at = 0
    for node in prelude:
        size = len(tinycss2.serialize([node]))
        if node.type == "literal" and node.value == ",":
            groups.append([])
            places.append([at + size, at + size])
        else:
            groups[-1].append(node)
            places[-1][1] = at + size
        at += size
    kept: list[str] = []
    lost: list[tuple[int, int, Loss]] = []
    together = judge.by_name.get(",", []) if len(groups) > 1 else []
    for nodes, (start, end) in zip(groups, places, strict=True):
        whole = tinycss2.serialize(nodes)
        text = whole.strip()
        start += len(whole) - len(whole.lstrip())
        end -= len(whole) - len(whole.rstrip())
        loss = judge.lost(nodes, text)
        if loss is None and together:
            grouped = (one for one in together if one.then != "needs a class" or not _has_class(nodes))
            loss = next((one for one in grouped if one.feature != judge.spared), None)
        if not text:
            continue
        if loss is not None:
            lost.append((start, max(start, end), loss))
        else:
            kept.append(_prefixed(nodes, judge.prefix).strip() if judge.prefix else text)
    return kept, lost


def _features(nodes: Sequence[Value]) -> Iterator[tuple[str, set[str]]]:
    """The features of a selector, each with the parts of the compound that it stands in."""
    found: list[tuple[str, set[str]]] = []
    compound: set[str] = set()
    waiting_space = False
    previous: str | None = None
    solid = [node for node in nodes if node.type != "comment"]
    while solid and solid[0].type == "whitespace":
        solid.pop(0)
    while solid and solid[-1].type == "whitespace":
        solid.pop()
    for number, node in enumerate(solid):
        follows = solid[number + 1] if number + 1 < len(solid) else None
        if node.type == "literal" and node.value in _COMBINATORS:
            found.append((node.value, compound))
            compound, waiting_space, previous = set(), False, None
            continue
        if node.type == "whitespace":
            waiting_space = previous is not None
            continue
        if waiting_space:
            found.append(("descendant", compound))
            compound, waiting_space, previous = set(), False, None
        name = _part(node, previous)
        if name == "type" and node.type == "ident" and node.lower_value in ("body", "html"):
            found.append(("body" if node.lower_value == "body" else "type", compound))
        if name:
            compound.add(name)
            found.append((name, compound))
            if name == "." and sum(1 for one, inside in found if one == "." and inside is compound) > 1:
                found.append(("chain", compound))
            previous = "part"
        elif node.type == "literal" and node.value == ":":
            previous = "::" if previous == ":" else ":"
        elif node.type == "literal" and node.value == "." and follows is not None:
            previous = "."
        else:
            previous = "part"
    yield from found


def _part(node: Value, previous: str | None) -> str:
    """The name of a simple selector by which the table of losses knows it; "" for what is none. ``previous`` is the mark before it."""
    if node.type == "ident" and previous == ".":
        return "."
    if node.type == "ident" and previous in (":", "::"):
        return f"{'::' if previous == '::' or node.lower_value in _OLD_PSEUDO_ELEMENTS else ':'}{node.lower_value}"
    if node.type == "function" and previous in (":", "::"):
        return f"{previous}{node.lower_name}"
    if node.type == "literal":
        return "*" if node.value == "*" else ""
    return {"ident": "type", "hash": "#", "[] block": "[]"}.get(node.type, "")


def _has_class(nodes: Sequence[Value]) -> bool:
    return any(node.type == "hash" or (node.type == "literal" and node.value == ".") for node in nodes)


def _prefixed(nodes: Sequence[Value], prefix: str) -> str:
    parts: list[str] = []
    after_dot = False
    for node in nodes:
        if after_dot and node.type == "ident":
            parts.append(prefix + node.value)
        elif node.type == "hash":
            parts.append(f"#{prefix}{node.value}")
        elif node.type == "function":
            parts.append(f"{node.name}({_prefixed(node.arguments, prefix)})")
        else:
            parts.append(tinycss2.serialize([node]))
        after_dot = node.type == "literal" and node.value == "."
    return "".join(parts)
