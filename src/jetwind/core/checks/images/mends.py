"""The mends of how pictures are asked for and shown."""

from __future__ import annotations

from collections.abc import Iterator
from html import unescape

from jetwind.core.checking import Context, Finding, Place
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, sources, turns
from jetwind.core.checking.samples import answered, opened, pictured
from jetwind.core.checks.needs import pictures_in
from jetwind.core.images import shown_size
from jetwind.core.images.collecting import Picture
from jetwind.core.images.elsewhere import remote_address
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.source import Span

_A = "https://pictures.kiln.org/bowl.jpg"
_PLAIN = "http://pictures.kiln.org/bowl.jpg"
#: A picture that is shown with its own pixels and is wider than this runs over the column of most messages, in px.
_WIDEST = 640


def _element(message: Message, place: Place) -> Element | None:
    elements = message.document.all_elements if message.document is not None else ()
    return elements[place.element] if place.element is not None and place.element < len(elements) else None


def _pictures(message: Message, context: Context) -> dict[int, Picture]:
    """The pictures by the elements that show them."""
    return {use.element.index: picture for picture in pictures_in(message, context) for use in picture.images if use.element is not None}


@mend(
    "images.no-width",
    kind=MendKind.CONFIRM,
    does="The picture gets the width that its style says, or that of its file, as its width attribute.",
    leaves="A picture whose width nobody knows in px is left to a person, and so is a file wider than 640 px.",
    samples=[
        turns(
            f"<img src='{_A}' style='width:300px' alt='x'>",
            f"<img width=\"300\" src='{_A}' style='width:300px' alt='x'>",
            given=pictured(_A, 600, 400),
        ),
        turns(
            f"<table width='600'><tr><td><img src='{_A}' style='width:240px;height:auto' alt='x'></td></tr></table>",
            f"<table width='600'><tr><td><img width=\"240\" src='{_A}' style='width:240px;height:auto' alt='x'></td></tr></table>",
        ),
        leaves_alone(f"<img src='{_A}' alt='x'>"),
        leaves_alone(f"<table width='600'><tr><td><img src='{_A}' alt='x'></td></tr></table>", given=pictured(_A, 1200, 800)),
    ],
)
def mend_no_width(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The attribute stands right behind the tag's name."""
    pictures = _pictures(message, context)
    for place in finding.places:
        element = _element(message, place)
        if element is None or element.start_tag is None or element.tag != "img" or "width" in element.names:
            continue
        width, _ = shown_size(message, element)
        picture = pictures.get(element.index)
        own = picture.facts.width if picture is not None and picture.facts is not None else 0
        width = width or (own if 3 < own <= _WIDEST else 0)
        if width and width == round(width) and width > 3:
            at = element.start_tag.start + len("<img")
            yield Change("html", Span(at, at), f' width="{round(width)}"')


@mend(
    "images.distorted",
    kind=MendKind.CONFIRM,
    does="The height attribute becomes the one that fits the width attribute and the picture's own proportions.",
    leaves="Sizes in a style, or in per cent, are left to a person.",
    samples=[
        turns(
            f"<img src='{_A}' width='600' height='300' alt='x'>",
            f"<img src='{_A}' width='600' height='400' alt='x'>",
            given=pictured(_A, 1200, 800),
        ),
        leaves_alone(f"<img src='{_A}' style='width:600px;height:300px' alt='x'>", given=pictured(_A, 1200, 800)),
    ],
)
def mend_distorted(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """Only where the attributes alone say the size."""
    pictures = _pictures(message, context)
    for place in finding.places:
        element = _element(message, place)
        picture = pictures.get(element.index) if element is not None else None
        if element is None or picture is None or picture.facts is None or not picture.facts.width:
            continue
        width, height = element.attributes.get("width"), element.attributes.get("height")
        if width is None or height is None or not width.value.strip().isdigit() or not height.value.strip().isdigit():
            continue
        right = round(int(width.value) * picture.facts.height / picture.facts.width)
        if right > 0 and "height" not in (element.get("style") or "").lower():
            yield Change("html", height.value_span, str(right))


@mend(
    "images.insecure",
    kind=MendKind.SURE,
    does="Each address that the server itself leads on to https is written so.",
    leaves="A picture whose address was not opened, or that does not come over https, is left to a person.",
    samples=[
        turns(
            f"<img src='{_PLAIN}' alt='A'>",
            f"<img src='{_A}' alt='A'>",
            given=opened(pictures=(answered(_PLAIN, 301, (_A, 200), format="JPEG", size=(600, 400)),)),
        ),
        leaves_alone(f"<img src='{_PLAIN}' alt='A'>"),
        leaves_alone(f"<img src='{_PLAIN}' alt='A'>", given=opened(pictures=(answered(_PLAIN, 200, format="JPEG", size=(600, 400)),))),
    ],
)
def mend_insecure(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The scheme, where the fetcher found the same picture behind it."""
    known = context.answers.pictures if context.answers is not None else {}
    for part, span, written in sources(message, finding):
        answer = known.get(remote_address(message, unescape(written), context.readers))
        if answer is not None and answer.leads_to_https and written.strip()[:5].lower() == "http:":
            start = span.start + written.index(written.strip())
            yield Change(part, Span(start, start + 4), "https")
