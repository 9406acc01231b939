"""The pictures that a message shows, in order, and how alike two of them look."""

from __future__ import annotations

import io
import re
import warnings
from dataclasses import dataclass

from jetwind.core.images.likeness import Likeness
from jetwind.core.images.measure import MOST_PIXELS, measure
from jetwind.core.links.addresses import parsed
from jetwind.core.message import Message, Resource
from jetwind.core.source import Span

#: How alike a picture must look to be the same: one saved anew by a gateway stays above, another picture does not (measured on the demo's).
LIKENESS = 0.9
#: Pictures that are looked at, and px beyond which a picture is no counting pixel.
_MOST, _PIXEL = 500, 3


@dataclass(frozen=True, slots=True)
class Shown:
    """A picture where an ``img`` shows it: its address as written, its name for people, the file where it travels along."""

    written: str
    name: str
    span: Span | None
    resource: Resource | None
    is_pixel: bool

    @property
    def key(self) -> str:
        """Equal for equal pictures: the digest of the file, or the address as a browser reads it."""
        if self.resource is not None:
            return self.resource.sha256
        found = parsed(self.written)
        return found.href if found is not None else self.written


def shown_in(message: Message) -> list[Shown]:
    """The pictures of the HTML, in order."""
    if message.document is None:
        return []
    found = []
    for element in message.document.elements("img"):
        attribute = element.attributes.get("src")
        written = attribute.value.strip() if attribute is not None else ""
        resource = message.resource(written) if written else None
        name = (element.get("alt") or "").strip() or (resource.name if resource is not None else written) or "without a name"
        sizes = [re.match(r"\s*(\d+)", element.get(side) or "") for side in ("width", "height")]
        is_pixel = all(size is not None and int(size[1]) <= _PIXEL for size in sizes)
        found.append(Shown(written, name, attribute.span if attribute is not None else element.start_tag, resource, is_pixel))
        if len(found) == _MOST:
            break
    return found


def looks_alike(one: Resource, other: Resource) -> float | None:
    """How alike two pictures look, from 0 to 1; None where one of them cannot be looked at, as a drawing or one with too many pixels."""
    from PIL import Image

    sizes = [measure(resource.data) for resource in (one, other)]
    if any(size is None or size.width * size.height > MOST_PIXELS for size in sizes):
        # A picture that does not open any more is not the same one.
        return 0.0 if sizes[0] is not None and sizes[1] is None else None
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            first, second = (Image.open(io.BytesIO(resource.data)).convert("RGB") for resource in (one, other))
    except (OSError, ValueError, SyntaxError, MemoryError):
        return 0.0
    if abs(first.width / first.height - second.width / second.height) > 0.02 * first.width / first.height:
        return 0.0
    if first.size != second.size:
        second = second.resize(first.size, Image.Resampling.BOX)
    return max(Likeness(first).to(second), 0.0)
