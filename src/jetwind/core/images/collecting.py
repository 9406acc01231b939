"""Every picture of a message wherever it is shown: in the HTML, its styles, what word processors draw; travelling along, in the HTML, elsewhere."""

from __future__ import annotations

import base64
import hashlib
import html
import posixpath
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from itertools import islice
from typing import Literal
from urllib.parse import unquote, unquote_to_bytes

from jetwind.core.images.elsewhere import PicturePlace, is_tracking, picture_places, remote_address
from jetwind.core.images.facts import PictureFacts, facts_of
from jetwind.core.markup import Element
from jetwind.core.markup.conditional import conditionals
from jetwind.core.message import Message, Resource, Sample, Shared
from jetwind.core.source import LIMITS, Span

_PICTURES: Shared[tuple[Picture, ...]] = Shared("pictures")

Way = Literal["image", "background", "candidate", "sheet", "drawing"]
#: What a word processor draws a picture with, in conditional comments (VML).
_DRAWN = re.compile(
    r"<(?:v|o):(?:fill|imagedata|image)\b[^<>]{0,2000}?\bsrc\s*=\s*(?P<quote>[\"'])(?P<value>[^\"']{1,4000})(?P=quote)", re.IGNORECASE
)


@dataclass(frozen=True, slots=True)
class Use:
    """One place that shows a picture; ``element`` is None for what only a word processor draws."""

    way: Way
    value: str
    span: Span
    element: Element | None


@dataclass(frozen=True, slots=True)
class Picture:
    """A picture with every place that shows it. ``key`` is its digest, or its address where it lies elsewhere.

    ``known`` are its facts where it lies elsewhere and was fetched. ``data`` are its octets where they are at hand. ``claims`` is the type that the message
    or a server gave it, empty where none did. ``is_tracking``: it is there to be counted; ``is_lost``: it was asked for and did not come.
    """

    key: str
    name: str
    where: Literal["along", "inside", "elsewhere"]
    uses: tuple[Use, ...]
    known: PictureFacts | None = None
    data: bytes | None = None
    claims: str = ""
    is_tracking: bool = False
    is_lost: bool = False

    @property
    def facts(self) -> PictureFacts | None:
        """The contents of its file, which is opened for that; None where it was not fetched."""
        return self.known if self.known is not None or self.data is None else facts_of(self.data)

    @property
    def digest(self) -> str:
        """The key under which facts of the picture are kept: the digest of its file, or of its address where no file is known."""
        if self.data is None and self.known is not None and self.known.digest:
            return self.known.digest
        return hashlib.sha256(self.data if self.data is not None else self.key.encode("utf-8", "surrogatepass")).hexdigest()

    @property
    def images(self) -> list[Use]:
        """The places that show it by an ``img``."""
        return [use for use in self.uses if use.way == "image" and use.element is not None and use.element.tag == "img"]


def pictures_of(message: Message, known: Mapping[str, PictureFacts | None] | None = None, readers: Sequence[Sample] = ()) -> list[Picture]:
    """The pictures that a message shows, in the order in which they stand. ``known`` are facts of those elsewhere that were asked for, by
    address; None for one that did not come.

    One whose address nobody knows yet, and one that is not in the package, is left out: other checks tell those.
    """
    # Of the readers only the first says what a field makes of an address.
    first = sorted(readers[0].values.items()) if readers else None
    found = message.shared(_PICTURES.of(repr(first)), lambda: _found(message, readers))
    asked = known or {}
    return [
        replace(picture, known=asked[picture.key], is_lost=asked[picture.key] is None) if picture.key in asked else picture
        for picture in found
    ]


def _found(message: Message, readers: Sequence[Sample]) -> tuple[Picture, ...]:
    found: dict[str, tuple[Resource | None, str, list[Use]]] = {}
    for use in islice(_uses(message), LIMITS.links):
        value = use.value.strip()
        if value[:5].lower() == "data:":
            resource = _inside(value)
            key, address = (resource.sha256, "") if resource is not None else ("", "")
        else:
            address = remote_address(message, value, readers)
            resource = message.elsewhere(value) if address else message.resource(value)
            key = address or (resource.sha256 if resource is not None else "")
        if key:
            found.setdefault(key, (resource, address, []))[2].append(use)
    return tuple(_picture(key, resource, address, tuple(uses)) for key, (resource, address, uses) in found.items())


def _picture(key: str, resource: Resource | None, address: str, uses: tuple[Use, ...]) -> Picture:
    data = resource.data if resource is not None else None
    tracking = bool(address) and all(use.element is not None and use.way == "image" and _counts(use) for use in uses)
    if address:
        return Picture(
            key,
            _last_part(address),
            where="elsewhere",
            uses=uses,
            known=None,
            data=data,
            claims=resource.content_type if resource else "",
            is_tracking=tracking,
        )
    assert resource is not None
    inside = uses[0].value.strip()[:5].lower() == "data:"
    return Picture(
        key,
        "a picture inside the HTML" if inside else resource.name,
        where="inside" if inside else "along",
        uses=uses,
        known=None,
        data=data,
        claims=resource.content_type,
    )


def _uses(message: Message) -> Iterator[Use]:
    for place in picture_places(message):
        way: Way = "image" if place.is_image else "sheet" if place.element.tag == "style" else "background"
        if place.element.tag in ("img", "source") and not place.is_image:
            written = place.element.attributes.get("srcset") if "srcset" in place.element.names else None
            way = "candidate" if written is not None and written.value_span == place.span else "background"
        yield Use(way, place.value, place.span, place.element)
    if message.html is None:
        return
    text = message.html.text[: LIMITS.html_characters]
    for block in conditionals(text)[0]:
        if block.form == "hidden":
            for match in _DRAWN.finditer(text, block.content.start, block.content.end):
                yield Use("drawing", html.unescape(match["value"]), Span(*match.span("value")), None)


def _counts(use: Use) -> bool:
    assert use.element is not None
    return is_tracking(PicturePlace(use.element, use.value, use.span))


def _inside(value: str) -> Resource | None:
    """A picture inside its own address (RFC 2397)."""
    head, comma, body = value.partition(",")
    kind = head[5:].split(";")[0].strip().lower()
    if not comma or not kind.startswith("image/"):
        return None
    try:
        data = base64.b64decode(unquote_to_bytes(body), validate=False) if ";base64" in head.lower() else unquote_to_bytes(body)
    except ValueError:
        return None
    return Resource(hashlib.sha256(data).hexdigest(), kind, None, data)


def _last_part(address: str) -> str:
    path = unquote(re.split(r"[?#]", address)[0])
    return posixpath.basename(path.rstrip("/")) or address
