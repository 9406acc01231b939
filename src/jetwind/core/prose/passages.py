"""Copy in passages: the text of one block as it is read, with the way back to the source for every character."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache

from jetwind.core.markup import Element, TextRun, source_span
from jetwind.core.source import LIMITS, SourceText, Span

_SPACE = re.compile(r"[ \t\r\n\f\v\u00a0]+")
#: Invisible padding: no character of it is read.
PADDING = re.compile("[\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180e\u200b-\u200f\u2028-\u202e\u2060-\u206f\u3164\ufeff\uffa0]+")
_JOINED = re.compile("(?<=[\u2600-\u27bf\ufe0f\U0001f000-\U0001faff])\u200d(?=[\u2600-\u27bf\U0001f000-\U0001faff])")
_KEPT = "\ufdd0"
_DROPPED = re.compile(f"{PADDING.pattern}|{_SPACE.pattern}")

_WORD = re.compile(r"[^\W\d_]+(?:['’ʼ][^\W\d_]+)*")
#: Ends of sentences, with closing quotes and brackets, before a space.
_SENTENCE_END = re.compile(r"(?<![.!?…])[.!?…]+[\"'”’»)\]]*(?=\s)")
#: A full stop after one of these ends no sentence.
_ABBREVIATION = re.compile(
    r"(?:\b(?:[A-Za-z]|Mr|Mrs|Ms|Dr|Prof|St|No|Nos|approx|incl|etc|vs|e\.g|i\.e|ca|ggf|bzw|Nr|Str|Tel|Jan|Feb|Mar|Apr|Jun|Jul|Aug|Sept?|Oct|Nov|Dec|Mon|Tue|Wed|Thu|Fri|Sat|Sun|a\.m|p\.m|z\.B|d\.h))\.\Z"
)


@dataclass(frozen=True, slots=True)
class _Stretch:
    """Characters of a passage from ``start`` on that come from ``run``, read as ``text``, whose first ``skip`` characters gave none."""

    start: int
    run: TextRun
    text: str
    skip: int


@dataclass
class Passage:
    """The words of one block, white space collapsed. ``link`` is the link that holds all of it, if one does."""

    text: str = ""
    stretches: list[_Stretch] = field(default_factory=list)
    links: set[int] = field(default_factory=set)
    unlinked: bool = False
    #: Whether it is longer than what is looked at.
    is_cut: bool = False

    @property
    def element(self) -> Element:
        """The element of its first characters."""
        return self.stretches[0].run.parent

    def add(self, run: TextRun, shown: str, link: Element | None) -> None:
        """Take a run's characters in; ``shown`` are those that a reader gets, one for each of the run's own."""
        room = LIMITS.passage_characters - len(self.text)
        if room <= 0 or len(shown) > 4 * LIMITS.passage_characters:
            self.is_cut, shown = True, shown[: 4 * LIMITS.passage_characters]
        if room <= 0:
            return
        text, skip = collapse(shown), 0
        if text.startswith(" ") and (not self.text or self.text.endswith(" ")):
            text, skip = text[1:], 1
        if len(text) > room:
            self.is_cut, text = True, text[:room]
        if not text:
            return
        self.stretches.append(_Stretch(len(self.text), run, shown, skip))
        self.text += text
        if link is not None:
            self.links.add(link.index)
        elif text.strip():
            self.unlinked = True

    @property
    def is_link(self) -> bool:
        """Whether all its words belong to one link."""
        return len(self.links) == 1 and not self.unlinked

    def span(self, source: SourceText, start: int, end: int) -> tuple[Span | None, Element]:
        """The source span of characters ``start`` to ``end`` of the text, and the element they start in."""
        first = self._stretch(start)
        last = self._stretch(max(end - 1, start))
        begin = _back(source, first, start, start + 1)
        finish = _back(source, last, max(end - 1, start), end)
        if begin is None or finish is None or finish.end < begin.start:
            return begin or first.run.parent.start_tag, first.run.parent
        return Span(begin.start, finish.end), first.run.parent

    def _stretch(self, at: int) -> _Stretch:
        return self.stretches[max(0, bisect_right(self.stretches, at, key=lambda stretch: stretch.start) - 1)]


_LINE = re.compile(r"[^\r\n]+")


def paragraphs(text: str, begins: re.Pattern[str] | None = None) -> Iterator[Span]:
    """Stretches of lines with no empty line between them; a line at which ``begins`` matches starts a stretch of its own."""
    start = end = -1
    for line in _LINE.finditer(text):
        if not line[0].strip():
            continue
        follows = end >= 0 and text[end : line.start()] in ("\r\n", "\r", "\n") and not (begins and begins.match(line[0]))
        if not follows and end >= 0:
            yield Span(start, end)
        start, end = (start if follows else line.start()), line.end()
    if end >= 0:
        yield Span(start, end)


def collapse(text: str) -> str:
    """White space of any length to one space, invisible padding dropped; joiners inside emoji stay."""
    if text.isascii():
        return _SPACE.sub(" ", text)
    # A noncharacter keeps the place of a joiner meanwhile; no text may hold one (Unicode §23.7).
    kept = _JOINED.sub(_KEPT, text.replace(_KEPT, "\ufffd"))
    return _SPACE.sub(" ", PADDING.sub("", kept)).replace(_KEPT, "\u200d")


def _back(source: SourceText, stretch: _Stretch, start: int, end: int) -> Span | None:
    run = stretch.run
    if run.span is None:
        return None
    places = _places(stretch.text)
    first = start - stretch.start + stretch.skip
    last = end - stretch.start + stretch.skip
    if first >= len(places) - 1:
        return Span(run.span.end, run.span.end)
    return source_span(source.slice(run.span), run.span, places[first], places[min(last, len(places) - 1) - 1] + 1)


@lru_cache(maxsize=32)
def _places(text: str) -> list[int]:
    """For each character that ``collapse`` leaves, where it stood; at the end, the length."""
    joiners = {match.start() for match in _JOINED.finditer(text)}
    places: list[int] = []
    at = 0
    for match in _DROPPED.finditer(text):
        places.extend(range(at, match.start()))
        for index in range(match.start(), match.end()):
            if index in joiners:
                places.append(index)
        if _SPACE.match(match[0]):
            places.append(match.start())
        at = match.end()
    places.extend(range(at, len(text) + 1))
    return places


def sentences(text: str) -> Iterator[Span]:
    """The sentences of a passage: parted after a full stop, question or exclamation mark that stands before white space."""
    start = 0
    for match in _SENTENCE_END.finditer(text):
        if match[0] == "." and _ABBREVIATION.search(text[max(0, match.end() - 12) : match.end()]):
            continue
        if text[match.end() : match.end() + 40].lstrip()[:1].islower():
            continue
        yield from _trimmed(text, start, match.end())
        start = match.end()
    yield from _trimmed(text, start, len(text))


def words(text: str) -> Iterator[re.Match[str]]:
    """The words of a text: letters, with apostrophes inside."""
    return _WORD.finditer(text)


def _trimmed(text: str, start: int, end: int) -> Iterator[Span]:
    part = text[start:end]
    if stripped := part.strip():
        at = start + part.index(stripped[0])
        yield Span(at, at + len(stripped))
