"""Tokens of any syntax, told by their shape: a name or an expression between paired or mirrored marks.

Only shapes are known here, never a product's own syntax. A token of a foreign shape is told once, under fields, and is an unknown value
to every other check. Two kinds are told apart. **Code** marks (two or more symbols on either side) are so unlike copy that they are
sought in the raw source too, inside tags, styles and comments. **Word** marks (one symbol, a bracket) are sought in copy and in
attribute values, and those that CSS does not use itself in style sheets, with tight rules: ``50%``, ``[image]``, ``(*terms*)``, Markdown emphasis and percent-encoded octets in an
address are ordinary text. Source: common practice, no published source.
"""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Iterator
from dataclasses import replace
from functools import lru_cache
from itertools import islice

from jetwind.core.facts import phrase_set
from jetwind.core.fields.syntax import FILLER, LIQUID, FieldToken, Syntax
from jetwind.core.source import LIMITS, Span

_NO_NEWLINE = re.compile(r"[^\r\n]")
#: No token is longer: what is not closed by then is no token.
_LONGEST = 2000
_NAME = r"[A-Za-z][A-Za-z0-9]*(?:[_.:-][A-Za-z0-9]+)*"
#: What may stand before a name and makes it a block, a comment, or unescaped; and what may follow it: arguments, a default.
_SIGN = r"\s{0,20}[#/^!=&>~$@-]{0,2}\s{0,20}"


def _between(opening: str, closing: str) -> str:
    """An expression that begins with a name, between marks whose symbols it does not hold itself."""
    without = re.escape("".join(sorted(set(opening + closing))))
    rest = rf"(?:[\s|:,.='\"()?\[-][^{without}\r\n]{{0,120}})?"
    return f"{re.escape(opening)}{_SIGN}{_NAME}{rest}\\s{{0,20}}{re.escape(closing)}"


#: Marks of code. Each alternative is bounded, so that a mark without its partner costs no more than so many characters.
_CODE = re.compile(
    "|".join(
        (
            rf"<%(?:(?!<%|%>).){{0,{_LONGEST}}}%>",
            rf"<\?(?:=|php\b)(?:(?!\?>).){{0,{_LONGEST}}}\?>",
            r"\{\{\{[^{}\r\n]{1,200}\}\}\}",
            r"\{\{[^{}]{1,500}\}\}",
            rf"\{{%(?:(?!\{{%|%\}}).){{0,{_LONGEST}}}%\}}",
            r"[$#@!]{1,2}\{\s{0,20}[A-Za-z_][^{}\r\n]{0,120}\}",
            _between("[[", "]]"),
            r"(?<!<)" + _between("<<", ">>"),
            rf"%%\[(?:(?!%%).){{0,{_LONGEST}}}\]%%",
            r"(?<![\w%])%%=?\s{0,20}[A-Za-z_][^%\r\n]{0,200}%%",
            rf"(?<![\w@#])(?P<twin>@@|##|\$\$){_NAME}(?P=twin)(?![\w@#])",
            r"(?<![\w*|~^_])(?P<pair>\*\*|\|\||~~|\^\^|__)[A-Z][A-Z0-9]*(?:_[A-Z0-9]+)+(?P=pair)(?![\w*|~^_])",
            *(
                _between(bracket + sign, sign + closing)
                for bracket, closing in ("[]", "{}", "<>")
                for sign in "%$#*|~^@="
                if bracket + sign not in ("{%", "<%")
            ),
            *(_between(mark, mark[::-1]) for mark in ("*|", "%|", "#|", "$|", "@|", "|*")),
        )
    ),
    re.DOTALL,
)
#: Each alternative begins with one character, and not with a set of them: then ``re`` passes over all others seven times as fast.
_CODE_MARK = re.compile(
    r"<[%<?$#*|~^@=]|\{[{%$#*|~^@=]|\$\{|#\{|@\{|!\{|\[[\[%$#*|~^@=]|%%|@@|##|\$\$|\*[*|]|\|[|*]|~~|\^\^|__|%\||#\||\$\||@\|"
)
#: Without one of these nothing in a text is token-shaped; most texts of a message have none.
_ANY_SIGN = re.compile(r"[<{\[$#@!%*|~^«]|__")

_WORD = re.compile(
    rf"(?<![{{$#@!%])\{{\s{{0,20}}(?P<brace>\$?{_NAME})\s{{0,20}}\}}(?!\}})"
    rf"|(?<![\w%])%(?P<percent>{_NAME})%(?![\w%])"
    rf"|(?<![\w#&/=?])#(?P<hash>{_NAME})#(?![\w#])"
    r"|(?<!\[)\[(?P<snake>[A-Za-z]+[0-9]*(?:_[A-Za-z0-9]+)+)\](?![\](])"
    r"|(?<![\w\[])\[(?P<capitals>[A-Z][A-Z0-9]*(?:[ -][A-Z0-9]+){0,3})\](?![\](])"
    r"|(?<![\w\[])\[(?P<words>[A-Za-z'’][a-z'’]*(?: [a-z'’]+){1,3})\](?![\](])"
    r"|«(?P<quotes>[A-Za-z]+(?:_[A-Za-z0-9]+)+)»"
)
_NOTHING_OR_UNIT = r"(?:(?![\w#%-])|(?=(?:px|pt|r?em)\b))"
#: Word marks in a style sheet, where braces and brackets are its own: what stands in a comment is passed over, an address is read as one.
_SHEET = re.compile(
    r"/\*(?:[^*]|\*(?!/))*(?:\*/|\Z)"
    r"|(?i:url)\((?P<address>[^)]*)\)?"
    rf"|(?<![\w%])%(?P<percent>{_NAME})%{_NOTHING_OR_UNIT}"
    rf"|(?<![\w#&/=?])#(?P<hash>{_NAME})#{_NOTHING_OR_UNIT}"
)
_WORD_MARK = re.compile(r"[{%#\[«]")
_OCTET = re.compile(r"[0-9A-Fa-f]{2}")
#: What makes a token code that decides, repeats or ends, rather than a value.
_BLOCK = re.compile(
    r"[#/^!]|(?:else|elseif|elsif|elif|end|endif|endfor|endunless|if|ifelse|unless|for|foreach|each|while|switch|case|when|loop|set|var|include|end[a-z]+)\b",
    re.IGNORECASE,
)


_ONE_NAME = re.compile(rf"<%\s*({_NAME})\s*%>")


def foreign_tokens(text: str, *, in_source: bool = False, in_address: bool = False) -> Iterator[FieldToken]:
    """Everything token-shaped in ``text``, in order and without overlap.

    ``in_source`` reads raw HTML, where only marks of code count. ``in_address`` reads a URL, where ``%`` before two hexadecimal
    digits is an octet (RFC 3986 §2.1).
    """
    found: list[tuple[int, int]] = []
    if _CODE_MARK.search(text):
        found.extend(match.span() for match in _CODE.finditer(text))
    if not in_source and _WORD_MARK.search(text):
        found.extend(match.span() for match in _WORD.finditer(text) if _is_word_token(match, in_address=in_address))
    end = -1
    for start, stop in sorted(found, key=lambda span: (span[0], -span[1])):
        if start >= end:
            source = text[start:stop]
            yield FieldToken(Span(start, stop), source, None, None, is_block=_is_block(source), is_foreign=True)
            end = stop


def sheet_tokens(css: str) -> Iterator[FieldToken]:
    """Tokens of word marks in a style sheet, in order: ``#ground_colour#``, ``%card_width%px``; an id is no token, nor is a percentage."""
    for match in _SHEET.finditer(css) if "%" in css or "#" in css else ():
        if (address := match["address"]) is not None:
            found = [item.span() for item in _WORD.finditer(address) if _is_word_token(item, in_address=True)]
            places = [(match.start("address") + start, match.start("address") + end) for start, end in found]
        elif match["percent"] is not None or match["hash"] is not None:
            name = match["hash"]
            # In CSS a name between two marks is nothing else; only a colour with an id behind it looks like one.
            places = [match.span()] if name is None or (len(name) >= 2 and not re.fullmatch(r"[0-9A-Fa-f]{3,8}", name)) else []
        else:
            continue
        for start, end in places:
            yield FieldToken(Span(start, end), css[start:end], None, None, is_block=False, is_foreign=True)


def _is_word_token(match: re.Match[str], *, in_address: bool) -> bool:
    name = match["percent"]
    if name is not None:
        return len(name) >= 3 and not (in_address and _OCTET.match(name))
    if match["hash"] is not None:
        # Two topics beside each other look alike in copy; a field has an underscore, a point, or capitals.
        name = match["hash"]
        return len(name) >= 2 and (name.isupper() or bool(re.search(r"[_.]", name))) and not re.fullmatch(r"[0-9A-Fa-f]{3,8}", name)
    if match["capitals"] is not None:
        words = re.split(r"[ -]", match["capitals"].lower())
        return not phrase_set("fields", "bracket_label_words") & set(words) and bool(phrase_set("fields", "field_words") & set(words))
    if match["words"] is not None:
        words = match["words"].lower().replace("’", "'").split(" ")
        asks = words[0] in phrase_set("fields", "instruction_words")
        if asks and words[-1] == "here":
            return False  # "[add address here]" asks the author, and is told as sample text
        stands_in = words[0] in phrase_set("fields", "owner_words") and (
            words[-1] == "here" or bool(phrase_set("fields", "field_words") & set(words))
        )
        named = words[-1] == "here" and bool(phrase_set("fields", "field_words") & set(words))
        return (asks and bool(phrase_set("fields", "field_words") & set(words[1:]))) or stands_in or named
    return True


def _is_block(source: str) -> bool:
    """Whether a token is code that draws nothing itself."""
    if source.startswith(("<%=", "<%-", "<?=", "%%=", "${", "$!{", "#{", "@{", "!{")) and not source.startswith("<%--"):
        return False
    if (one := _ONE_NAME.fullmatch(source)) is not None:
        return _BLOCK.match(one[1]) is not None
    if source.startswith(("<%", "<?", "%%[", "{%")):
        return True
    inner = source.lstrip("[{<(%$#*|~^@=").lstrip() if not re.match(r"[\[{<]+#", source) else "#"
    if source.startswith(("{{", "[[", "<<")):
        inner = source[2:].lstrip("{").lstrip()
    return _BLOCK.match(inner) is not None


def tokens(text: str, syntax: Syntax, *, in_source: bool = False, in_address: bool = False) -> list[FieldToken]:
    """Fields and block tags of the message's own syntax and tokens of any other, in order and without overlap."""
    own = list(islice(syntax.tokens(text), LIMITS.tokens))
    if not own and not _ANY_SIGN.search(text):
        return own
    rest = blanked(text, own) if own else text
    if len(own) >= LIMITS.tokens:
        # What lies beyond the limit was not read: its fields are of no known syntax, and not of a foreign one.
        rest = rest[: own[-1].span.end]
    foreign = list(islice(foreign_tokens(rest, in_source=in_source, in_address=in_address), LIMITS.tokens))
    if own and foreign:
        # What reaches over a field of the message's own syntax is no token beside it.
        starts = [token.span.start for token in own]
        foreign = [token for token in foreign if bisect_left(starts, token.span.start) == bisect_left(starts, token.span.end)]
    return sorted((*own, *foreign), key=lambda token: token.span.start) if foreign else own


_SHEET_TAG = re.compile(r"<(/?)style(?=[\s/>])[^<>]*>", re.IGNORECASE)


def source_tokens(text: str, syntax: Syntax) -> list[FieldToken]:
    """Tokens of code marks anywhere in raw HTML, and those of word marks in its style elements, in conditional comments too."""
    found = tokens(text, syntax, in_source=True)
    if "%" not in text and "#" not in text:
        return found
    rest = blanked(text, found) if found else text
    weak: list[FieldToken] = []
    opened: int | None = None
    for tag in _SHEET_TAG.finditer(rest):
        if tag[1] and opened is not None:
            for token in islice(sheet_tokens(rest[opened : tag.start()]), LIMITS.tokens - len(weak)):
                weak.append(replace(token, span=Span(opened + token.span.start, opened + token.span.end)))
            opened = None
        elif not tag[1] and opened is None:
            opened = tag.end()
    return sorted((*found, *weak), key=lambda token: token.span.start)[: LIMITS.tokens] if weak else found


def opaque(text: str, syntax: Syntax, *, in_address: bool = False) -> str:
    """Copy, or the value of an attribute, with every token of any shape as filler."""
    found = tokens(text, syntax, in_address=in_address)
    return blanked(text, found) if found else text


def without_blocks(text: str, syntax: Syntax) -> str:
    """Copy with block tags of any syntax as spaces, which is what a reader gets of them; fields stay as they are written."""
    found = [token for token in tokens(text, syntax) if token.is_block]
    return blanked(text, found) if found else text


def blanked(text: str, found: list[FieldToken]) -> str:
    """A text with these tokens of it as filler of the same length, so that offsets stay true.

    A field becomes private-use characters (it stands for unknown text); a block tag becomes spaces, because between
    table rows any other character would be moved out of the table (HTML §13.2.6.1, foster parenting). Newlines stay.
    """
    pieces, end = [], 0
    for token in found:
        pieces.append(text[end : token.span.start])
        pieces.append(_NO_NEWLINE.sub(" " if token.is_block else FILLER, token.source))
        end = token.span.end
    return "".join(pieces) + text[end:]


def unclosed(text: str, syntax: Syntax = LIQUID) -> Iterator[Span]:
    """Opening marks of a syntax that nothing closes, with the words behind them, and closing marks with a name before them that
    nothing opened. ``text`` has its tokens as filler."""
    if len(syntax.open_mark) < 2:
        return
    opening, closing = _loose_marks(syntax)
    for match in opening.finditer(text):
        yield Span(match.start(), match.end())
    if syntax.close_mark in text:
        for match in closing.finditer(text):
            if text.rfind("{", max(0, match.start() - 200), match.start()) <= text.rfind("}", max(0, match.start() - 200), match.start()):
                yield Span(match.start(), match.end())


@lru_cache(maxsize=32)
def _loose_marks(syntax: Syntax) -> tuple[re.Pattern[str], re.Pattern[str]]:
    marks = "|".join(re.escape(mark) for mark in dict.fromkeys((syntax.open_mark, syntax.block_open)))
    own = "".join(sorted({*syntax.open_mark, *syntax.close_mark}))
    opening = re.compile(rf"(?:{marks})[^<>\r\n{re.escape(own)}]{{0,40}}")
    closing = re.compile(
        rf"(?<![\w.\-{re.escape(own)}])[A-Za-z_][\w.-]{{1,40}}\s?{re.escape(syntax.close_mark)}(?!{re.escape(syntax.close_mark[0])})"
    )
    return opening, closing
