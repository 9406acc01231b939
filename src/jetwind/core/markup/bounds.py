"""HTML as far as it is looked at: the same text, with what goes over a limit cut off or blanked, so that places stay true."""

from __future__ import annotations

import re

import turbohtml

from jetwind.core.source import LIMITS, Reached

_SHEET = re.compile(r"<style\b[^>]{0,2000}>(.*?)(?:</style|\Z)", re.IGNORECASE | re.DOTALL)
#: Elements that the parser opens again in every later block while they are not closed (HTML §13.2.4.3).
_FORMATTING = frozenset({"a", "b", "big", "code", "em", "font", "i", "nobr", "s", "small", "strike", "strong", "tt", "u"})
_OPENING = re.compile(r"<(?:a|b|big|code|em|font|i|nobr|s|small|strike|strong|tt|u)(?=[\s/>])", re.IGNORECASE)
_CLOSING = re.compile(r"</(?:a|b|big|code|em|font|i|nobr|s|small|strike|strong|tt|u)(?=[\s/>])", re.IGNORECASE)
#: So many formatting elements are left open by slips; more are looked at closely.
_FEW = 60


def bounded(text: str, reached: list[Reached]) -> str:
    """The text as it is looked at; limits that it goes over are added to ``reached``."""
    if len(text) > LIMITS.sheet_characters:
        text = _with_short_sheets(text, reached)
    if len(text) > 1000 and sum(1 for _ in _OPENING.finditer(text)) - sum(1 for _ in _CLOSING.finditer(text)) > _FEW:
        text = _without_multiplying(text, reached)
    return text


def _with_short_sheets(text: str, reached: list[Reached]) -> str:
    left = LIMITS.sheet_characters
    pieces, end = [], 0
    for match in _SHEET.finditer(text):
        length = len(match[1])
        if length > left:
            start = match.start(1) + left
            pieces += [text[end:start], re.sub(r"[^\r\n]", " ", text[start : match.end(1)])]
            end = match.end(1)
        left = max(0, left - length)
    if end:
        reached.append(Reached("characters of style sheets", LIMITS.sheet_characters))
    return "".join(pieces) + text[end:]


def _without_multiplying(text: str, reached: list[Reached]) -> str:
    """Cut where open formatting elements have been built anew more often than the limit allows."""
    open_ones = rebuilt = 0
    starts = None
    for token in turbohtml.tokenize(text, resolve_references=False, capture_source=False, capture_attributes=False):
        if token.type is turbohtml.TokenType.START_TAG:
            if (token.tag or "").lower() in _FORMATTING:
                open_ones += 1
            else:
                rebuilt += open_ones
        elif token.type is turbohtml.TokenType.END_TAG:
            if (token.tag or "").lower() in _FORMATTING:
                open_ones = max(0, open_ones - 1)
            else:
                rebuilt += open_ones
        if rebuilt > LIMITS.rebuilt_elements:
            if starts is None:
                starts = [0, *(match.end() for match in re.finditer(r"\r\n|\r|\n", text))]
            reached.append(Reached("formatting elements built anew", LIMITS.rebuilt_elements))
            return text[: min(starts[token.line - 1] + token.col, len(text))]
    return text
