"""The texts that come of a message's fields for all sample readers: where nothing comes, which holes show, which text is never shown.

Each text is merged once for each outcome that differs, and looked at once; several checks and the station Fields ask for what was found.
"""

from __future__ import annotations

import hashlib
import html
import re
from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field

from jetwind.core.checking.field_texts import FieldText, Use, field_texts, uses
from jetwind.core.fields import FieldToken, Merged, Part, Piece, merging_each, metered, past_limit, structure
from jetwind.core.message import Message, Sample, Shared
from jetwind.core.source import Span

_MERGED: Shared[MergedFacts] = Shared("merged")
_PAST_LIMIT: Shared[str] = Shared("past limit")

#: Characters of all merged texts together; a text that would go beyond is merged for the readers before that.
MOST_CHARACTERS = 60_000_000
#: What filters and loops may make of one text for all readers together (``fields.metering``).
MOST_SPENT = 10_000_000
#: Fields and block tags that are filled for all readers together: a newsletter has a hundred, for five hundred readers.
MOST_FILLED = 60_000
#: Characters on either side of a place that are looked at.
_AROUND = 120
_BREAKS = re.compile(
    r"<!--.*?-->|</?(?:p|div|td|th|tr|table|tbody|h[1-6]|li|ul|ol|br|hr|body|center|section|article|header|footer|blockquote|pre)\b[^>]*>",
    re.IGNORECASE | re.DOTALL,
)
_TAG = re.compile(r"<[^>]*>")


@dataclass(frozen=True)
class Brought:
    """The text that a field brought for some readers: ``made`` is its text as it stands in the merged one, ``around`` what stands about it."""

    use: Use
    made: str
    readers: tuple[str, ...]
    around: tuple[str, str]

    @property
    def evidence(self) -> str:
        """The words about it with what it brought in their midst."""
        return excerpt(self.around[0], self.made, self.around[1])


@dataclass(frozen=True)
class Hole:
    """A place where something fell away for some readers, and what is left about it."""

    text: FieldText
    at: FieldToken
    use: Use | None
    readers: tuple[str, ...]
    around: tuple[str, str]
    evidence: str


@dataclass
class MergedFacts:
    """The texts that were found. ``left_out`` counts readers for whom a text was not merged, since there were too many for its length.

    ``untraced`` names texts that could be merged but not led back, ``too_costly`` those that pass a limit of filling.
    """

    empty: list[Brought] = field(default_factory=list)
    brought: list[Brought] = field(default_factory=list)
    holes: list[Hole] = field(default_factory=list)
    unseen: list[tuple[FieldText, Part]] = field(default_factory=list)
    parts: list[tuple[FieldText, int, Part, tuple[str, ...]]] = field(default_factory=list)
    copies: dict[str, list[tuple[str, tuple[str, ...]]]] = field(default_factory=dict)
    untraced: list[str] = field(default_factory=list)
    too_costly: list[str] = field(default_factory=list)
    left_out: int = 0


def merged_facts(message: Message, readers: Sequence[Sample]) -> MergedFacts:
    """The text that the sample readers get of each text with fields."""
    digest = hashlib.sha256(repr([(reader.name, sorted(reader.values.items())) for reader in readers]).encode("utf-8", "surrogatepass"))
    return message.shared(_MERGED.of(digest.hexdigest()), lambda: _gathered(message, readers))


#: Loops over a reader's own values differ from reader to reader; a few show whether they run away.
_TRIED = 2


def past_limit_of(message: Message, text: FieldText, readers: Sequence[Sample]) -> str:
    """Which limit of filling a text passes for nobody or for one of the first readers; empty where it passes none. Found out once."""
    rows = ({}, *(reader.values for reader in readers[:_TRIED]))
    digest = hashlib.sha256(repr([sorted(row.items()) for row in rows]).encode("utf-8", "surrogatepass")).hexdigest()

    def tried() -> str:
        return next((why for row in rows if (why := past_limit(text.text, row, syntax=message.syntax))), "")

    return message.shared(_PAST_LIMIT.of(f"{id(text)} {digest}"), tried)


def named(readers: Sequence[str], most: int = 3) -> str:
    """Readers in words: the first few by name, the others by number."""
    first = ", ".join(readers[:most])
    more = len(readers) - most
    return f"{first} and {more} other{'s' if more > 1 else ''}" if more > 0 else first


def excerpt(before: str, made: str, after: str, most: int = 36) -> str:
    """The end of what stands before, the midst, the beginning of what follows, on one line, cut between words."""
    head, tail = before[-most:], after[:most]
    if len(before) > most:
        head = "… " + (head.partition(" ")[2] or head)
    if len(after) > most:
        tail = (tail.rpartition(" ")[0] or tail) + " …"
    return " ".join(f"{head}{made[:80]}{'…' if len(made) > 80 else ''}{tail}".split())


def _gathered(message: Message, readers: Sequence[Sample]) -> MergedFacts:
    found = MergedFacts()
    by_place = {(id(use.text), use.token.span.start): use for use in uses(message)}
    rows = [reader.values for reader in readers]
    left, filled = MOST_CHARACTERS, 0
    for text in field_texts(message):
        if past_limit_of(message, text, readers):
            found.too_costly.append(text.where)
            continue
        groups: dict[int, tuple[Merged, list[str]]] = {}
        escape = text.is_html and message.syntax.escapes
        with metered() as meter:
            each = merging_each(text.text, rows, escape=escape, syntax=message.syntax)
            for number, (reader, merged) in enumerate(zip(readers, each, strict=True), 1):
                if id(merged) not in groups:
                    left -= len(merged.text)
                    filled += len(text.tokens)
                groups.setdefault(id(merged), (merged, []))[1].append(reader.name)
                if number < len(rows) and (meter.spent > MOST_SPENT or left < 0 or filled > MOST_FILLED):
                    found.left_out = max(found.left_out, len(rows) - number)
                    break
        _look_at(found, message, text, list(groups.values()), by_place)
    return found


def _look_at(
    found: MergedFacts, message: Message, text: FieldText, groups: list[tuple[Merged, list[str]]], by_place: dict[tuple[int, int], Use]
) -> None:
    empty: dict[tuple[int, tuple[str, str]], list[str]] = defaultdict(list)
    brought: dict[tuple[int, str], tuple[tuple[str, str], list[str]]] = {}
    holes: dict[tuple[int, tuple[str, str], str], list[str]] = defaultdict(list)
    seen: dict[int, list[str]] = defaultdict(list)
    for merged, names in groups:
        if not merged.pieces and merged.text:
            if text.where not in found.untraced:
                found.untraced.append(text.where)
            continue
        for piece in merged.empty:
            empty[piece.source.start, _around(merged, piece, text)].extend(names)
            seen[piece.source.start].extend(names)
        for start in {piece.source.start for piece in merged.pieces}:
            seen[start].extend(names)
        for piece in merged.pieces:
            if piece.token is not None and piece.token.name is not None:
                made = merged.text[piece.start : piece.end]
                entry = brought.get((piece.source.start, made))
                if entry is None:
                    brought[piece.source.start, made] = entry = (_around(merged, piece, text), [])
                entry[1].extend(names)
        for at, around, evidence in _gaps(merged, text):
            holes[at, around, evidence].extend(names)
    tokens_at = {token.span.start: token for token in text.tokens}
    # Of a text with very many fields the first are looked at (``appearance.limits`` says so), while all of them are filled.
    for (start, around), readers in empty.items():
        if (use := by_place.get((id(text), start))) is not None:
            found.empty.append(Brought(use, "", tuple(dict.fromkeys(readers)), around))
    for (start, made), (around, readers) in brought.items():
        if (use := by_place.get((id(text), start))) is not None:
            found.brought.append(Brought(use, made, tuple(dict.fromkeys(readers)), around))
    for (start, around, evidence), readers in holes.items():
        if start not in tokens_at:
            continue
        use = by_place.get((id(text), start))
        found.holes.append(Hole(text, tokens_at[start], use=use, readers=tuple(dict.fromkeys(readers)), around=around, evidence=evidence))
    if text.where not in found.untraced and groups:
        _parts_of(found, message, text, seen)
    found.copies[text.where] = [(merged.text, tuple(names)) for merged, names in groups] if not text.is_html else []


def _parts_of(found: MergedFacts, message: Message, text: FieldText, seen: dict[int, list[str]]) -> None:
    """Who is shown which part of which block."""
    starts = sorted(seen)
    blocks = structure(text.tokens, message.syntax)
    if blocks.misplaced:
        return
    for depth, block in blocks.walk():
        if not block.decides:
            continue
        for number, part in enumerate(block.parts):
            if not text.text[part.body.start : part.body.end].strip() or (number == 0 and part.token.word == "case"):
                continue
            shown = starts[bisect_left(starts, part.body.start) : bisect_left(starts, part.body.end)]
            readers = tuple(dict.fromkeys(name for start in shown for name in seen[start]))
            found.parts.append((text, depth, part, readers))
            if not readers:
                found.unseen.append((text, part))


def _around(merged: Merged, piece: Piece, text: FieldText) -> tuple[str, str]:
    """The characters that a reader sees on the line before and after a piece."""
    return _windows(merged.text, piece.start, piece.end, is_html=text.is_html)


def _windows(text: str, start: int, end: int, *, is_html: bool) -> tuple[str, str]:
    before, after = text[max(0, start - _AROUND) : start], text[end : end + _AROUND]
    if not is_html:
        return before.rpartition("\n")[2], after.partition("\n")[0]
    if before.rfind("<") > before.rfind(">"):
        # Inside a tag: the value that it stands in.
        return before[before.rfind("<") :], after.partition(">")[0]
    before = before.partition(">")[2] if before.find(">") < before.find("<") or ("<" not in before and ">" in before) else before
    before = _BREAKS.split(before)[-1]
    after = _BREAKS.split(after)[0]
    return html.unescape(_TAG.sub("", before)), html.unescape(re.sub(r"<[^>]*\Z", "", _TAG.sub("", after)))


_STOPS = ",!?;:."
_TALL = "!?;:"
_PAIRS = {"(": ")", "“": "”", '"': '"', "«": "»", "[": "]", "‘": "’", "„": "“"}
#: Greetings that need somebody behind them. Common practice, no published source.
_NEEDS_NAME = frozenset(
    [
        "dear",
        "liebe",
        "lieber",
        "chère",
        "cher",
        "querida",
        "querido",
        "estimado",
        "estimada",
        "caro",
        "cara",
        "beste",
        "geachte",
        "drogi",
        "droga",
        "kära",
        "kjære",
        "уважаемый",
        "уважаемая",
    ]
)


def _gaps(merged: Merged, text: FieldText) -> Iterator[tuple[int, tuple[str, str], str]]:
    """Places where something fell away and the words about it show it: the token's start, what stands about it, and the words."""
    for token, start, end in _gone(merged, text):
        if text.is_html and merged.text[max(0, start - _AROUND) : start].rfind("<") > merged.text[max(0, start - _AROUND) : start].rfind(
            ">"
        ):
            continue
        before, after = _windows(merged.text, start, end, is_html=text.is_html)
        if shows_hole(before, after, collapses=text.is_html):
            yield token.span.start, (before, after), excerpt(before, "", after)


def _gone(merged: Merged, text: FieldText) -> Iterator[tuple[FieldToken, int, int]]:
    """Fields that brought nothing or white space, and blocks that brought nothing, with where that is in the merged text."""
    for piece in merged.empty:
        if piece.token is not None:
            yield piece.token, piece.start, piece.start
    blocks = [token for token in text.tokens if token.is_block and not token.is_foreign]
    number = 0
    last_end = 0
    for piece in (*merged.pieces, Piece(len(merged.text), len(merged.text), Span(len(text.text), len(text.text)), None)):
        if piece.token is not None and piece.token.name is not None and not merged.text[piece.start : piece.end].strip():
            yield piece.token, piece.start, piece.end
        while number < len(blocks) and blocks[number].span.start < last_end:
            number += 1
        left_out = Span(last_end, piece.source.start) if piece.source.start > last_end else None
        if (
            left_out is not None
            and number < len(blocks)
            and blocks[number].span.end <= left_out.end
            and _holds_words(text.text, left_out, blocks, number)
        ):
            yield blocks[number], piece.start, piece.start
        last_end = max(last_end, piece.source.end)


def _holds_words(source: str, span: Span, blocks: Sequence[FieldToken], number: int) -> bool:
    """Whether a stretch that was left out holds more than block tags and white space; ``number`` is that of its first block tag."""
    at = span.start
    while number < len(blocks) and blocks[number].span.end <= span.end:
        if source[at : blocks[number].span.start].strip():
            return True
        at = blocks[number].span.end
        number += 1
    return bool(source[at : span.end].strip())


def shows_hole(before: str, after: str, *, collapses: bool) -> bool:
    """Whether the words before and after a place show that something is lacking between them.

    ``collapses``: white space of any length is one space, as in HTML; then two spaces are not seen.
    """
    word, rest = before.rstrip(), after.lstrip()
    has_space_before, has_space_after = word != before, rest != after
    if not word and not rest:
        return False
    if rest[:1] and rest[0] in _STOPS and not rest.startswith("...") and not re.match(r"\.\w", rest):
        if not word:
            return not has_space_after
        # French sets a space before a tall mark, and two of them are a hole.
        spaces = (len(before) - len(word)) + (len(after) - len(rest))
        if (
            has_space_before
            and (word[-1].isalnum() or word[-1] in ')”"’')
            and (rest[0] not in _TALL or spaces != 1 or not _is_french(word))
        ):
            return True
    if re.match(r"[’']s\b", rest) and not has_space_after and (has_space_before or not word):
        return True
    if word and rest and word[-1] in _PAIRS and rest[0] == _PAIRS[word[-1]]:
        return True
    if not rest and word.split()[-1].lower() in _NEEDS_NAME and len(word.split()) <= 3:
        return True
    if not word or not rest or collapses:
        return False
    return has_space_before and has_space_after and before[-1] == " " and after[0] == " "


_FRENCH = re.compile(r"\b(?:bonjour|bonsoir|salut|cher|chère|merci|bienvenue|vous|votre|nous|notre|les?|la|des?|est)\b", re.IGNORECASE)


def _is_french(text: str) -> bool:
    return _FRENCH.search(text) is not None
