"""Pictures of a message that lie on a server: their addresses as readers get them, and the message with the fetched ones."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from jetwind.core.fields import fill
from jetwind.core.markup import Element
from jetwind.core.message import Message, Resource, Sample, Shared, image_references, remote_key
from jetwind.core.source import LIMITS, Span

_PLACES: Shared[tuple[PicturePlace, ...]] = Shared("picture places")

#: A picture of so few px in width and height is there to be counted, not to be seen (common practice, no published source).
TRACKING_PX = 3


@dataclass(frozen=True, slots=True)
class PicturePlace:
    """One place that shows a picture: the element, the address as written and its span; ``is_image`` for an ``img`` by its ``src``."""

    element: Element
    value: str
    span: Span
    is_image: bool = False


@dataclass(frozen=True, slots=True)
class RemotePicture:
    """An address and every place that shows it. ``is_tracking`` where the markup gives it next to no size everywhere."""

    address: str
    references: tuple[PicturePlace, ...]
    is_tracking: bool
    has_size: bool


def remote_pictures(message: Message, readers: Sequence[Sample] = ()) -> list[RemotePicture]:
    """The pictures that lie elsewhere, in the order in which they stand; an address with a field in it as the first reader gets it."""
    places: dict[str, list[PicturePlace]] = defaultdict(list)
    for reference in picture_places(message):
        address = remote_address(message, reference.value, readers)
        if address and len(places) < LIMITS.links:
            places[address].append(reference)
    return [
        RemotePicture(address, tuple(found), all(is_tracking(one) for one in found), all(has_size(one) for one in found))
        for address, found in places.items()
    ]


def picture_places(message: Message) -> tuple[PicturePlace, ...]:
    """Every place of the HTML that shows a picture: attributes, style attributes, candidates of ``srcset``, and style sheets."""
    return message.shared(_PLACES, lambda: tuple(_picture_places(message)))


def _picture_places(message: Message) -> Iterator[PicturePlace]:
    document = message.document
    if document is None:
        return
    for reference in image_references(message):
        is_image = reference.element.tag == "img" and reference.attribute.name.lower() == "src"
        yield PicturePlace(reference.element, reference.value, reference.span, is_image)
    for element in document.elements("img", "source"):
        if "srcset" in element.names and (attribute := element.attributes.get("srcset")) is not None:
            for match in _CANDIDATE.finditer(attribute.value[: LIMITS.value_characters]):
                yield PicturePlace(element, match[1].rstrip(","), attribute.value_span)
    for element in document.elements("style"):
        sheet = document.sheet_of(element)
        if sheet is not None and "url(" in sheet[0].lower():
            for match in _IN_SHEET.finditer(sheet[0]):
                if match["value"] and not _NO_PICTURE.search(match["before"] or "") and not _FONT.search(match["value"]):
                    start = sheet[1].start + match.start("value")
                    yield PicturePlace(element, match["value"], Span(start, start + len(match["value"])))


#: One candidate of srcset: an address and its descriptor (HTML §4.8.4.2.1).
_CANDIDATE = re.compile(r"([^\s,]\S*)(?:\s+[\d.]+[wxh])?\s*(?:,|\Z)")
_IN_SHEET = re.compile(r"(?P<before>(?:@import\s+|src\s*:\s*)?)url\(\s*[\"']?(?P<value>[^\"')\s]{1,4000})", re.IGNORECASE)
_NO_PICTURE = re.compile(r"@import|src", re.IGNORECASE)
_FONT = re.compile(r"\.(?:woff2?|ttf|otf|eot)(?:[?#]|\Z)", re.IGNORECASE)


def remote_address(message: Message, written: str, readers: Sequence[Sample] = ()) -> str:
    """The whole address of a picture that lies elsewhere; empty for one that travels along, and where nobody knows what a field makes of it."""
    value = written.strip()
    if message.holds_field(value, in_address=True):
        if not readers:
            return ""
        value = fill(value, readers[0].values, escape=False, syntax=message.syntax).strip()
        if message.holds_field(value, in_address=True):
            return ""
    return remote_key(value)


def is_tracking(reference: PicturePlace) -> bool:
    """Whether the markup shows a picture at 3 × 3 px or less."""
    width, height = (_px(reference.element.get(name)) for name in ("width", "height"))
    return reference.element.tag == "img" and width is not None and height is not None and width <= TRACKING_PX and height <= TRACKING_PX


def has_size(reference: PicturePlace) -> bool:
    """Whether the height of a picture is known before it comes: by its attributes, or because it is a background."""
    if not reference.is_image:
        return True
    style = (reference.element.get("style") or "").lower()
    return _px(reference.element.get("height")) is not None or "height:" in style.replace(" ", "").replace("line-height:", "")


def _px(value: str | None) -> int | None:
    plain = (value or "").strip().lower().removesuffix("px").strip()
    return int(plain) if plain.isdecimal() and len(plain) < 6 else None


def with_fetched(message: Message, pictures: Mapping[str, Resource]) -> Message:
    """The message with pictures that were fetched, by address."""
    return replace(message, fetched=dict(pictures)) if pictures else message


def lacking(message: Message) -> Iterator[RemotePicture]:
    """Pictures that lie elsewhere, are shown to readers, and were not fetched."""
    return (picture for picture in remote_pictures(message) if not picture.is_tracking and picture.address not in message.fetched)
