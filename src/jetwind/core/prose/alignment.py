"""The HTML's text and the plain-text part held against each other, sentence by sentence."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cached_property, partial
from itertools import pairwise
from typing import TYPE_CHECKING

from jetwind.core.markup import Element
from jetwind.core.prose.passages import paragraphs, sentences
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import LIMITS, Span

if TYPE_CHECKING:
    from jetwind.core.message.model import Message

_WORD = re.compile(r"\w+")
#: A line that begins so belongs to no paragraph before it: an item of a list, a rule.
_LIST_ITEM = re.compile(r"[ \t]*[*•>\-–—=_#|+]")
_ADDRESS = re.compile(r"[<(\[]?(?:https?://|www\.|mailto:)\S+", re.IGNORECASE)
#: Below this share of its words in a row, a sentence does not stand on the other side.
LIKE = 0.6
#: Sentences that differ and are still put side by side; the work grows with their square.
MOST_SENTENCES = 1_000


@dataclass(frozen=True)
class Sentence:
    """A sentence of one side: its words, and ``place``, which gives its span and the element it starts in."""

    text: str
    place: Callable[[], tuple[Span | None, Element | None]]
    is_link: bool = False

    @cached_property
    def words(self) -> list[str]:
        """Its words for comparison: no addresses, no case, no marks."""
        return _WORD.findall(_ADDRESS.sub(" ", self.text).casefold().replace("’", "'"))

    @property
    def span(self) -> Span | None:
        """Its place in that side's source."""
        return self.place()[0]

    @property
    def element(self) -> Element | None:
        """The element it starts in; None in plain text."""
        return self.place()[1]


@dataclass(frozen=True, slots=True)
class Pair:
    """One row of the comparison: a sentence on either side, or on one alone; ``likeness`` is 0 to 1."""

    html: Sentence | None
    text: Sentence | None
    likeness: float


def html_sentences(message: Message) -> list[Sentence]:
    """The sentences of the visible copy, in order."""
    if message.document is None:
        return []
    source = message.document.source
    found = []
    for passage in reading_of(message).passages:
        for span in sentences(passage.text):
            place = partial(passage.span, source, span.start, span.end)
            found.append(Sentence(passage.text[span.start : span.end], place, passage.is_link))
    return found


def text_sentences(message: Message) -> list[Sentence]:
    """The sentences of the plain-text part: lines of a paragraph belong together, list items and rules do not."""
    if message.text is None:
        return []
    found = []
    text = message.text.seen
    for paragraph in paragraphs(text, _LIST_ITEM):
        flat = re.sub(r"[\r\n\t]", " ", text[paragraph.start : paragraph.end][: LIMITS.passage_characters])
        for span in sentences(flat):
            words = re.sub(r"\s+", " ", flat[span.start : span.end])
            if _WORD.search(words):
                found.append(Sentence(words, partial(_as_it_is, span.shifted(paragraph.start))))
    return found


def _as_it_is(span: Span) -> tuple[Span | None, Element | None]:
    return span, None


class Shingles:
    """The words of one side in pairs, to ask how much of a sentence stands there in order, wherever it stands."""

    def __init__(self, side: Iterable[Sentence]) -> None:
        words = [word for sentence in side for word in sentence.words]
        self._words = frozenset(words)
        self._pairs = frozenset(pairwise(words))

    def share(self, sentence: Sentence) -> float:
        """The share of the sentence's pairs of words, from 0 to 1, that this side has; 1 for a sentence without words."""
        words = sentence.words
        if not words:
            return 1.0
        if len(words) == 1:
            return float(words[0] in self._words)
        pairs = list(pairwise(words))
        return sum(pair in self._pairs for pair in pairs) / len(pairs)


def missing(side: list[Sentence], other: list[Sentence]) -> list[Sentence]:
    """Sentences of one side that the other lacks."""
    shingles = Shingles(other)
    return [sentence for sentence in side if shingles.share(sentence) < LIKE]


def align(html: list[Sentence], text: list[Sentence]) -> list[Pair]:
    """Both sides in rows: equal sentences face each other, changed ones where they are alike, the rest stand alone."""
    left = [" ".join(sentence.words) for sentence in html]
    right = [" ".join(sentence.words) for sentence in text]
    # What is equal from the start and to the end is most of it as a rule; only what lies between takes the long way.
    first = next((at for at, (one, other) in enumerate(zip(left, right, strict=False)) if one != other), min(len(left), len(right)))
    room = min(len(left), len(right)) - first
    last = next((at for at in range(room) if left[-1 - at] != right[-1 - at]), room)
    rows = [Pair(one, other, 1.0) for one, other in zip(html[:first], text[:first], strict=True)]
    rows += _aligned(
        html[first : len(html) - last], text[first : len(text) - last], left[first : len(left) - last], right[first : len(right) - last]
    )
    rows += [Pair(one, other, 1.0) for one, other in zip(html[len(html) - last :], text[len(text) - last :], strict=True)]
    return rows


def _aligned(html: list[Sentence], text: list[Sentence], left: list[str], right: list[str]) -> list[Pair]:
    """The long way, for so many sentences as anybody reads; the rest of a hostile message stands unpaired."""
    rows: list[Pair] = []
    beyond = [Pair(sentence, None, 0.0) for sentence in html[MOST_SENTENCES:]] + [
        Pair(None, sentence, 0.0) for sentence in text[MOST_SENTENCES:]
    ]
    html, text, left, right = html[:MOST_SENTENCES], text[:MOST_SENTENCES], left[:MOST_SENTENCES], right[:MOST_SENTENCES]
    matcher = difflib.SequenceMatcher(None, left, right, autojunk=False)
    for tag, i1, i2, j1, j2 in matcher.get_opcodes():
        if tag == "equal":
            rows.extend(Pair(html[i], text[j], 1.0) for i, j in zip(range(i1, i2), range(j1, j2), strict=True))
        else:
            rows.extend(_changed(html[i1:i2], text[j1:j2]))
    return rows + beyond


def _changed(html: list[Sentence], text: list[Sentence]) -> list[Pair]:
    """A stretch that differs: each sentence of the HTML takes the likest one that is still to come on the other side."""
    rows: list[Pair] = []
    at = 0
    for sentence in html:
        words = sentence.words
        best: tuple[float, int] = (0.0, -1)
        for index in range(at, min(at + 12, len(text))):
            likeness = _likeness(words, text[index].words)
            if likeness > best[0]:
                best = (likeness, index)
        if best[0] >= LIKE:
            rows.extend(Pair(None, other, 0.0) for other in text[at : best[1]])
            rows.append(Pair(sentence, text[best[1]], best[0]))
            at = best[1] + 1
        else:
            rows.append(Pair(sentence, None, 0.0))
    rows.extend(Pair(None, other, 0.0) for other in text[at:])
    return rows


def _likeness(left: list[str], right: list[str]) -> float:
    matcher: difflib.SequenceMatcher[object] = difflib.SequenceMatcher(None, left, right, autojunk=False)
    return matcher.ratio() if matcher.real_quick_ratio() >= LIKE and matcher.quick_ratio() >= LIKE else 0.0
