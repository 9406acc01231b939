"""Every place in the HTML that refers to a picture."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from tinycss2.color3 import parse_color

from jetwind.core.markup import Attribute, Element
from jetwind.core.message.shared import Shared
from jetwind.core.source import LIMITS, Span
from jetwind.core.styles import declarations, urls

_REFERENCES: Shared[tuple[ImageReference, ...]] = Shared("image references")

if TYPE_CHECKING:
    from jetwind.core.message.model import Message

_SCHEME = re.compile(r"\s*([a-zA-Z][a-zA-Z0-9+.-]*):")


@dataclass(frozen=True, slots=True)
class ImageReference:
    """One reference: the element and the attribute it stands in, its value, and the span of that value."""

    element: Element
    attribute: Attribute
    value: str
    span: Span

    @property
    def scheme(self) -> str:
        """Lower-case scheme, ``//`` for a protocol-relative address, or empty for a path."""
        if self.value.strip().startswith("//"):
            return "//"
        match = _SCHEME.match(self.value)
        return match[1].lower() if match else ""

    @property
    def is_local(self) -> bool:
        """Whether it means something inside the package: ``cid:`` (RFC 2392) or a path."""
        return self.scheme in ("", "cid")


def is_picture_address(value: str) -> bool:
    """Whether the value of a background attribute may be the address of a picture."""
    value = value.strip()
    # A colour where an address belongs (``background="white"``) shows nothing in any client.
    return bool(value) and (len(value) > _LONGEST_COLOUR or parse_color(value) is None)


#: No colour is written with more characters.
_LONGEST_COLOUR = 60


def image_references(message: Message) -> tuple[ImageReference, ...]:
    """References of ``img src``, ``input src``, ``background`` and ``url()`` in style attributes, in source order."""
    return message.shared(_REFERENCES, lambda: tuple(_image_references(message)))


def _image_references(message: Message) -> Iterator[ImageReference]:
    document = message.document
    if document is None:
        return
    for element in document.elements():
        for name, attribute in element.attributes.items():
            if (name == "src" and element.tag in ("img", "input")) or (name == "background" and is_picture_address(attribute.value)):
                yield ImageReference(element, attribute, attribute.value, attribute.value_span)
            elif name == "style" and "url(" in attribute.value.lower():
                raw = document.source.slice(attribute.value_span)
                for declaration in declarations(attribute.value):
                    for value in urls(declaration.value):
                        at = raw.find(value)
                        if value and at >= 0:
                            start = attribute.value_span.start + at
                            yield ImageReference(element, attribute, value, Span(start, start + len(value)))


def remote_key(value: str) -> str:
    """One spelling for the address of a picture that lies on a server, as a browser asks for it (WHATWG URL); empty for any other value.

    An address without a scheme is https.
    """
    value = value.strip()
    if value.startswith("//"):
        value = f"https:{value}"
    if value[:5].lower() != "http:" and value[:6].lower() != "https:":
        return ""
    # Loaded when first used: most messages carry their pictures, and it takes some hundredths of a second.
    import ada_url

    try:
        return str(ada_url.URL(value[: LIMITS.value_characters].partition("#")[0].encode("utf-8", "replace").decode()).href)
    except (ValueError, UnicodeError):
        return ""
