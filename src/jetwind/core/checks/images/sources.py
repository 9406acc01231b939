"""Where pictures come from, and what stands behind the words where a background does not come."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from itertools import islice

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.needs import need_html
from jetwind.core.images.elsewhere import PicturePlace, picture_places
from jetwind.core.links.addresses import parsed
from jetwind.core.markup import Document, Element, TextRun
from jetwind.core.message import Message
from jetwind.core.styles.computed import ComputedStyles
from jetwind.core.styles.contrast import Rgba, contrast, over

_GIF = "data:image/gif;base64,R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7"


def _all(message: Message) -> list[PicturePlace]:
    need_html(message)
    found = list(picture_places(message))
    if not found:
        raise DoesNotApply("the message shows no pictures")
    return found


@check(
    id="images.embedded",
    name="Picture inside the HTML",
    level=Level.FIX,
    why="Large webmail clients drop pictures that stand in their own address, and the HTML gets so heavy that others cut it off.",
    fix="Put the picture on a server, or send it along as a part.",
    basis="Open support dataset, image-base64",
    samples=[
        clear("<img src='https://kiln.org/a.png' alt='A'><img src='cid:a' alt='B'>"),
        clear("<style>@font-face { font-family: K; src: url(data:font/woff2;base64,AAAA) }</style><img src='cid:a' alt='B'>"),
        finds(f"<img src='{_GIF}' alt='A'>", at=_GIF),
        finds(f"<div style=\"background:url('{_GIF}')\">x</div>", at=_GIF),
    ],
)
def find_embedded(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No picture stands in its own address (data:)."""
    inside = [place for place in _all(message) if place.value.strip()[:11].lower() == "data:image/"]
    if inside:
        first, *others = (Place.in_html(message, place.span, place.element.index) for place in inside)
        many = f"{len(inside)} pictures stand" if len(inside) > 1 else "A picture stands"
        yield Hit("{pictures} in the HTML itself.", first, {"pictures": many}, identity="data", also=tuple(others))


@check(
    id="images.insecure",
    name="Picture over http",
    level=Level.FIX,
    why="Clients that show messages on secure pages block it, and anybody on the way can read or change it.",
    fix="Ask for it over https.",
    basis="Common practice, no published source",
    together="{many} pictures are asked for over http.",
    samples=[
        clear("<img src='https://kiln.org/a.png' alt='A'><img src='//kiln.org/b.png' alt='B'>"),
        clear("<img src='cid:a' alt='A'><a href='http://kiln.org/a.png'>x</a>"),
        clear('<img src="{{ host }}/a.png" alt="A">'),
        finds("<img src='http://kiln.org/a.png' alt='A'>", at="http://kiln.org/a.png"),
        finds("<table><tr><td background='HTTP://kiln.org/a.png'>x</td></tr></table>", at="HTTP://kiln.org/a.png"),
    ],
)
def find_insecure(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No picture is asked for over http; those of one host are one finding."""
    hosts: dict[str, list[PicturePlace]] = defaultdict(list)
    for place in _all(message):
        if place.value.strip()[:5].lower() == "http:":
            address = parsed(place.value.strip())
            hosts[address.host if address is not None else place.value.strip()[5:80]].append(place)
    for host, found in hosts.items():
        first, *others = (Place.in_html(message, place.span, place.element.index) for place in found)
        many = f"{len(found)} pictures of {host} are" if len(found) > 1 else f"A picture of {host} is"
        yield Hit("{pictures} asked for over http.", first, {"pictures": many, "host": host}, identity=host, also=tuple(others))


_BACK = "background='https://kiln.org/sea.jpg'"


@check(
    id="images.background-bare",
    name="Background picture without a colour",
    level=Level.FIX,
    why="Where the picture does not come, light words stand on a light ground.",
    fix="Set a background colour on the same box, of about the picture's lightness.",
    basis="Common practice, no published source; contrast by WCAG 2.2 SC 1.4.3",
    samples=[
        clear(f"<table><tr><td {_BACK} bgcolor='#123456'><p style='color:#fff'>Tide</p></td></tr></table>"),
        clear(f"<table><tr><td {_BACK} style='background-color:#123456'><p style='color:#fff'>Tide</p></td></tr></table>"),
        clear("<div style='background:#123456 url(https://kiln.org/sea.jpg)'><p style='color:#fff'>Tide</p></div>"),
        clear(f"<table><tr><td {_BACK}><p style='color:#222'>Tide</p></td></tr></table>"),
        clear(f"<table bgcolor='#102030'><tr><td {_BACK}><p style='color:#fff'>Tide</p></td></tr></table>"),
        clear(f"<table><tr><td {_BACK}><img src='cid:a' alt=''></td></tr></table>"),
        clear(f"<table><tr><td {_BACK}><table bgcolor='#123456'><tr><td style='color:#fff'>Tide</td></tr></table></td></tr></table>"),
        finds(f"<table><tr><td {_BACK}><p style='color:#fff'>Tide</p></td></tr></table>", at="https://kiln.org/sea.jpg"),
        finds(
            "<div style='background:url(https://kiln.org/sea.jpg) center'><b style='color:white'>Tide</b></div>",
            at="https://kiln.org/sea.jpg",
        ),
        finds(
            "<style>.h { background-image: url(https://kiln.org/sea.jpg); color: #eee }</style><div class='h'>Tide</div>",
            at="https://kiln.org/sea.jpg",
        ),
    ],
)
def find_background_bare(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Words on a background picture have a contrast of 3 : 1 on the colour that stands behind it."""
    _, document = need_html(message)
    computed = ComputedStyles(document)
    told: set[int] = set()
    for element, place in islice(_backgrounds(message, document, computed), _MOST_GROUNDS):
        if place.span.start in told or message.cascade.is_hidden(element):
            continue
        ground = _ground(computed, element)
        letters = _faint(computed, element, ground)
        if letters is not None:
            told.add(place.span.start)
            yield Hit(
                "Without the background picture, words stand on what is behind it with a contrast of {contrast} : 1.",
                Place.in_html(message, place.span, element.index),
                {"contrast": f"{letters:.1f}"},
                identity=place.value.strip()[:300],
            )


#: Boxes with a background picture that are looked at, and what is looked at inside each: a hostile message nests thousands.
_MOST_GROUNDS, _MOST_INSIDE = 60, 2_000


def _backgrounds(message: Message, document: Document, computed: ComputedStyles) -> Iterator[tuple[Element, PicturePlace]]:
    """Boxes with a background picture: by an attribute, a style attribute, or a style sheet."""
    by_sheet: dict[str, PicturePlace] = {}
    for place in _all(message):
        if place.element.tag == "style":
            by_sheet.setdefault(place.value, place)
        elif not place.is_image and place.element.tag not in ("img", "source", "input"):
            yield place.element, place
    for element in document.all_elements if by_sheet else ():
        asked = computed.value(element, "background-image") or ""
        if "url(" in asked and (own := next((place for value, place in by_sheet.items() if value in asked), None)) is not None:
            yield element, own


def _ground(computed: ComputedStyles, element: Element) -> Rgba:
    """The colour behind a box where no picture comes; white under all."""
    layers: list[Rgba] = []
    for place in (element, *element.ancestors()):
        colour = computed.colour(place, "background-color")
        if colour is not None and colour[3] > 0:
            layers.append(colour)
            if colour[3] >= 1:
                break
    ground: Rgba = (255, 255, 255, 1)
    for layer in reversed(layers):
        ground = over(layer, ground)
    return ground


def _faint(computed: ComputedStyles, element: Element, ground: Rgba) -> float | None:
    """The least contrast of words in a box that stand on this ground alone, where it is under 3 : 1."""
    worst: float | None = None
    for node in islice(element.walk(), _MOST_INSIDE):
        if not isinstance(node, TextRun) or not any(letter.isalnum() for letter in node.text):
            continue
        inner = _between(node.parent, element)
        if any((colour := computed.colour(place, "background-color")) is None or colour[3] > 0.5 for place in inner):
            continue
        colour = computed.colour(node.parent)
        value = contrast(colour, ground) if colour is not None else 21.0
        if value < _LEAST and (worst is None or value < worst):
            worst = value
    return worst


def _between(inner: Element, outer: Element) -> list[Element]:
    """The boxes inside one, from another outwards."""
    found = []
    for place in (inner, *inner.ancestors()):
        if place is outer:
            break
        found.append(place)
    return found


_LEAST = 3.0
