"""A syntax as somebody describes it: checked, read from a TOML file, told in a table, tried on a line."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from jetwind.core.errors import Unusable
from jetwind.core.fields.shapes import tokens
from jetwind.core.fields.syntax import LIQUID, BlockWords, FieldToken, Syntax
from jetwind.core.source.plain import NotToml, toml

#: Characters of one mark, words of one list, characters of a word.
LONGEST_MARK, MOST_WORDS, LONGEST_WORD = 8, 6, 20
_KEYS = {"name", "open", "close", "default", "block-open", "block-close", "if", "else", "end", "comment-open", "comment-close", "escapes"}


class UnusableSyntax(Unusable):
    """A description that makes no syntax; the text is one sentence that names what is wrong, ``key`` the entry."""

    def __init__(self, key: str, sentence: str) -> None:
        super().__init__(sentence)
        self.key = key


def described(data: Mapping[str, object]) -> Syntax:
    """The syntax of a description: ``name``, the marks ``open`` and ``close``, and as far as there are any ``default``, ``block-open``,
    ``block-close``, lists of the words ``if``, ``else`` and ``end``, ``comment-open``, ``comment-close``, and ``escapes``.

    Raises:
        UnusableSyntax: an entry is missing, unknown, or no mark or word.
    """
    for key in data:
        if key not in _KEYS:
            raise UnusableSyntax(key, f"“{key}” is nothing that a syntax has")
    name = str(data.get("name") or "").strip()
    if not name or len(name) > 40:
        raise UnusableSyntax("name", "a syntax has a name of 1 to 40 characters")
    opening, closing = _mark(data, "open"), _mark(data, "close")
    if not opening or not closing:
        raise UnusableSyntax("open" if not opening else "close", "a field has a mark before it and one after it")
    opens, goes_on, ends = _words(data, "if"), _words(data, "else"), _words(data, "end")
    if (opens or goes_on) and not ends:
        raise UnusableSyntax("end", "what opens a block needs a word that ends it")
    twice = {*opens} & {*goes_on} | {*opens} & {*ends} | {*goes_on} & {*ends}
    if twice:
        raise UnusableSyntax("end", f"“{min(twice)}” cannot both open a block and end it")
    block_open, block_close = _mark(data, "block-open") or opening, _mark(data, "block-close") or closing
    comment_open, comment_close = _mark(data, "comment-open"), _mark(data, "comment-close")
    if bool(comment_open) != bool(comment_close):
        raise UnusableSyntax("comment-close" if comment_open else "comment-open", "a comment has a mark before it and one after it")
    default = _mark(data, "default", may_have_letters=True)
    return Syntax(
        name,
        opening,
        closing,
        block_open,
        block_close,
        default_mark=default,
        words=BlockWords(opens, goes_on, ends),
        comment_open=comment_open,
        comment_close=comment_close,
        grammar="marks",
        escapes=bool(data.get("escapes", False)),
    )


def from_toml(text: str) -> Syntax:
    """The syntax that a TOML file describes (TOML 1.0).

    Raises:
        UnusableSyntax: it is no TOML, or describes no syntax.
    """
    try:
        data = toml(text)
    except NotToml as fault:
        raise UnusableSyntax("", f"it is no TOML: {fault}") from fault
    return described(data)


def as_description(syntax: Syntax) -> dict[str, object]:
    """The entries of ``described``, for a syntax of marks."""
    texts = {
        "name": syntax.name,
        "open": syntax.open_mark,
        "close": syntax.close_mark,
        "default": syntax.default_mark,
        "block-open": syntax.block_open,
        "block-close": syntax.block_close,
        "comment-open": syntax.comment_open,
        "comment-close": syntax.comment_close,
    }
    words = {"if": syntax.words.opens, "else": syntax.words.goes_on, "end": syntax.words.ends}
    return {
        **{key: value for key, value in texts.items() if value},
        **{key: list(value) for key, value in words.items() if value},
        "escapes": syntax.escapes,
    }


def _mark(data: Mapping[str, object], key: str, *, may_have_letters: bool = False) -> str:
    mark = data.get(key, "")
    if not isinstance(mark, str):
        raise UnusableSyntax(key, f"“{key}” is a mark in quotes")
    mark = mark.strip()
    if len(mark) > LONGEST_MARK * (2 if may_have_letters else 1):
        raise UnusableSyntax(key, f"“{mark}” is longer than {LONGEST_MARK} characters")
    if any(not char.isprintable() or (not may_have_letters and (char.isalnum() or char.isspace() or char == "_")) for char in mark):
        raise UnusableSyntax(key, f"“{mark}” has a letter, a digit or white space in it, which are what a field's name is made of")
    if not may_have_letters and mark in ("<", ">", "&", '"', "'", "/", ";", "=", ".", ",", "-"):
        raise UnusableSyntax(key, f"“{mark}” alone stands everywhere in HTML and in copy; a mark of a field is more than that")
    return mark


def _words(data: Mapping[str, object], key: str) -> tuple[str, ...]:
    given = data.get(key, [])
    if isinstance(given, str):
        given = given.split()
    if not isinstance(given, list) or not all(isinstance(word, str) for word in given):
        raise UnusableSyntax(key, f"“{key}” is a list of words")
    words = tuple(dict.fromkeys(word.strip().lower() for word in given if word.strip()))
    if len(words) > MOST_WORDS:
        raise UnusableSyntax(key, f"“{key}” has more than {MOST_WORDS} words")
    for word in words:
        if len(word) > LONGEST_WORD or any(char.isspace() or not char.isprintable() for char in word):
            raise UnusableSyntax(key, f"“{word}” is no word of up to {LONGEST_WORD} characters")
    return words


@dataclass(frozen=True, slots=True)
class Understood:
    """A stretch of a line and what it is read as: ``text``, ``field``, ``block``, ``comment``, ``broken`` or ``another syntax``."""

    source: str
    kind: str
    name: str = ""
    default: str | None = None


def tried(line: str, syntax: Syntax) -> list[Understood]:
    """A line in pieces, each with what it is read as."""
    found: list[Understood] = []
    end = 0
    for token in tokens(line, syntax):
        if line[end : token.span.start]:
            found.append(Understood(line[end : token.span.start], "text"))
        found.append(_understood(token, syntax))
        end = token.span.end
    if line[end:]:
        found.append(Understood(line[end:], "text"))
    return found


def _understood(token: FieldToken, syntax: Syntax) -> Understood:
    if token.is_foreign:
        return Understood(token.source, "another syntax")
    if token.is_literal:
        return Understood(token.source, "text")
    if token.word == "comment":
        return Understood(token.source, "comment")
    if token.is_block:
        turn = syntax.turn(token)
        return Understood(token.source, "block" if turn else "broken", f"{token.word} {token.rest}".strip())
    return Understood(token.source, "field" if token.name else "broken", token.name or "", token.default)


def guess(texts: Sequence[str], syntaxes: Sequence[Syntax], known: frozenset[str] = frozenset()) -> Syntax:
    """Which of some syntaxes a message is written in: the one that reads most fields of it, those of the field list before all others.

    Where none reads any, the first. Liquid among them is counted like the others.
    """

    def score(syntax: Syntax) -> tuple[int, int]:
        names: set[str] = set()
        for text in texts:
            names.update(token.name for token in syntax.tokens(text) if token.name)
        listed = {name for name in names if name in known or name.split(".")[0] in known}
        # Where there is a list, a name that is not on it may be any word between brackets.
        return len(listed), len(names) if len(syntax.open_mark) > 1 else 0

    best = max(syntaxes, key=score, default=LIQUID)
    return best if score(best) > (0, 0) else next(iter(syntaxes), LIQUID)
