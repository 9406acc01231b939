"""The links of a message as plain rows: what the station shows, the worker opens, and files are written from."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from jetwind.core.images.elsewhere import remote_pictures
from jetwind.core.links.collection import Found, Role, Where, everything, offer_words, targets
from jetwind.core.message import Message, Sample

#: Characters of an address and of a name that a row keeps.
_LONGEST = 2_000


@dataclass(frozen=True, slots=True)
class Row:
    """One place of an address: as written, where it stands, and the web addresses that it comes to. Offsets are characters of its part."""

    number: int
    written: str
    name: str
    role: Role
    where: Where
    header: str
    part: str
    start: int | None
    end: int | None
    line: int | None
    element: int | None
    addresses: tuple[str, ...]
    words: str = ""


@dataclass(frozen=True, slots=True)
class Destination:
    """One web address, with the rows that lead to it and the readers for whom; ``readers`` is empty where it is the same for all."""

    address: str
    rows: tuple[int, ...]
    role: Role
    is_closed: bool
    readers: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Picture:
    """A picture that lies elsewhere."""

    address: str
    is_tracking: bool
    has_size: bool


@dataclass(frozen=True, slots=True)
class Listing:
    """Everything that leads out of a message."""

    rows: tuple[Row, ...]
    destinations: tuple[Destination, ...]
    pictures: tuple[Picture, ...]


def listing_of(message: Message, readers: Sequence[Sample] = ()) -> Listing:
    """The listing of a message, as its sample readers get it."""
    found = everything(message)
    number_of = {id(one): number for number, one in enumerate(found)}
    destinations: list[Destination] = []
    addresses: dict[int, list[str]] = defaultdict(list)
    for target in targets(message, readers):
        numbers = tuple(number_of[id(one)] for one in target.found)
        destinations.append(Destination(target.address, numbers, target.role, target.is_closed, target.readers))
        for number in numbers:
            addresses[number].append(target.address)
    rows = tuple(_row(message, number, one, tuple(addresses[number])) for number, one in enumerate(found))
    pictures = tuple(Picture(one.address, one.is_tracking, one.has_size) for one in remote_pictures(message, readers))
    return Listing(rows, tuple(destinations), pictures)


def _row(message: Message, number: int, found: Found, addresses: tuple[str, ...]) -> Row:
    link, span = found.link, found.link.span
    part = "header" if found.where == "header" else link.part
    source = message.source_of(part)
    line = source.position(span.start).line if source is not None and span is not None else None
    element = link.element.index if link.element is not None else None
    start, end = (span.start, span.end) if span is not None else (None, None)
    return Row(
        number,
        found.address[:_LONGEST],
        name=found.name[:300],
        role=found.role,
        where=found.where,
        header=found.header,
        part=part,
        start=start,
        end=end,
        line=line,
        element=element,
        addresses=addresses,
        words=_words(message, found),
    )


def _words(message: Message, found: Found) -> str:
    """The words around a link of the HTML that say what it leads to."""
    return offer_words(message, found.link.element)[:400] if found.link.element is not None else ""
