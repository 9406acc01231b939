"""Pictures have about the pixels that they are shown with, in their own proportions, inside the box that holds them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Annotated, Unpack

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, SampleBlock, box, check, clear, finds, laid_out
from jetwind.core.checking.options import About
from jetwind.core.checking.sample_values import BlockValues
from jetwind.core.checking.samples import pictured
from jetwind.core.checks.images.files import hit, need_shown
from jetwind.core.checks.needs import need_html, pictures_in, told_of_all
from jetwind.core.images import is_spacer, shown_size
from jetwind.core.images.collecting import Picture, Use
from jetwind.core.markup import Element
from jetwind.core.message import Message, Shared
from jetwind.core.profiles.word_processor import revealed
from jetwind.core.prose.outline import Width, outline_of
from jetwind.core.source import Span, Spans

_WIDTHS: Shared[dict[int, Width | None]] = Shared("widths of boxes")

_A = "https://pictures.kiln.org/bowl.jpg"
_IMAGE = f"<img src='{_A}' width='600' height='400' alt='Bowl'>"
_BARE = f"<img src='{_A}' alt='Bowl'>"


def _seen(width: float, height: float, **more: Unpack[BlockValues]) -> SampleBlock:
    return box("img", "image", (0, 0, width, height), **more)


@dataclass(frozen=True, slots=True)
class Size:
    """How large a place shows a picture, in CSS px, and in which profile; none where the markup alone says so."""

    width: float
    height: float | None
    profile_id: str = ""


def sizes(message: Message, context: Context, use: Use) -> list[Size]:
    """How large a place shows its picture: as each render measured it; without renders, as attributes and styles say."""
    if use.element is None or use.way not in ("image", "candidate"):
        return []
    renders = context.renders
    found = [
        Size(block.width, block.height, profile_id)
        for profile_id, render in (renders.renders.items() if renders is not None else ())
        if (block := render.measured.by_element.get(use.element.index)) is not None
        and block.kind == "image"
        and not block.is_broken
        and block.width > 0
    ]
    if found:
        return found
    width, height = shown_size(message, use.element)
    return [Size(width, height)] if width else []


def widest(message: Message, context: Context, picture: Picture) -> float | None:
    """The most CSS px of width that a picture is shown with anywhere; None where nobody knows."""
    return max((size.width for use in picture.uses for size in sizes(message, context, use)), default=None)


def _judged(message: Message, context: Context) -> Iterator[tuple[Picture, float]]:
    """Pictures of pixels that are shown, with their widest shown width."""
    for picture in need_shown(pictures_in(message, context)):
        facts = picture.facts
        if facts is None or facts.format == "SVG" or not facts.width or all(_is_gap(message, use) for use in picture.uses):
            continue
        width = widest(message, context, picture)
        if width is not None:
            yield picture, width


def _is_gap(message: Message, use: Use) -> bool:
    return use.element is not None and use.element.tag == "img" and is_spacer(message, use.element)


@dataclass(frozen=True)
class OversizedOptions(Options):
    """The options that a house may set."""

    most_times: Annotated[float, About("pixels to a CSS px of the widest place; screens have two")] = 2.2
    least_px: Annotated[int, About("narrower pictures pass", unit="px")] = 100


@check(
    id="images.oversized",
    name="Picture with more pixels than are shown",
    level=Level.FIX,
    why="The reader waits and pays for pixels that no screen shows.",
    fix="Scale it to twice the width that it is shown with.",
    basis="Common practice, no published source; shown width as measured on the renders",
    options=OversizedOptions,
    samples=[
        clear(_IMAGE, given=pictured(_A, 1200, 800)),
        clear(_IMAGE, given=pictured(_A, 1320, 880)),
        clear(f"<img src='{_A}' width='40' height='40' alt='x'>", given=pictured(_A, 100, 100)),
        clear(_BARE, given=pictured(_A, 2400, 1600)),
        clear(_IMAGE),
        clear(f"<img src='{_A}' width='100%' alt='x'>", given=pictured(_A, 1200, 800), renders=laid_out("desktop-pane", _seen(600, 400))),
        clear(f"<td background='{_A}'>x</td>", given=pictured(_A, 2400, 1600)),
        finds(_IMAGE, at=_A, given=pictured(_A, 1321, 880)),
        finds(
            f"<img src='{_A}' width='100%' alt='x'>",
            at=_A,
            given=pictured(_A, 2400, 1600),
            renders=laid_out("desktop-pane", _seen(600, 400)),
        ),
    ],
)
def find_oversized(message: Message, context: Context, options: OversizedOptions) -> Iterator[Hit]:
    """No picture has over 2.2 times the pixels across that it is shown with."""
    for picture, shown in _judged(message, context):
        assert picture.facts is not None
        if picture.facts.width > max(options.least_px, options.most_times * shown):
            yield hit(
                message,
                picture,
                "{name} is {pixels} px wide and shown at {shown} px.",
                pixels=f"{picture.facts.width:,}",
                shown=f"{shown:g}",
            )
    told_of_all(pictures_in(message, context))


@check(
    id="images.upscaled",
    name="Picture with fewer pixels than are shown",
    level=Level.FIX,
    why="It looks blurred, most of all on the dense screens of phones.",
    fix="Put in a picture of twice the width that it is shown with.",
    basis="Common practice, no published source; shown width as measured on the renders",
    samples=[
        clear(_IMAGE, given=pictured(_A, 600, 400)),
        clear(_IMAGE, given=pictured(_A, 598, 400)),
        clear(_IMAGE, given=pictured(_A, 1, 1)),
        clear(_IMAGE, given=pictured(_A, 300, 200, format="SVG")),
        clear(f"<img src='{_A}' width='600' height='2' alt=''>", given=pictured(_A, 20, 2)),
        finds(_IMAGE, at=_A, given=pictured(_A, 500, 333)),
        finds(
            f"<img src='{_A}' width='100%' alt='x'>", at=_A, given=pictured(_A, 500, 333), renders=laid_out("desktop-pane", _seen(600, 400))
        ),
    ],
)
def find_upscaled(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No picture is shown wider than it has pixels."""
    for picture, shown in _judged(message, context):
        assert picture.facts is not None
        # A pixel or two are the rounding of a column; a ground of a few px is stretched on purpose.
        if picture.facts.width < shown * 0.99 - 1 and min(picture.facts.width, picture.facts.height) > 3:
            yield hit(
                message, picture, "{name} is {pixels} px wide and shown at {shown} px.", pixels=picture.facts.width, shown=f"{shown:g}"
            )
    told_of_all(pictures_in(message, context))


@check(
    id="images.distorted",
    name="Picture out of proportion",
    level=Level.FIX,
    why="Faces and pots look squeezed.",
    fix="Give width and height in the picture's own proportions, or the width alone.",
    basis="Common practice, no published source; sizes as measured on the renders",
    samples=[
        clear(_IMAGE, given=pictured(_A, 1200, 800)),
        clear(_IMAGE, given=pictured(_A, 1200, 815)),
        clear(f"<img src='{_A}' width='32' height='32' alt='x'>", given=pictured(_A, 64, 63)),
        clear(f"<img src='{_A}' width='600' height='300' style='object-fit:cover' alt='x'>", given=pictured(_A, 1200, 800)),
        clear(f"<img src='{_A}' width='600' alt='x'>", given=pictured(_A, 1200, 800)),
        clear(f"<img src='{_A}' width='600' height='20' alt=''>", given=pictured(_A, 1, 1)),
        clear(
            f"<img src='{_A}' width='200' style='padding:20px' alt='x'>",
            given=pictured(_A, 400, 200),
            renders=laid_out("desktop-pane", _seen(240, 140)),
        ),
        finds(f"<img src='{_A}' width='600' height='300' alt='x'>", at=_A, given=pictured(_A, 1200, 800)),
        finds(_IMAGE, at=_A, given=pictured(_A, 1200, 800), renders=laid_out("phone-upright", _seen(390, 400))),
    ],
)
def find_distorted(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The proportions that a picture is shown in are its own, within 3 %."""
    pictures = need_shown(pictures_in(message, context))
    for picture in pictures:
        facts = picture.facts
        if facts is None or facts.format == "SVG" or min(facts.width, facts.height) <= 3:
            continue
        for use in picture.uses:
            bent = _bent(message, context, use, facts.width / facts.height)
            if bent is None:
                continue
            assert use.element is not None
            own = f"{facts.width:,} × {facts.height:,}"
            data = {"name": picture.name, "own": own, "shown": f"{bent.width:g} × {bent.height:g}"}
            yield Hit(
                "{name} of {own} px is shown at {shown} px, out of proportion.",
                Place.in_html(message, use.span, use.element.index),
                data,
                identity=picture.key,
            )
    told_of_all(pictures)


def _bent(message: Message, context: Context, use: Use, own: float) -> Size | None:
    """The first size that is out of proportion by more than 3 % and 1.5 px; a box with padding or a border tells nothing of the picture in it."""
    element = use.element
    if element is None or use.way != "image" or element.tag != "img" or is_spacer(message, element) or _fits_itself(message, element):
        return None
    for size in sizes(message, context, use):
        if size.height is None or size.height <= 3 or size.width <= 3:
            continue
        right = size.width / own
        if abs(size.height - right) > max(1.5, 0.03 * right):
            return size
    return None


def _fits_itself(message: Message, element: Element) -> bool:
    cascade = message.cascade
    if (cascade.value(element, "object-fit") or "fill").strip().lower() not in ("fill", ""):
        return True
    boxed = ("padding", "border", *(f"{kind}-{side}" for kind in ("padding", "border") for side in ("top", "right", "bottom", "left")))
    plain = ("0", "0px", "none", "0 none")
    return any((cascade.value(element, name) or "0").strip().lower() not in plain for name in boxed) or (
        element.get("border") or "0"
    ).strip() not in ("0", "")


@check(
    id="images.wide",
    name="Picture wider than its box",
    level=Level.FIX,
    why="It pushes the columns apart, or the message goes sideways.",
    fix="Give it the width of its box at most.",
    basis="Common practice, no published source",
    together="{many} pictures are wider than their boxes.",
    samples=[
        clear(f"<table width='600'><tr><td>{_IMAGE}<p>Copy</p></td></tr></table>"),
        clear(f"<table width='600'><tr><td><img src='{_A}' width='1200' style='max-width:100%' alt='x'><p>Copy</p></td></tr></table>"),
        clear(f"<table width='100%'><tr><td><img src='{_A}' width='800' alt='x'><p>Copy</p></td></tr></table>"),
        clear(f"<table width='600'><tr><td width='200'>x</td><td width='400'><img src='{_A}' width='400' alt='x'></td></tr></table>"),
        finds(f"<table width='600'><tr><td><img src='{_A}' width='640' alt='x'><p>Copy</p></td></tr></table>", at=_A),
        finds(
            f"<table width='600'><tr><td width='200'>x</td><td width='400'><img src='{_A}' width='440' alt='x'></td></tr></table>", at=_A
        ),
    ],
)
def find_wide(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No picture is given a greater width than the box around it."""
    _, document = need_html(message)
    found = False
    for element in document.elements("img"):
        found = True
        source = element.attributes.get("src")
        width, _ = shown_size(message, element)
        if source is None or width is None or message.cascade.is_hidden(element) or _is_held_down(message, element):
            continue
        room = _room(message, element)
        if room is not None and width > room + _TOLERANCE:
            data = {"name": source.value.strip()[:300], "width": f"{width:g}", "room": f"{room:g}"}
            yield Hit(
                "A picture of {width} px stands in a box of {room} px.",
                Place.in_html(message, source.value_span, element.index),
                data,
                identity=data["name"],
            )
    if not found:
        raise DoesNotApply("the message shows no pictures")


#: Differences that no client shows, in px.
_TOLERANCE = 5


def _is_held_down(message: Message, element: Element) -> bool:
    limit = (message.cascade.value(element, "max-width") or "").strip().lower()
    return limit.endswith("%") or limit.startswith(("min(", "calc("))


#: Boxes around a picture that are asked for their width: hostile markup nests thousands.
_MOST_BOXES = 40


def _room(message: Message, element: Element) -> float | None:
    """The width in px of the nearest box around an element that has one."""
    for place in islice(element.ancestors(), _MOST_BOXES):
        if place.tag in ("td", "th", "div", "table", "p", "center", "section"):
            widths: dict[int, Width | None] = message.shared(_WIDTHS, dict)
            if place.index not in widths:
                widths[place.index] = outline_of(message).width(place)
            width = widths[place.index]
            if width is not None and not width.is_percent:
                return width.value
    return None


@check(
    id="images.no-width",
    name="Picture without a width attribute",
    level=Level.FIX,
    why="Desktop clients with a word processor's engine show all its pixels and ignore the style.",
    fix="Write the width in CSS px into the width attribute.",
    basis="Open support dataset (CSS width on pictures); the word-processor engine's own way from memory",
    together="{many} pictures have no width attribute.",
    samples=[
        clear(_IMAGE),
        clear(f"<img src='{_A}' width='100%' alt='x'>"),
        clear(f"<img src='{_A}' style='width:1px;height:1px' alt=''>"),
        clear("<img src='cid:gone' style='display:none' alt=''>"),
        clear(f"<!--[if !mso]><!-->{_BARE}<!--<![endif]--><![if !mso]>{_BARE}<![endif]>"),
        clear(_BARE, given=pictured(_A, 300, 200)),
        clear(f"<table width='600'><tr><td><img src='{_A}' style='width:300px' alt='x'></td></tr></table>", given=pictured(_A, 300, 200)),
        finds(_BARE, at=_BARE),
        finds(f"<!--[if !mso]><!--><p>x</p><!--<![endif]-->{_BARE}", at=_BARE),
        finds(f"<img src='{_A}' style='width:300px' alt='x'>", given=pictured(_A, 600, 400)),
        finds(f"<table width='600'><tr><td>{_BARE}</td></tr></table>", given=pictured(_A, 1200, 800)),
    ],
)
def find_no_width(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every picture has a width attribute, unless its pixels are the width that is meant."""
    _, document = need_html(message)
    known = {use.element.index: picture for picture in _all(message, context) for use in picture.images if use.element is not None}
    # The engine that goes by the attribute never sees what stands in blocks for all others.
    unseen = Spans(revealed(document.masked(Span(0, len(document.source.text))))[2] if "[if" in document.source.text.lower() else [])
    found = False
    for element in document.elements("img"):
        found = True
        if (element.get("width") or "").strip() or message.cascade.is_hidden(element) or is_spacer(message, element):
            continue
        if element.start_tag is not None and element.start_tag.start in unseen:
            continue
        picture = known.get(element.index)
        if picture is not None and (picture.is_tracking or _is_meant(message, element, picture)):
            continue
        source = (element.get("src") or "without address").strip()
        data = {"name": picture.name if picture is not None else source[:300]}
        yield Hit(
            "The picture {name} has no width attribute.",
            Place.in_html(message, element.start_tag, element.index),
            data,
            identity=source[:300],
        )
    if not found:
        raise DoesNotApply("the message shows no pictures")


def _all(message: Message, context: Context) -> list[Picture]:
    try:
        return pictures_in(message, context)
    except DoesNotApply:
        return []


def _is_meant(message: Message, element: Element, picture: Picture) -> bool:
    """Whether its own pixels are what the style asks for, or fit into the box where no style asks for any."""
    facts = picture.facts
    if facts is None or not facts.width or facts.format == "SVG":
        return False
    width, _ = shown_size(message, element)
    if width is not None:
        return abs(width - facts.width) <= 1
    return not (message.cascade.value(element, "width") or "").strip() and facts.width <= (_room(message, element) or 600)
