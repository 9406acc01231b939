"""The Message: what every check, render and report reads. Frozen; derived views are made once, on first use."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING, Literal, cast

from jetwind.core.fields import LIQUID, Syntax, tokens
from jetwind.core.markup import Document, parse
from jetwind.core.message.addresses import Mailbox, mailboxes
from jetwind.core.message.references import remote_key
from jetwind.core.message.shared import Made, Shared
from jetwind.core.source import LIMITS, SourceText, Span, WithoutCaches
from jetwind.core.styles import Cascade

if TYPE_CHECKING:
    from jetwind.core.message.parts import MimePart


@dataclass(frozen=True, slots=True)
class Defect:
    """Something wrong with the input itself. ``kind`` is for machines, ``text`` one sentence for people.

    ``octets`` is its place in the message as it was taken in, counted in octets from 0.
    """

    kind: str
    text: str
    octets: Span | None = None


@dataclass(frozen=True, slots=True)
class Header:
    """One header field. ``raw`` is its unfolded body as sent; ``value`` has encoded-words decoded (RFC 2047).

    ``octets`` is the whole field as transferred, empty for one that a person gave.
    """

    name: str
    raw: str
    value: str
    span: Span | None
    octets: bytes = b""


@dataclass(frozen=True)
class TextPart(WithoutCaches):
    """The HTML or the plain-text part: its decoded text, the charset used, and its size in octets, decoded from transfer encoding.

    ``charset`` is a name of the Encoding Standard. ``part`` is the part of the mail that it came from, None for a file. ``faults``
    counts octets that are no character, ``first_fault`` is the offset of the first U+FFFD that stands for one. ``unknown_label`` is
    a declared charset that does not exist; ``is_utf_8`` says that the octets are UTF-8 although something else was declared.
    ``later`` are further inline text parts of the mail, whose text stands at the end of this one.
    """

    text: str
    charset: str
    declared_charset: str | None
    octets: int
    part: MimePart | None = field(default=None, repr=False)
    faults: int = 0
    first_fault: int | None = None
    unknown_label: str | None = None
    is_utf_8: bool = False
    later: tuple[MimePart, ...] = field(default=(), repr=False)

    @cached_property
    def source(self) -> SourceText:
        """The text with its line index."""
        return SourceText(self.text)

    @cached_property
    def seen(self) -> str:
        """As much of the text as is looked at."""
        return self.text[: LIMITS.text_characters]


@dataclass(frozen=True)
class Resource(WithoutCaches):
    """A picture or an attachment that travels with the message."""

    name: str
    content_type: str
    content_id: str | None
    data: bytes = field(repr=False)

    @cached_property
    def sha256(self) -> str:
        """SHA-256 of the bytes, hexadecimal."""
        return hashlib.sha256(self.data).hexdigest()


@dataclass(frozen=True, slots=True)
class Sample:
    """A sample reader: a made-up recipient with a value for each field."""

    name: str
    values: Mapping[str, str]


@dataclass(frozen=True)
class Message(WithoutCaches):
    """One exact content, parsed.

    ``envelope_known`` is False for HTML that came without any headers: then nothing can be said of a subject or a sender.
    ``root`` is the tree of parts of a mail; ``variants`` are further subjects that somebody gave for the same content. ``copy_for`` names
    the sample reader for whom it was merged; empty for a message as it was taken in. ``fetched`` are pictures that lie elsewhere, by
    address (``remote_key``).
    """

    sha256: str
    form: Literal["eml", "html", "package"]
    envelope_known: bool
    header_source: SourceText
    headers: tuple[Header, ...]
    html: TextPart | None
    text: TextPart | None
    images: tuple[Resource, ...]
    attachments: tuple[Resource, ...]
    defects: tuple[Defect, ...]
    octets: int
    root: MimePart | None = None
    syntax: Syntax = LIQUID
    given_preview_text: str = ""
    variants: tuple[str, ...] = ()
    copy_for: str = ""
    fetched: Mapping[str, Resource] = field(default_factory=dict, repr=False)

    def header(self, name: str) -> Header | None:
        """The first header field of that name, whatever its case."""
        return next(self.header_fields(name), None)

    def header_fields(self, name: str) -> Iterator[Header]:
        """All header fields of that name."""
        return (header for header in self.headers if header.name.lower() == name.lower())

    def source_of(self, part: str) -> SourceText | None:
        """The source of a part by the name that places of findings use: ``html``, ``text``, ``header`` or ``message``; None for others."""
        if part == "html":
            return self.html.source if self.html else None
        if part == "text":
            return self.text.source if self.text else None
        return {"header": self.header_source, "message": self.raw_source}.get(part)

    @cached_property
    def raw_source(self) -> SourceText:
        """The mail as it was taken in, one character an octet; empty for what is no mail."""
        return SourceText(self.root.to_bytes().decode("latin-1") if self.root else "")

    @property
    def subjects(self) -> tuple[str, ...]:
        """The subject and its variants."""
        return (self.subject, *self.variants)

    @property
    def subject(self) -> str:
        """The decoded subject, or an empty string."""
        header = self.header("Subject")
        return header.value if header else ""

    def mailboxes(self, name: str) -> tuple[Mailbox, ...]:
        """The mailboxes of an address header such as From or To, groups taken apart."""
        return tuple(box for header in self.header_fields(name) for box in self.mailboxes_of(header))

    def mailboxes_of(self, header: Header) -> tuple[Mailbox, ...]:
        """The mailboxes of one header field."""
        return mailboxes(header.raw)

    def holds_field(self, text: str, *, in_address: bool = False) -> bool:
        """Whether a value has a token of any syntax in it, so that nobody knows yet what it will be."""
        return bool(tokens(text, self.syntax, in_address=in_address))

    @cached_property
    def document(self) -> Document | None:
        """The tree of the HTML part."""
        return parse(self.html.text, self.syntax) if self.html else None

    @cached_property
    def cascade(self) -> Cascade:
        """The styles of the HTML part.

        Raises:
            ValueError: the message has no HTML part.
        """
        if self.document is None:
            raise ValueError("the message has no HTML part")
        return Cascade(self.document)

    @property
    def image_octets(self) -> int:
        """Weight of all pictures that travel with the message, in octets."""
        return sum(len(image.data) for image in self.images)

    @property
    def held_octets(self) -> int:
        """Weight of all that is worked on, in octets: the HTML, the plain text, pictures and attachments, as they were unpacked."""
        texts = sum(part.octets for part in (self.html, self.text) if part is not None)
        return texts + self.image_octets + sum(len(attachment.data) for attachment in self.attachments)

    @property
    def tags(self) -> int:
        """How many tags and comments the HTML has at most: how often ``<`` stands in it."""
        return self.html.text.count("<") if self.html is not None else 0

    @property
    def loaded_octets(self) -> int:
        """Weight of all pictures that a reader loads, as far as it is known: those that travel along and those that were fetched, in octets."""
        return self.image_octets + sum(len(picture.data) for picture in self.fetched.values())

    def resource(self, reference: str) -> Resource | None:
        """The picture that an HTML reference (``cid:`` or a path in the package) stands for."""
        return self._resources.get(resource_key(reference))

    def elsewhere(self, reference: str) -> Resource | None:
        """The fetched picture that a reference to another server stands for; None where it was not fetched, or means no server."""
        return self.fetched.get(remote_key(reference)) if self.fetched else None

    @property
    def fetched_key(self) -> str:
        """One value for the pictures that were fetched, by address and content; empty where none was."""
        rows = sorted((address, resource.sha256) for address, resource in self.fetched.items())
        return hashlib.sha256(repr(rows).encode("utf-8", "surrogatepass")).hexdigest() if rows else ""

    def picture(self, reference: str) -> Resource | None:
        """The picture that a reference stands for, whether it travels along or was fetched."""
        return self.elsewhere(reference) or self.resource(reference)

    def shared(self, key: Shared[Made], make: Callable[[], Made]) -> Made:
        """A value that several checks need, made once for this message and kept under ``key``."""
        if key.name not in self._shared:
            self._shared[key.name] = make()
        # Only a value that ``make`` made stands under the name, and the name has its type.
        return cast("Made", self._shared[key.name])

    @cached_property
    def _shared(self) -> dict[str, object]:
        return {}

    @cached_property
    def _resources(self) -> dict[str, Resource]:
        found: dict[str, Resource] = {}
        for resource in (*self.attachments, *self.images):
            found[resource_key(resource.name)] = resource
            if resource.content_id:
                found[resource_key(f"cid:{resource.content_id}")] = resource
        return found


def resource_key(reference: str) -> str:
    """One spelling for a reference: no fragment or query, no ``./``, percent-decoding done (RFC 2392; RFC 3986 §6.2)."""
    from urllib.parse import unquote

    reference = reference.strip()
    if reference[:4].lower() == "cid:":
        return "cid:" + unquote(reference[4:]).strip("<>")
    path = unquote(reference.split("#")[0].split("?")[0]).replace("\\", "/")
    parts: list[str] = []
    for part in path.split("/"):
        if part == ".." and parts:
            parts.pop()
        elif part not in ("", ".", ".."):
            parts.append(part)
    return "/".join(parts)
