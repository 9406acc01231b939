"""A field syntax is data: its marks, how a default is written, the words and marks of its blocks and comments.

Two grammars are read. That of the shipped syntax is the open Liquid family, ``{{ first_name | default: "there" }}`` and ``{% if %}``
blocks (Liquid grammar as python-liquid implements it). Every other syntax is described by its marks alone: a field is a name between
them, perhaps with a default behind a separator; a block is one of its words between them.
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import Literal

from jetwind.core.source import Span

#: Stands for one character of a field while markup is parsed: a private-use character cannot end a tag or a value.
FILLER = "\ue000"

_NAME = re.compile(r"\s*([A-Za-z_][\w-]*(?:\.[\w-]+)*)\s*(\|.*)?\Z", re.DOTALL)
_DEFAULT = re.compile(r"\|\s*default\s*:\s*(?:\"([^\"]*)\"|'([^']*)')")

#: Between the marks of a field, but of a grammar in which signs and bare words open and close blocks.
_OTHER_GRAMMAR = re.compile(r"\s*[#/^!>{&]|\s*~?(?:else|end|endif|elseif|elsif)\b")

_WORD = re.compile(r"[-\s]*([A-Za-z]+)(.*?)-?\s*\Z", re.DOTALL)
_END_OF = {word: re.compile(rf"\{{%-?\s*end{word}\s*-?%\}}") for word in ("comment", "raw")}

#: Whether a block tag begins a block, goes on with another part of it, ends it, or does neither.
Turn = Literal["opens", "goes on", "ends", ""]


@dataclass(frozen=True, slots=True)
class FieldToken:
    """One field or block tag in a source.

    ``name`` is the dotted field name, or None for a block tag or a field that cannot be read. ``is_foreign`` says that it is not of
    the message's own syntax, though it may stand between the same marks. ``word`` is the first word of a block tag and ``rest`` what
    follows it; a comment is one token with all that it holds. ``is_literal``: it is shown to the reader as it is written.
    """

    span: Span
    source: str
    name: str | None
    default: str | None
    is_block: bool
    is_foreign: bool = False
    word: str = ""
    rest: str = ""
    is_literal: bool = False


@dataclass(frozen=True)
class BlockWords:
    """The words that make blocks. Each list is in lower case.

    ``ends`` may close any block that is open. In Liquid a block has its own: ``end`` and the word that opened it.
    """

    opens: tuple[str, ...] = ()
    goes_on: tuple[str, ...] = ()
    ends: tuple[str, ...] = ()


@dataclass(frozen=True)
class Syntax:
    """The marks of one family of merge fields.

    ``escapes`` says that the sending system turns ``<``, ``>``, ``&`` and quotes of a value into entities on the way into HTML; Liquid
    does not by itself. ``block_open`` and ``block_close`` may be the marks of fields. ``default_mark`` stands between a field's name
    and its default, empty where there is no such thing.
    """

    name: str
    open_mark: str
    close_mark: str
    block_open: str
    block_close: str
    default_mark: str = ""
    words: BlockWords = BlockWords()
    comment_open: str = ""
    comment_close: str = ""
    grammar: Literal["liquid", "marks"] = "liquid"
    escapes: bool = False

    def tokens(self, text: str) -> Iterator[FieldToken]:
        """Every field and block tag of ``text``, in order. Entities inside a token are read as their characters."""
        if self.grammar == "marks":
            yield from self._marked(text)
        elif self.open_mark in text or self.block_open in text:
            yield from self._liquid(text)

    def turn(self, token: FieldToken) -> Turn:
        """The effect of a block tag on blocks; nothing for a field."""
        if not token.is_block or token.is_foreign or token.word == "comment":
            return ""
        word = token.word.lower()
        if word in self.words.opens:
            return "opens"
        if word in self.words.goes_on:
            return "goes on"
        return "ends" if word in self.words.ends else ""

    # The Liquid family.

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        # Bounded, and never over a second opening mark: else every unclosed mark would be sought to the end of the message.
        field = f"{re.escape(self.open_mark)}(?P<field>(?:(?!{re.escape(self.open_mark)}).){{0,500}}?){re.escape(self.close_mark)}"
        block = f"{re.escape(self.block_open)}(?P<block>(?:(?!{re.escape(self.block_open)}).){{0,2000}}?){re.escape(self.block_close)}"
        return re.compile(f"{field}|{block}", re.DOTALL)

    def _liquid(self, text: str) -> Iterator[FieldToken]:
        at = literal_until = 0
        never_ends: set[str] = set()
        while (match := self._pattern.search(text, at)) is not None:
            span = Span(match.start(), match.end())
            at = span.end
            if match["block"] is None:
                token = self._field(text, match)
                at = token.span.end
                is_literal = span.start < literal_until
                yield FieldToken(token.span, token.source, None, None, is_block=False, is_literal=True) if is_literal else token
                continue
            found = _WORD.match(match["block"])
            word, rest = (found[1], html.unescape(found[2]).strip()) if found else ("", "")
            if word in _END_OF and word not in never_ends:
                end = _END_OF[word].search(text, at)
                if end is None:
                    never_ends.add(word)
                elif word == "comment":
                    at = end.end()
                    yield FieldToken(Span(span.start, at), text[span.start : at], None, None, is_block=True, word="comment")
                    continue
                else:
                    literal_until = max(literal_until, end.start())
            is_literal = span.start < literal_until and word != "raw"
            yield FieldToken(span, match[0], None, None, is_block=not is_literal, word=word, rest=rest, is_literal=is_literal)

    def _field(self, text: str, match: re.Match[str]) -> FieldToken:
        span = Span(match.start(), match.end())
        if _OTHER_GRAMMAR.match(match["field"]):
            is_value = match["field"].lstrip()[0] in "{&"
            if match["field"].startswith("{") and text.startswith("}", span.end):
                span = Span(span.start, span.end + 1)
            return FieldToken(span, text[span.start : span.end], None, None, is_block=not is_value, is_foreign=True)
        inner = _NAME.match(html.unescape(match["field"]))
        default = _DEFAULT.search(inner[2] or "") if inner else None
        found = next((group for group in default.groups() if group is not None), None) if default else None
        return FieldToken(span, match[0], inner[1] if inner else None, found, is_block=False)

    # Syntaxes of marks alone.

    @cached_property
    def _marks(self) -> re.Pattern[str]:
        """Comments, blocks and fields. In HTML a mark may be written with character references."""
        parts = []
        if self.comment_open:
            inner = f"(?P<comment>(?:(?!{_written(self.comment_open)}).){{0,2000}}?)"
            parts.append(_written(self.comment_open) + inner + _written(self.comment_close))
        for group, opening, closing in (("block", self.block_open, self.block_close), ("field", self.open_mark, self.close_mark)):
            if group == "field" or opening != self.open_mark:
                # A single symbol is also a symbol: what it holds begins and ends with it, and no word stands right beside it.
                before, after = (rf"(?<![\w{re.escape(opening)}])", r"(?!\w)") if opening == closing and len(opening) == 1 else ("", "")
                inner = f"(?P<{group}>(?:(?!{_written(opening)}|{_written(closing)}).){{0,500}})"
                parts.append(f"{before}{_written(opening)}{inner}{_written(closing)}{after}")
        return re.compile("|".join(parts), re.DOTALL)

    @cached_property
    def _block_words(self) -> re.Pattern[str]:
        words = sorted({*self.words.opens, *self.words.goes_on, *self.words.ends}, key=len, reverse=True)
        return re.compile(rf"\s*({'|'.join(map(re.escape, words)) or '(?!)'})(?![\w.-])(.*)\Z", re.DOTALL | re.IGNORECASE)

    def _marked(self, text: str) -> Iterator[FieldToken]:
        for match in self._marks.finditer(text):
            span = Span(match.start(), match.end())
            groups = match.groupdict()
            if groups.get("comment") is not None:
                yield FieldToken(span, match[0], None, None, is_block=True, word="comment")
                continue
            inner = html.unescape(groups.get("block") or groups.get("field") or "")
            block = self._block_words.match(inner) if groups.get("block") is not None or self.block_open == self.open_mark else None
            if block is not None:
                yield FieldToken(span, match[0], None, None, is_block=True, word=block[1].lower(), rest=block[2].strip(" \t\r\n:()"))
                continue
            name, default = self._name_and_default(inner)
            # One symbol stands in ordinary copy too: "[SHOP NOW]" between brackets is no field that somebody wrote wrongly.
            if name is not None or len(self.open_mark) > 1:
                if name is not None and self.open_mark == "%" and (len(name) < 3 or re.match(r"[0-9A-Fa-f]{2}", name)):
                    continue  # an octet of an address (RFC 3986 §2.1)
                yield FieldToken(span, match[0], name, default, is_block=False)

    def _name_and_default(self, inner: str) -> tuple[str | None, str | None]:
        written, mark, default = inner.partition(self.default_mark) if self.default_mark else (inner, "", "")
        name = _PLAIN_NAME.fullmatch(written.strip())
        if name is None:
            return None, None
        default = default.strip()
        if len(default) >= 2 and default[0] in "\"'" and default[-1] == default[0]:
            default = default[1:-1]
        return name[0], default if mark else None


_PLAIN_NAME = re.compile(r"[A-Za-z_][\w-]*(?:\.[\w-]+)*")
_AS_WRITTEN = {"<": "(?:<|&lt;)", ">": "(?:>|&gt;)", "&": "&(?:amp;)?"}


def _written(mark: str) -> str:
    return "".join(_AS_WRITTEN.get(char, re.escape(char)) for char in mark)


LIQUID_WORDS = BlockWords(
    opens=("if", "unless", "case", "for", "tablerow", "capture", "raw", "comment", "ifchanged"),
    goes_on=("else", "elsif", "when"),
    ends=("endif", "endunless", "endcase", "endfor", "endtablerow", "endcapture", "endraw", "endcomment", "endifchanged"),
)
LIQUID = Syntax("Liquid", "{{", "}}", "{%", "%}", words=LIQUID_WORDS)
