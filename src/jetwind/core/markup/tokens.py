"""The source cut into tokens, and the places of text runs found in them."""

from __future__ import annotations

import html
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import turbohtml

from jetwind.core.fields.syntax import FILLER
from jetwind.core.source import SourceText, Span

#: Elements whose text holds no references (HTML §13.1.2, raw text).
_RAW_TEXT = frozenset({"style", "script", "xmp", "iframe", "noembed", "noframes"})

TokenKind = Literal["text", "start tag", "end tag", "comment", "doctype"]


@dataclass(frozen=True, slots=True)
class Token:
    """One token of the source: what it is, the tag's name where it has one, and its span. Joined, they are the source."""

    kind: TokenKind
    name: str
    span: Span


def tokenise(masked: SourceText, source: SourceText) -> Iterator[Token]:
    """The tokens of a source. Text and the references in it are one token; a token ends where the next begins."""
    kinds: dict[turbohtml.TokenType, TokenKind] = {
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


class RunFinder:
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
