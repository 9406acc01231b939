"""The message as one reader gets it, still a message: for renders and for whatever looks at merged text."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from jetwind.core.fields import CopyLength, Merged, fill, merge
from jetwind.core.message import Header, Message, Sample
from jetwind.core.source import Span

#: Header fields in which senders put fields.
_FILLED_HEADERS = frozenset({"subject", "from", "reply-to", "to", "list-unsubscribe", "list-unsubscribe-post"})


@dataclass(frozen=True)
class AsReader:
    """A merged message, the reader it is merged for, and the way back to the source of its HTML and its plain text."""

    message: Message
    reader: Sample
    html: Merged | None
    text: Merged | None

    def in_source(self, span: Span) -> Span | None:
        """The stretch of the unmerged HTML that a stretch of the merged one comes from."""
        return self.html.source_of(span) if self.html is not None else None


def as_reader(message: Message, reader: Sample, *, keep_unknown: bool = False) -> AsReader:
    """The message with the fields of its own syntax filled: in HTML, plain text, header values, variants and preview text.

    With ``keep_unknown`` a field that is empty and has no default stays as it is written.
    """

    def merged(text: str, *, escape: bool = False) -> Merged:
        found = merge(text, reader.values, escape=escape, syntax=message.syntax)
        return found.with_empty_as_written(text) if keep_unknown else found

    def filled(text: str) -> str:
        return merged(text).text if keep_unknown else fill(text, reader.values, escape=False, syntax=message.syntax)

    def header(given: Header) -> Header:
        return replace(given, value=filled(given.value), raw=filled(given.raw)) if given.name.lower() in _FILLED_HEADERS else given

    html = merged(message.html.text, escape=message.syntax.escapes) if message.html is not None else None
    text = merged(message.text.text) if message.text is not None else None
    copy = replace(
        message,
        headers=tuple(header(one) for one in message.headers),
        html=replace(message.html, text=html.text) if message.html is not None and html is not None else None,
        text=replace(message.text, text=text.text) if message.text is not None and text is not None else None,
        given_preview_text=filled(message.given_preview_text),
        variants=tuple(filled(variant) for variant in message.variants),
        copy_for=reader.name,
    )
    return AsReader(copy, reader, html, text)


def longest(message: Message, readers: Sequence[Sample]) -> Sample | None:
    """The reader whose copy is longest: what has room for them has room for all. None where there is no reader, or no field to fill."""
    part = message.html or message.text
    if not readers or part is None or not any(True for _ in message.syntax.tokens(part.text)):
        return None
    copy = CopyLength(part.text, message.syntax)
    return max(readers, key=lambda reader: copy.of(reader.values))
