"""A field syntax is data: its marks, its default-value filter, its block marks.

The shipped syntax is the open Liquid family: ``{{ first_name | default: "there" }}`` and ``{% if %}`` blocks
(Liquid grammar as python-liquid implements it).
"""

from __future__ import annotations

import html
import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

from jetwind.core.source import Span

#: Stands for one character of a field while markup is parsed: a private-use character cannot end a tag or a value.
FILLER = "\ue000"

_NAME = re.compile(r"\s*([A-Za-z_][\w-]*(?:\.[\w-]+)*)\s*(\|.*)?\Z", re.DOTALL)
_DEFAULT = re.compile(r"\|\s*default\s*:\s*(?:\"([^\"]*)\"|'([^']*)')")


#: Between the marks of a field, but of a grammar in which signs and bare words open and close blocks.
_OTHER_GRAMMAR = re.compile(r"\s*[#/^!>{&]|\s*~?(?:else|end|endif|elseif|elsif)\b")


@dataclass(frozen=True, slots=True)
class FieldToken:
    """One field or block tag in a source.

    ``name`` is the dotted field name, or None for a block tag or a field that cannot be read. ``is_foreign`` says that it is not of
    the message's own syntax, though it may stand between the same marks.
    """

    span: Span
    source: str
    name: str | None
    default: str | None
    is_block: bool
    is_foreign: bool = False


@dataclass(frozen=True)
class Syntax:
    """The marks of one family of merge fields."""

    name: str
    open_mark: str
    close_mark: str
    block_open: str
    block_close: str

    @cached_property
    def _pattern(self) -> re.Pattern[str]:
        # Bounded, and never over a second opening mark: else every unclosed mark would be sought to the end of the message.
        field = f"{re.escape(self.open_mark)}(?P<field>(?:(?!{re.escape(self.open_mark)}).){{0,500}}?){re.escape(self.close_mark)}"
        block = f"{re.escape(self.block_open)}(?P<block>(?:(?!{re.escape(self.block_open)}).){{0,2000}}?){re.escape(self.block_close)}"
        return re.compile(f"{field}|{block}", re.DOTALL)

    def tokens(self, text: str) -> Iterator[FieldToken]:
        """Every field and block tag of ``text``, in order. Entities inside a token are read as their characters."""
        if self.open_mark not in text and self.block_open not in text:
            return
        for match in self._pattern.finditer(text):
            span = Span(match.start(), match.end())
            if match["block"] is not None:
                yield FieldToken(span, match[0], None, None, is_block=True)
                continue
            if _OTHER_GRAMMAR.match(match["field"]):
                is_value = match["field"].lstrip()[0] in "{&"
                if match["field"].startswith("{") and text.startswith("}", span.end):
                    span = Span(span.start, span.end + 1)
                yield FieldToken(span, text[span.start : span.end], None, None, is_block=not is_value, is_foreign=True)
                continue
            inner = _NAME.match(html.unescape(match["field"]))
            default = _DEFAULT.search(inner[2] or "") if inner else None
            yield FieldToken(
                span,
                match[0],
                inner[1] if inner else None,
                next((group for group in default.groups() if group is not None), None) if default else None,
                is_block=False,
            )


LIQUID = Syntax("Liquid", "{{", "}}", "{%", "%}")
