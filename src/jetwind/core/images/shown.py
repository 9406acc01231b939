"""How large a picture is shown, as far as attributes and styles say."""

from __future__ import annotations

import re

from jetwind.core.images.measure import measure
from jetwind.core.markup import Element
from jetwind.core.message import Message, Shared
from jetwind.core.styles import length_px

_SIZES: Shared[dict[int, tuple[float | None, float | None]]] = Shared("shown sizes")

_DIGITS = re.compile(r"\s*(\d+(?:\.\d+)?)\s*(?:px)?\s*\Z")


def shown_size(message: Message, element: Element) -> tuple[float | None, float | None]:
    """Width and height in CSS px that attributes or styles ask for; None where they do not say."""
    known: dict[int, tuple[float | None, float | None]] = message.shared(_SIZES, dict)
    if element.index not in known:
        known[element.index] = _shown_size(message, element)
    return known[element.index]


def _shown_size(message: Message, element: Element) -> tuple[float | None, float | None]:
    sizes: list[float | None] = []
    for name in ("width", "height"):
        size = length_px(message.cascade.value(element, name))
        if size is None and (match := _DIGITS.match(element.get(name) or "")):
            size = float(match[1])
        sizes.append(size)
    return sizes[0], sizes[1]


def is_spacer(message: Message, element: Element) -> bool:
    """Whether a picture only measures or counts: shown at 1 to 3 px one way, or its file is that small.

    Common practice, no published source: tracking pixels are 1 px, spacers 1 to 3 px.
    """
    sizes = [size for size in shown_size(message, element) if size is not None]
    if any(size <= 3 for size in sizes):
        return True
    resource = message.resource(element.get("src") or "")
    if resource is None:
        return False
    facts = measure(resource.data)
    return facts is not None and max(facts.width, facts.height) <= 3
