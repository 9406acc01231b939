"""Every piece of copy that somebody reads, with its place: subjects, preview text, HTML, alternative text, plain text."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import partial

from jetwind.core.checking.finding import Place
from jetwind.core.fields import opaque
from jetwind.core.markup import Attribute, Element, TextRun, source_span
from jetwind.core.message import Header, Message, Shared
from jetwind.core.prose.passages import Passage, paragraphs
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import LIMITS, Span

_COPY: Shared[list[Copy]] = Shared("copy")

#: What a piece of copy belongs to, in the words of the brief.
SUBJECT, PREVIEW, HTML, ALT, TEXT = "subject", "preview text", "HTML", "alternative text", "plain text"


@dataclass(frozen=True, slots=True)
class Copy:
    """A piece of copy: its text, where it belongs, and ``place``, which gives the place of any stretch of it.

    In ``text`` every field, of whatever syntax, is filler of the same length, since nobody knows yet what will stand there; in
    ``written`` it stands as in the source.
    """

    text: str
    where: str
    place: Callable[[int, int], Place]
    written: str
    is_link: bool = False


def _copy(message: Message, written: str, where: str, place: Callable[[int, int], Place], *, is_link: bool = False) -> Copy:
    written = written[: LIMITS.passage_characters]
    return Copy(opaque(written, message.syntax), where, place, written, is_link)


def subjects(message: Message) -> Iterator[Copy]:
    """The subject and its variants."""
    header = message.header("Subject")
    if header is not None:
        yield _copy(message, header.value, SUBJECT, partial(_in_header, message, "Subject", header))
    for number, variant in enumerate(message.variants, 1):
        yield _copy(message, variant, SUBJECT, partial(_in_header, message, f"Subject variant {number}", None))


def preview(message: Message) -> Iterator[Copy]:
    """The preview text that was written as such: given, or hidden before the copy."""
    if message.given_preview_text:
        yield _copy(message, message.given_preview_text, PREVIEW, partial(_in_header, message, "Preview text", None))
    for piece in reading_of(message).lead_in_pieces if message.document is not None else ():
        yield _copy(message, piece.run.text, PREVIEW, partial(_in_run, message, piece.run))


def html(message: Message) -> Iterator[Copy]:
    """The visible copy of the HTML, a passage a block."""
    for passage in reading_of(message).passages:
        yield _copy(message, passage.text, HTML, partial(_in_passage, message, passage), is_link=passage.is_link)


def alternative_texts(message: Message) -> Iterator[Copy]:
    """The alternative texts of pictures."""
    for image in message.document.elements("img") if message.document is not None else ():
        alt = image.attributes.get("alt") if (image.get("alt") or "").strip() else None
        if alt is not None:
            yield _copy(message, alt.value, ALT, partial(_in_value, message, image, alt))


def plain_text(message: Message) -> Iterator[Copy]:
    """The plain-text part, a paragraph each. Line breaks inside a paragraph are single spaces, character for character."""
    if message.text is not None:
        text = message.text.seen
        for span in paragraphs(text):
            yield _copy(message, re.sub(r"[\r\n\t]", " ", text[span.start : span.end]), TEXT, partial(_in_text, message, span.start))


def all_copy(message: Message) -> Iterator[Copy]:
    """All of it, in the order in which a reader meets it."""

    def gather() -> list[Copy]:
        found: list[Copy] = []
        for source in (subjects, preview, html, alternative_texts, plain_text):
            left = LIMITS.copy_characters
            for copy in source(message):
                if (left := left - len(copy.text)) < 0:
                    break
                found.append(copy)
        return found

    return iter(message.shared(_COPY, gather))


def _in_header(message: Message, name: str, header: Header | None, start: int, end: int) -> Place:
    return Place.in_header(message, name, header)


def _in_run(message: Message, run: TextRun, start: int, end: int) -> Place:
    assert message.document is not None
    span = source_span(message.document.source.slice(run.span), run.span, start, end) if run.span else run.parent.start_tag
    return Place.in_html(message, span, run.parent.index)


def _in_passage(message: Message, passage: Passage, start: int, end: int) -> Place:
    assert message.document is not None
    span, element = passage.span(message.document.source, start, end)
    return Place.in_html(message, span, element.index)


def _in_value(message: Message, element: Element, attribute: Attribute, start: int, end: int) -> Place:
    assert message.document is not None
    raw = message.document.source.slice(attribute.value_span)
    return Place.in_html(message, source_span(raw, attribute.value_span, start, end), element.index)


def _in_text(message: Message, at: int, start: int, end: int) -> Place:
    return Place.in_text(message, Span(at + start, at + end))
