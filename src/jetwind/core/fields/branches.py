"""Where a template holds alternatives: markup of which each reader gets one branch."""

from __future__ import annotations

import re
from collections.abc import Sequence

from jetwind.core.fields.syntax import FieldToken
from jetwind.core.source import Span

_WORD = re.compile(r"[A-Za-z]+|/")
_ENDS = re.compile(r"/|end", re.IGNORECASE)
_OTHERWISE = frozenset({"else", "elseif", "elsif", "elif", "when", "otherwise", "default"})
_OPENS = frozenset({"if", "ifelse", "unless", "case", "switch", "for", "foreach", "each", "while", "with", "loop", "tablerow"})


def branches(tokens: Sequence[FieldToken]) -> list[Span]:
    """Spans of the blocks that have an ``else`` or the like, from their opening to their closing tag, whatever the syntax.

    A block that never closes reaches to the last tag.
    """
    found: list[Span] = []
    stack: list[tuple[int, bool]] = []
    blocks = [token for token in tokens if token.is_block]
    for token in blocks:
        match = _WORD.search(token.source)
        # A bare closing brace is the end of a block in the templates whose code is that of a programming language.
        word = match[0].lower() if match else "end" if "}" in token.source[2:-2] else ""
        if word in _OTHERWISE:
            if stack:
                stack[-1] = stack[-1][0], True
            else:
                stack.append((token.span.start, True))
        elif _ENDS.match(word):
            if stack:
                start, has_alternatives = stack.pop()
                if has_alternatives:
                    found.append(Span(start, token.span.end))
        elif word in _OPENS or "#" in token.source[:4]:
            stack.append((token.span.start, False))
    found.extend(Span(start, blocks[-1].span.end) for start, has_alternatives in stack if has_alternatives)
    return found
