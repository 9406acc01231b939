"""Every text of a message that may hold fields, and each field with where it stands: subject, sender, copy, addresses, styles, comments."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import partial
from itertools import islice
from typing import Literal

from jetwind.core.checking.finding import Place
from jetwind.core.fields import FieldToken
from jetwind.core.markup import Attribute, Document, Element
from jetwind.core.message import Header, Message, Shared
from jetwind.core.source import LIMITS, Span

_TEXTS: Shared[list[FieldText]] = Shared("field texts")
_USES: Shared[list[Use]] = Shared("field uses")

#: Header fields that a sending system fills.
_HEADERS = {
    "subject": "subject",
    "from": "sender",
    "sender": "sender",
    "reply-to": "reply address",
    "to": "recipient",
    "list-unsubscribe": "header",
    "list-unsubscribe-post": "header",
    "list-id": "header",
    "list-help": "header",
    "feedback-id": "header",
}

Kind = Literal["copy", "address", "alt", "attribute", "tag", "style", "comment", "subject", "header"]

_ADDRESSES = frozenset({"href", "src", "background", "action", "srcset", "poster", "cite"})
_RAW_TEXT = {"style": "style", "script": "style"}


@dataclass(frozen=True)
class FieldText:
    """A text that is filled in one go: ``where`` names it, ``place`` gives the place of a stretch of it.

    ``tokens`` are those of the message's own syntax.
    """

    where: str
    text: str
    place: Callable[[Span], Place]
    tokens: tuple[FieldToken, ...] = field(repr=False)
    is_html: bool = False


@dataclass(frozen=True)
class Use:
    """A field or block tag where it stands; ``attribute`` is the one whose value holds it."""

    token: FieldToken
    text: FieldText
    kind: Kind
    place: Place
    element: Element | None = None
    attribute: Attribute | None = None

    @property
    def where(self) -> str:
        """Where it stands, in words."""
        if self.attribute is not None and self.element is not None:
            return f"{self.attribute.name} of {self.element.tag}"
        return {"copy": self.text.where, "style": "styles", "comment": "a comment", "tag": "a tag"}.get(self.kind, self.text.where)


def field_texts(message: Message) -> list[FieldText]:
    """The texts of a message that hold tokens of its own syntax: headers, variants, preview text, HTML, plain text."""
    return message.shared(_TEXTS, lambda: [text for text in all_texts(message) if text.tokens])


def uses(message: Message) -> list[Use]:
    """Every field and block tag of the message's own syntax, in the order of the texts."""
    return message.shared(_USES, lambda: [use for text in field_texts(message) for use in _uses_of(message, text)])


def all_texts(message: Message) -> Iterator[FieldText]:
    """The texts of a message that a sending system fills, with fields or without."""
    syntax = message.syntax
    for header in message.headers:
        where = _HEADERS.get(header.name.lower())
        if where is not None:
            yield FieldText(where, header.value, partial(_in_header, message, header.name, header), tuple(syntax.tokens(header.value)))
    for number, variant in enumerate(message.variants, 1):
        name = f"Subject variant {number}"
        yield FieldText(name.lower(), variant, partial(_in_header, message, name, None), tuple(syntax.tokens(variant)))
    given = message.given_preview_text
    if given:
        yield FieldText("preview text", given, partial(_in_header, message, "Preview text", None), tuple(syntax.tokens(given)))
    if message.html is not None and message.document is not None:
        text = message.html.text[: LIMITS.html_characters]
        found = tuple(islice(syntax.tokens(text), LIMITS.tokens))
        yield FieldText("HTML", text, partial(_in_html, message), found, is_html=True)
    if message.text is not None:
        seen = message.text.seen
        yield FieldText("plain text", seen, partial(Place.in_text, message), tuple(islice(syntax.tokens(seen), LIMITS.tokens)))


def _in_header(message: Message, name: str, header: Header | None, span: Span) -> Place:
    return Place.in_header(message, name, header)


def _in_html(message: Message, span: Span) -> Place:
    assert message.document is not None
    return Place.in_html(message, span, message.document.element_before(span.start))


def _uses_of(message: Message, text: FieldText) -> Iterator[Use]:
    if not text.is_html:
        kind: Kind = "copy" if text.where == "plain text" else "subject" if "subject" in text.where else "header"
        if text.where == "preview text":
            kind = "subject"
        yield from (Use(token, text, kind, text.place(token.span)) for token in text.tokens)
        return
    document = message.document
    assert document is not None
    source = iter(document.tokens)
    current = next(source, None)
    raw_text = ""
    for token in text.tokens:
        while current is not None and current.span.end <= token.span.start:
            if current.kind in ("start tag", "end tag"):
                raw_text = _RAW_TEXT.get(current.name, "") if current.kind == "start tag" else ""
            current = next(source, None)
        place = text.place(token.span)
        if current is None or current.kind == "text":
            if not raw_text:
                place = Place.in_html(message, token.span, document.element_around(token.span.start))
            yield Use(token, text, "style" if raw_text else "copy", place)
        elif current.kind == "start tag":
            yield _in_tag(document, text, token, place)
        else:
            yield Use(token, text, "comment" if current.kind == "comment" else "tag", place)


def _in_tag(document: Document, text: FieldText, token: FieldToken, place: Place) -> Use:
    element = document.all_elements[place.element] if place.element is not None else None
    for name, attribute in element.attributes.items() if element is not None else ():
        value = attribute.value_span
        if value.start <= token.span.start and token.span.end <= value.end:
            kind: Kind = "address" if name in _ADDRESSES else "alt" if name == "alt" else "style" if name == "style" else "attribute"
            return Use(token, text, kind=kind, place=place, element=element, attribute=attribute)
    return Use(token, text, "tag", place, element)
