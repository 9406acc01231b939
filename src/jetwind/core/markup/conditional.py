"""Conditional comments: blocks that one family of clients reads as markup and every other takes for comments.

Three forms are in use. Hidden: ``<!--[if mso]> … <![endif]-->``. Revealed, in comments: ``<!--[if !mso]><!--> … <!--<![endif]-->``.
Revealed, bare: ``<![if !mso]> … <![endif]>``. Source: common practice, no published source that is still served; from memory.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from jetwind.core.source import Span

_MARK = re.compile(
    r"(?P<open><!--\s*\[if\b(?P<condition>[^\]>]{0,200})\]\s*>(?P<shown>\s*(?:<!--+\s*>|<!--\s*--+>|--+>))?)"
    r"|(?P<bare_open><!\[if\b(?P<bare_condition>[^\]>]{0,200})\]\s*>)"
    r"|(?P<shown_close><!--+\s*<!\[endif\]\s*--+>)"
    r"|(?P<close><!\[endif\]\s*--+>)"
    r"|(?P<bare_close><!\[endif\]\s*>)"
    r"|(?P<comment><!--)|(?P<end>--!?>)",
    re.IGNORECASE,
)
Form = Literal["hidden", "revealed", "bare"]


@dataclass(frozen=True, slots=True)
class Conditional:
    """One block: its form, its condition as written, and the spans of the whole and of what stands between the marks."""

    form: Form
    condition: str
    span: Span
    content: Span


@dataclass(frozen=True, slots=True)
class ConditionalFault:
    """A mark without its partner, or one block inside another where that cannot be: what, as a clause for people, and where."""

    text: str
    span: Span


def conditionals(text: str) -> tuple[list[Conditional], list[ConditionalFault]]:
    """All blocks in the order in which they close, and what is wrong."""
    found: list[Conditional] = []
    faults: list[ConditionalFault] = []
    if "[if" not in text.lower() and "[endif" not in text.lower():
        return found, faults
    stack: list[tuple[Form, str, Span]] = []
    in_comment = False
    for match in _MARK.finditer(text):
        span = Span(match.start(), match.end())
        hidden = bool(stack) and stack[-1][0] == "hidden"
        kind = (
            match.lastgroup
            if match.lastgroup not in ("condition", "shown", "bare_condition")
            else ("open" if match["open"] else "bare_open")
        )
        if in_comment and kind not in ("end", "close"):
            continue
        if kind == "comment":
            in_comment = not hidden
        elif kind == "end":
            if hidden and not in_comment:
                faults.append(ConditionalFault("ends as a comment before its <![endif]", stack.pop()[2]))
            in_comment = False
        elif kind == "open" and not match["shown"]:
            if hidden:
                faults.append(ConditionalFault("starts inside another that hides it", span))
            stack.append(("hidden", match["condition"].strip(), span))
        elif kind in ("open", "bare_open"):
            if hidden and kind == "open":
                faults.append(ConditionalFault("starts inside another that hides it", span))
            form: Form = "revealed" if kind == "open" else "bare"
            stack.append((form, (match["condition"] or match["bare_condition"] or "").strip(), span))
        else:
            in_comment = False
            faults.extend(_close(stack, found, str(kind), span))
    faults.extend(ConditionalFault("has no <![endif]", span) for _, _, span in stack)
    return found, sorted(faults, key=lambda fault: fault.span.start)


def _close(stack: list[tuple[Form, str, Span]], found: list[Conditional], kind: str, span: Span) -> Iterator[ConditionalFault]:
    if not stack:
        yield ConditionalFault("is an <![endif] that closes nothing", span)
        return
    form, condition, opening = stack.pop()
    # Which mark closes which: a hidden block ends with its comment, a revealed one in a comment of its own.
    fits = {"close": ("hidden",), "shown_close": ("revealed", "bare"), "bare_close": ("bare", "revealed")}[kind]
    if form not in fits:
        yield ConditionalFault("is closed by a mark of another form", opening)
    found.append(Conditional(form, condition, Span(opening.start, span.end), Span(opening.end, span.start)))


def conditions_for_word_processor(condition: str) -> bool:
    """Whether a condition holds for the desktop client with the word-processor engine: ``mso``, ``gte mso 9`` and the like."""
    text = condition.lower()
    return "mso" in text and not re.search(r"!\s*\(?\s*mso", text)


def covering(blocks: Iterator[Conditional] | list[Conditional], offset: int) -> Conditional | None:
    """The innermost block whose content holds that offset."""
    return min(
        (block for block in blocks if offset in block.content), key=lambda block: block.content.end - block.content.start, default=None
    )
