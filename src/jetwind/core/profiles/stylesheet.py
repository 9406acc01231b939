"""Style attributes and style sheets as a client keeps them, with the place of everything that it does not.

The text that comes out is written anew from the tokens that stay (CSS Syntax 3 §5, through tinycss2); places are characters of the
text that went in.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import tinycss2

from jetwind.core.profiles.plan import Plan, Verdict
from jetwind.core.profiles.selectors import Judge, selectors_kept
from jetwind.core.profiles.support import Loss
from jetwind.core.source import SourceText
from jetwind.core.styles import end_of, is_too_deep
from jetwind.core.styles.reading import block_nodes, sheet_nodes

if TYPE_CHECKING:
    from tinycss2.ast import AtRule, Declaration, Part, QualifiedRule, Value

#: Blocks inside blocks beyond this are left out: no sheet of a message nests so deep.
DEEPEST = 12


@dataclass(frozen=True, slots=True)
class CssChange:
    """Something that a client does to a sheet: what kind of change, which feature, its title, and where in the text."""

    kind: Literal["dropped", "altered"]
    feature: str
    title: str
    start: int
    end: int
    #: For what only some elements keep: the selectors of the rule, to be held against the document.
    selector: str = ""
    verdict: Verdict | None = None


def attribute_kept(css: str, tag: str, plan: Plan) -> tuple[str, list[CssChange]]:
    """A style attribute as a client keeps it on an element of that name."""
    if is_too_deep(css):
        return "", [CssChange("dropped", "depth", "a style attribute with brackets nested too deep", 0, len(css))]
    source: SourceText | None = None
    kept: list[str] = []
    changes: list[CssChange] = []
    is_same = True
    for node in block_nodes(css):
        if node.type != "declaration":
            continue
        value = tinycss2.serialize(node.value).strip()
        verdict = plan.verdict(node.lower_name, value, node.important, "attribute")
        if verdict is not None and verdict.spares(tag):
            verdict = None
        written = _written(node, value)
        if verdict is None and not (node.important and _important_lost(plan, css, node, "attribute")):
            kept.append(written)
            continue
        is_same = False
        source = source or SourceText(css)
        start = source.offset(node.source_line, node.source_column)
        end = end_of(css, start)
        if verdict is None:
            loss = _important_lost(plan, css, node, "attribute")
            assert loss is not None
            changes.append(CssChange("dropped", loss.feature, loss.title, start, end))
            continue
        changes.append(_change(verdict, start, end))
        if verdict.whole:
            return "", changes
        if verdict.text:
            kept.append(verdict.text)
    return (css if is_same else "; ".join(kept)), changes


def sheet_kept(css: str, plan: Plan) -> tuple[str, list[CssChange]]:
    """A style sheet as a client keeps it. The same sheet is read once for a plan."""
    if css not in plan.sheets:
        if len(plan.sheets) > 64:
            plan.sheets.clear()
        plan.sheets[css] = _Sheet(css, plan).kept()
    return plan.sheets[css]


class _Sheet:
    def __init__(self, css: str, plan: Plan) -> None:
        self.css, self.plan, self.source = css, plan, SourceText(css)
        self.changes: list[CssChange] = []
        self.is_same = True
        self.is_lost = False
        self.judge = Judge(plan)

    def kept(self) -> tuple[str, list[CssChange]]:
        if is_too_deep(self.css):
            return "", [CssChange("dropped", "depth", "a style element with brackets nested too deep", 0, len(self.css))]
        out: list[str] = []
        self._rules(sheet_nodes(self.css), out, 0, False)
        if self.is_lost:
            return "", self.changes
        return (self.css if self.is_same else "".join(out)), self.changes

    def _rules(self, nodes: Sequence[Part], out: list[str], depth: int, in_media: bool) -> None:
        for node in nodes:
            if node.type == "qualified-rule":
                self._rule(node, out, depth)
            elif node.type == "at-rule":
                self._at_rule(node, out, depth, in_media)

    def _at_rule(self, node: AtRule, out: list[str], depth: int, in_media: bool) -> None:
        name = node.lower_at_keyword
        prelude = tinycss2.serialize(node.prelude)
        lost = self._at_rule_lost(name, node.prelude, prelude, in_media)
        if lost is not None or depth > DEEPEST:
            feature, title = (lost.feature, lost.title) if lost else ("depth", "blocks nested too deep")
            self._note("dropped", feature, title, node)
            return
        if name == "import":
            # Nothing is loaded from elsewhere; a client that would is told by its own check.
            self._note("dropped", "css-at-import", "@import", node)
            return
        if node.content is None:
            out.append(f"@{node.at_keyword}{prelude};")
        elif name in ("media", "supports", "layer", "container"):
            out.append(f"@{node.at_keyword}{prelude}{{")
            inner = block_nodes(node.content)
            self._rules(inner, out, depth + 1, in_media or name == "media")
            out.append("}\n")
        else:
            out.append(f"@{node.at_keyword}{prelude}{{{tinycss2.serialize(node.content)}}}\n")

    def _at_rule_lost(self, name: str, nodes: Sequence[Value], prelude: str, in_media: bool) -> Loss | None:
        for loss in self.plan.by_how.get("at-rule", ()):
            if name in loss.names:
                if loss.then == "nested":
                    if not in_media:
                        continue
                elif loss.values is not None and not loss.values.search(prelude):
                    continue
                return loss
        if name == "media":
            words = set(_feature_names(nodes))
            for loss in self.plan.by_how.get("media-feature", ()):
                if words & {alias for own in loss.names for alias in (own, f"min-{own}", f"max-{own}")}:
                    return loss
        return None

    def _rule(self, node: QualifiedRule, out: list[str], depth: int) -> None:
        selectors, lost = selectors_kept(node.prelude, self.judge)
        for selector_start, selector_end, loss in lost:
            start = self._start(node)
            self.is_same = False
            self.changes.append(CssChange("dropped", loss.feature, loss.title, start + selector_start, start + selector_end))
        if not selectors:
            return
        if lost or self.judge.rewrites:
            self.is_same = False
        self._block(selectors, block_nodes(node.content), out, depth)

    def _block(self, selectors: list[str], content: Sequence[Part], out: list[str], depth: int) -> None:
        """The declarations of a rule; those that only some elements keep go into a rule of their own, in order."""
        prelude = ", ".join(selectors)
        run: list[str] = []
        nested: list[str] = []

        def flush() -> None:
            if run:
                out.append(f"{prelude} {{ {'; '.join(run)} }}\n")
                run.clear()

        for node in content:
            if node.type == "qualified-rule" or node.type == "at-rule":
                self._nested(node, nested, depth)
                continue
            if node.type != "declaration":
                continue
            value = tinycss2.serialize(node.value).strip()
            verdict = self.plan.verdict(node.lower_name, value, node.important, "sheet")
            written = _written(node, value)
            important = _important_lost(self.plan, self.css, node, "sheet") if verdict is None and node.important else None
            if verdict is None and important is None:
                run.append(written)
                continue
            start = self._start(node)
            end = end_of(self.css, start)
            self.is_same = False
            if verdict is None:
                assert important is not None
                self.changes.append(CssChange("dropped", important.feature, important.title, start, end))
                continue
            self.is_lost = self.is_lost or verdict.whole
            self.changes.append(_change(verdict, start, end, prelude))
            if verdict.is_conditional:
                flush()
                out.append(f"{_narrowed(selectors, verdict.spared)} {{ {written} }}\n")
                if verdict.text:
                    out.append(f"{_narrowed(selectors, verdict.touched)} {{ {verdict.text} }}\n")
            elif verdict.text:
                run.append(verdict.text)
        if nested:
            run.append(" ".join(nested))
        flush()

    def _nested(self, node: QualifiedRule | AtRule, nested: list[str], depth: int) -> None:
        lost = next(iter(self.plan.by_how.get("nesting", ())), None)
        if lost is not None and node.type == "qualified-rule":
            self._note("dropped", lost.feature, lost.title, node)
        elif depth < DEEPEST:
            inner: list[str] = []
            self._rules([node], inner, depth + 1, False)
            nested.append("".join(inner))

    def _note(self, kind: Literal["dropped", "altered"], feature: str, title: str, node: Part) -> None:
        self.is_same = False
        start = self._start(node)
        self.changes.append(CssChange(kind, feature, title, start, end_of(self.css, start, "{;")))

    def _start(self, node: Part) -> int:
        return self.source.offset(node.source_line, node.source_column)


def with_addresses(css: str, address: Callable[[str], str]) -> str:
    """The same CSS with every ``url()`` put through ``address``."""

    def changed(match: re.Match[str]) -> str:
        given = match["quoted"] if match["quoted"] is not None else match["bare"]
        found = address(given.strip())
        return match[0] if found == given.strip() else f'url("{found}")'

    return _URL.sub(changed, css)


_URL = re.compile(r"""url\(\s*(?:(["'])(?P<quoted>[^"'\n]*)\1|(?P<bare>[^"'()\n]*))\s*\)""", re.IGNORECASE)


def _written(node: Declaration, value: str) -> str:
    return f"{node.name}: {value}{' !important' if node.important else ''}"


def _change(verdict: Verdict, start: int, end: int, selector: str = "") -> CssChange:
    kind: Literal["dropped", "altered"] = "altered" if verdict.text else "dropped"
    feature, title = (verdict.losses[0].feature, verdict.losses[0].title) if verdict.losses else verdict.why or ("", "")
    is_conditional = bool(selector) and verdict.is_conditional
    return CssChange(
        kind,
        feature,
        title=title,
        start=start,
        end=end,
        selector=selector if is_conditional else "",
        verdict=verdict if is_conditional else None,
    )


def _important_lost(plan: Plan, css: str, node: Declaration, where: str) -> Loss | None:
    """Whether the way in which ``!important`` is written makes a client leave the declaration out."""
    for loss in plan.by_how.get("important", ()):
        if loss.then in ("case", "space") and loss.where in ("", where):
            start = SourceText(css).offset(node.source_line, node.source_column)
            written = css[start : end_of(css, start)]
            if (loss.then == "case" and "!important" not in written.replace(" ", "")) or (
                loss.then == "space" and re.search(r"\S!\s*important", written, re.IGNORECASE)
            ):
                return loss
    return None


_PSEUDO_ELEMENT = re.compile(r"::?(?:before|after|first-line|first-letter)\b|::[\w-]+", re.IGNORECASE)


def _narrowed(selectors: list[str], condition: str) -> str:
    """A selector list that matches only elements under a condition, without weighing more."""
    parts = []
    for selector in selectors:
        found = _PSEUDO_ELEMENT.search(selector)
        at = found.start() if found else len(selector)
        parts.append(f"{selector[:at]}{condition}{selector[at:]}")
    return ", ".join(parts)


def _feature_names(nodes: Sequence[Value]) -> Iterator[str]:
    stack = list(reversed(nodes))
    while stack:
        node = stack.pop()
        if node.type == "ident":
            yield node.lower_value
        elif node.type == "() block":
            stack.extend(reversed(node.content))
