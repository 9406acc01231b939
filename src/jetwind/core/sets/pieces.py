"""The pieces of a message that other messages may have too, told by their content: header, footer, pictures, paragraphs.

A piece is the same in two messages where its words, its links and its pictures are the same, wherever it stands and however it is marked up.
Common practice, no published source.
"""

from __future__ import annotations

import hashlib
import json
from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import asdict, dataclass, replace
from itertools import islice
from typing import Literal
from urllib.parse import SplitResult

from jetwind.core.images.collecting import pictures_of
from jetwind.core.links import links
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.prose.outline import Section, outline_of
from jetwind.core.prose.passages import Passage
from jetwind.core.prose.postal import postal_address
from jetwind.core.styles.computed import ComputedStyles

PieceKind = Literal["header", "footer", "paragraph", "picture"]
#: Blocks of a message that are kept; characters of a piece's words; characters from which a paragraph is long enough to be told by its words.
MOST, LONGEST, SHORTEST = 400, 300, 40
#: Elements of a piece that are kept.
_MOST_ELEMENTS = 60
#: Elements of a message whose styles are computed; the fonts of a larger one are not told.
_MOST_STYLED = 20_000


@dataclass(frozen=True, slots=True)
class Piece:
    """One piece: its kind, sixteen hexadecimal digits over its content, its first words, and the indexes of its elements."""

    kind: PieceKind
    digest: str
    words: str
    elements: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Traits:
    """The sides of a message that the messages of a set have in common.

    ``header`` and ``footer`` are words, each with a digest over words, links and pictures. ``hosts`` are those to which links lead, ``fonts``
    the families in which its text is set, as they are written first; of a very large message they are not known, and differ in nothing.
    """

    sender: str = ""
    reply: str = ""
    header: str = ""
    header_digest: str = ""
    footer: str = ""
    footer_digest: str = ""
    hosts: tuple[str, ...] = ()
    fonts: tuple[str, ...] = ()

    @classmethod
    def from_dict(cls, kept: Mapping[str, str | list[str]]) -> Traits:
        """Traits as ``as_dict`` gave them; what is missing there is empty."""
        known = {name: value for name, value in kept.items() if name in cls.__dataclass_fields__}
        return cls(**{name: tuple(value) if isinstance(value, list) else value for name, value in known.items()})  # type: ignore[arg-type]

    def as_dict(self) -> dict[str, str | list[str]]:
        """The traits as plain values."""
        return {name: list(value) if isinstance(value, tuple) else value for name, value in asdict(self).items()}


def pieces_of(message: Message) -> tuple[Piece, ...]:
    """The pieces of the HTML of a message, header and footer first. A message without HTML has none. Work is linear in the message."""
    if message.document is None:
        return ()
    sections = _sections(message)
    found = [_as_piece(name, sections[name]) for name in ("header", "footer") if sections[name].content]
    found += _paragraphs(message)
    found += [
        Piece("picture", picture.digest[:16], _first(_alternative(picture.images[0].element) or picture.name), _indexes(picture.images))
        for picture in pictures_of(message)
        if picture.images and not picture.is_tracking
    ]
    return tuple(found[:MOST])


def traits_of(message: Message) -> Traits:
    """The sides of a message that its set has in common."""
    senders, replies = message.mailboxes("From"), message.mailboxes("Reply-To")
    around = Traits(
        sender=f"{senders[0].name} <{senders[0].address}>".strip() if senders else "", reply=replies[0].address if replies else ""
    )
    if message.document is None:
        return around
    header, footer = (_as_piece(name, section) for name, section in _sections(message).items())
    parts = (link.parts for link in islice(links(message), MOST) if link.scheme in ("http", "https"))
    hosts = {host for one in parts if one is not None and (host := _host(one))}
    return replace(
        around,
        header=header.words,
        header_digest=header.digest,
        footer=footer.words,
        footer_digest=footer.digest,
        hosts=tuple(sorted(hosts)),
        fonts=_fonts(message),
    )


class _Gathered:
    """The content of a section as it is gathered: words, addresses and pictures, and the elements that hold them."""

    def __init__(self) -> None:
        self.words: list[str] = []
        self.content: list[str] = []
        self.elements: list[int] = []


def _sections(message: Message) -> dict[Literal["header", "footer"], _Gathered]:
    outline, parted, found = outline_of(message), _parted(message), defaultdict[Section, _Gathered](_Gathered)
    footer_begins = min((passage.element.index for section, passage in parted if section == "footer"), default=None)

    def section_of(element: Element) -> Section:
        section = outline.section_of(element)
        return "footer" if section == "body" and footer_begins is not None and element.index >= footer_begins else section

    for section, passage in parted:
        if section != "body" and passage.text.strip():
            found[section].words.append(passage.text.strip())
            found[section].content.append(passage.text.strip())
            found[section].elements.append(passage.element.index)
    for picture in pictures_of(message):
        for use in picture.images:
            if use.element is not None and not picture.is_tracking and (section := section_of(use.element)) != "body":
                found[section].words.append(_alternative(use.element))
                found[section].content.append(f"picture {picture.digest} {_alternative(use.element)}")
                found[section].elements.append(use.element.index)
    for link in islice(links(message), MOST):
        if link.element is not None and (section := section_of(link.element)) != "body":
            found[section].content.append(f"link {link.address}")
    return {"header": found["header"], "footer": found["footer"]}


def _parted(message: Message) -> list[tuple[Section, Passage]]:
    """The passages with their sections. Automatic messages say no words of a footer: theirs begins with the sender's postal address."""
    sections = outline_of(message).sections
    if any(section == "footer" for section, _ in sections):
        return sections
    for number in range(len(sections) // 2, len(sections)):
        if postal_address(sections[number][1].text) is not None:
            return sections[:number] + [("footer", passage) for _, passage in sections[number:]]
    return sections


def _as_piece(kind: Literal["header", "footer"], section: _Gathered) -> Piece:
    words = _first(" · ".join(word for word in section.words if word))
    return Piece(kind, _digest(section.content) if section.content else "", words, tuple(section.elements[:_MOST_ELEMENTS]))


def _paragraphs(message: Message) -> Iterable[Piece]:
    addresses = {link.element.index: link.address or "" for link in islice(links(message), MOST) if link.element is not None}
    for section, passage in _parted(message):
        text = passage.text.strip()
        if section == "body" and len(text) >= SHORTEST:
            inside = [addresses[index] for index in sorted(passage.links) if index in addresses]
            yield Piece("paragraph", _digest([text, *inside]), _first(text), (passage.element.index,))


def _fonts(message: Message) -> tuple[str, ...]:
    """The first families in which passages are set, the one with most characters first; none of a very large message."""
    document = message.document
    if document is None or len(document.all_elements) > _MOST_STYLED:
        return ()
    styles, characters = ComputedStyles(document), defaultdict[str, int](int)
    for _, passage in islice(outline_of(message).sections, MOST):
        first = (styles.value(passage.element, "font-family") or "").partition(",")[0].strip(" \"'").lower()
        if first:
            characters[first] += len(passage.text)
    return tuple(sorted(characters, key=lambda name: (-characters[name], name)))


def _host(address: SplitResult) -> str:
    """The host of an address in small letters; empty where it has none that can be read."""
    try:
        return address.hostname or ""
    except ValueError:
        return ""


def _alternative(element: Element | None) -> str:
    return " ".join((element.get("alt") or "").split()) if element is not None else ""


def _indexes(uses: Iterable[object]) -> tuple[int, ...]:
    elements = (getattr(use, "element", None) for use in uses)
    return tuple(element.index for element in islice(elements, _MOST_ELEMENTS) if element is not None)


def _first(words: str) -> str:
    return words if len(words) <= LONGEST else f"{words[: LONGEST - 1]}…"


def _digest(content: Iterable[str]) -> str:
    return hashlib.sha256(json.dumps(list(content)).encode()).hexdigest()[:16]
