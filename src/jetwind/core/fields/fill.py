"""The message as one reader gets it: fields filled, conditional parts decided, through python-liquid.

A source that Liquid cannot read is filled token by token, so that a broken block never hides the rest of a message. So is one that passes
a limit: a template may ask for a billion repetitions, a text doubled thirty times, a number of a million digits.
"""

from __future__ import annotations

import html
import re
from collections.abc import Mapping

from jetwind.core.fields.keeping import kept
from jetwind.core.fields.marked import shown as marked
from jetwind.core.fields.syntax import LIQUID, FieldToken, Syntax
from jetwind.core.source import FILLING

#: A name, and perhaps a default: filled without the template engine, which takes a sixth of a second to load.
_PLAIN = re.compile(r"\{\{\s*[A-Za-z_][\w-]*(?:\.[\w-]+)*\s*(?:\|\s*default\s*:\s*(?:\"[^\"]*\"|'[^']*')\s*)?\}\}\Z")
_NOT_BLANK = re.compile(r"([A-Za-z_][\w.-]*)\s*(?:!=|<>)\s*blank\b")
_IS_BLANK = re.compile(r"([A-Za-z_][\w.-]*)\s*==\s*blank\b")


def past_limit(source: str, values: Mapping[str, str], *, syntax: Syntax = LIQUID) -> str:
    """Which limit filling ``source`` passes, as the end of "it cannot be filled, since …"; empty where it passes none."""
    if needs_engine(source, syntax):
        return _through_liquid(source, values, syntax)[1]
    return ""


@kept
def _tokens(source: str, syntax: Syntax) -> tuple[FieldToken, ...]:
    return tuple(syntax.tokens(source))


def needs_engine(source: str, syntax: Syntax) -> bool:
    """Whether only the template engine can fill a text; else names and defaults are put in by themselves."""
    return syntax.grammar == "liquid" and any(map(_is_decided, _tokens(source, syntax)))


def _is_decided(token: FieldToken) -> bool:
    """Whether only the template engine can say what becomes of it: blocks, quoted text, filters, and what is more than a name."""
    if token.is_foreign:
        return False
    return token.is_block or token.is_literal or _PLAIN.match(html.unescape(token.source)) is None


def _through_liquid(source: str, values: Mapping[str, str], syntax: Syntax) -> tuple[str | None, str]:
    # Loaded when first used: it takes a sixth of a second, and few messages have blocks.
    from jetwind.core.fields.liquid import rendered

    if len(_tokens(source, syntax)) > FILLING.tokens:
        return None, f"it has more than {FILLING.tokens:,} fields and block tags"
    return rendered(_with_plain_tokens(source, syntax), values)


def fill(source: str, values: Mapping[str, str], *, escape: bool, syntax: Syntax = LIQUID) -> str:
    """``source`` merged with a reader's ``values``.

    ``escape`` turns ``&``, ``<``, ``>`` and quotes of a value into entities, as an HTML part needs (HTML §13.1.4).
    Dotted names (``order.number``) look their value up under the whole dotted name. Never raises for bad syntax.
    """
    tokens = _tokens(source, syntax)
    if not tokens:
        return source
    shown = {name: html.escape(value) if escape else value for name, value in values.items()}
    if syntax.grammar == "marks":
        return "".join(
            html.escape(text) if escape and token is not None and token.name else text for text, _, token in marked(source, values, syntax)
        )
    if any(map(_is_decided, tokens)):
        if "\r" in source:
            # Liquid knows plain line ends alone; those of the source are put back where its text stands.
            from jetwind.core.fields.merging import merge

            return merge(source, values, escape=escape, syntax=syntax).text
        filled, _ = _through_liquid(source, shown, syntax)
        if filled is not None:
            return filled
    pieces: list[str] = []
    end = 0
    for token in tokens:
        pieces.append(source[end : token.span.start])
        if token.name is None:
            pieces.append("" if token.is_block and not token.is_foreign else token.source)
        else:
            default = html.escape(token.default) if escape and token.default else token.default
            pieces.append(shown.get(token.name, "") or default or "")
        end = token.span.end
    return "".join(pieces) + source[end:]


@kept
def _with_plain_tokens(source: str, syntax: Syntax) -> str:
    """The source with entities inside its tokens decoded: an attribute may carry ``&quot;`` where Liquid needs a quote.

    A value that is missing is blank, as in the systems that Liquid comes from; to python-liquid it is nil and nothing else.
    """
    pieces: list[str] = []
    end = 0
    for token in syntax.tokens(source):
        written = html.unescape(token.source)
        if token.is_block and "blank" in written:
            written = _IS_BLANK.sub(r"\1 == blank or \1 == nil", _NOT_BLANK.sub(r"\1 != blank and \1 != nil", written))
        pieces.extend((source[end : token.span.start], written))
        end = token.span.end
    return "".join(pieces) + source[end:]
