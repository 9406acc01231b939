"""The way out of the list can be seen, and says what it is."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Annotated

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.footer.asked import need_bulk
from jetwind.core.checks.footer.unsubscribe import hidden_way_out
from jetwind.core.facts import phrase_pattern
from jetwind.core.links.collect import Link
from jetwind.core.links.way_out import ADDRESS_WORDS, ways_out
from jetwind.core.markup import Element, TextRun
from jetwind.core.message import Message, Shared
from jetwind.core.prose.reading import tidy
from jetwind.core.styles import length_px
from jetwind.core.styles.computed import ComputedStyles
from jetwind.core.styles.contrast import contrast, over, ratio

_STYLES: Shared[ComputedStyles] = Shared("computed styles")

_LINK = '<a href="https://kiln.org/u">Unsubscribe</a>'
_WHITE = (255, 255, 255, 1.0)


@dataclass(frozen=True)
class HiddenOptions(Options):
    """The options that a house may set."""

    least_size: Annotated[float, About("the smallest type of an unsubscribe link", unit="px")] = 8
    least_contrast: Annotated[float, About("the least contrast between it and its ground")] = 2


@check(
    id="footer.unsubscribe-hidden",
    name="Unsubscribe link that is hard to see",
    level=Level.STOP,
    why="The law asks for a way out that is clear and conspicuous.",
    fix="Set it as text of at least 10 px in a colour that stands out from its ground.",
    basis="15 U.S.C. 7704(a)(5) (from memory); the two limits are common practice",
    options=HiddenOptions,
    merged=True,
    samples=[
        clear(f"<p style='font-size:12px;color:#666'>{_LINK}</p>"),
        clear("<table bgcolor='#1b2430'><tr><td><a href='https://kiln.org/u' style='color:#fff'>Unsubscribe</a></td></tr></table>"),
        clear("<div style='font-size:0'><a href='https://kiln.org/u' style='font-size:12px'>Unsubscribe</a></div>"),
        clear(f"<p style='font-size:6px'>{_LINK}</p><p>{_LINK}</p>"),  # one that is seen is enough
        clear(f"<div style='display:none'>{_LINK}</div><p>{_LINK}</p>"),
        clear("<div style='background:url(a.png)'><a href='https://kiln.org/u' style='color:#fff'>Unsubscribe</a></div>"),
        clear('<p>To unsubscribe, <a href="https://kiln.org/u"><img src="a.png" alt="press here"></a></p>'),
        clear("<p>Your receipt</p>", kind="transactional"),
        clear('<a href="#" style="font-size:6px">Unsubscribe</a>'),  # told once, by links.empty
        clear("<p>Sale</p>"),  # told once, by footer.unsubscribe-missing
        finds(f"<p>Sale</p><p style='font-size:6px'>{_LINK}</p>"),
        finds("<p>Sale</p><a href='https://kiln.org/u' style='color:#fdfdfd'>Unsubscribe</a>"),
        finds("<table bgcolor='#eeeeee'><tr><td><a href='https://kiln.org/u' style='color:#dddddd'>Unsubscribe</a></td></tr></table>"),
        finds(f"<p>Sale</p><div style='display:none'>{_LINK}</div>"),
        finds('<p>Sale</p><a href="https://kiln.org/unsubscribe"><img src="a.png" width="200" height="30" alt="Unsubscribe"></a>'),
    ],
)
def find_hidden(message: Message, context: Context, options: HiddenOptions) -> Iterator[Hit]:
    """At least one link out of the list is text that can be read."""
    need_bulk(context, "footer.unsubscribe-hidden", "a transactional message needs no unsubscribe link")
    if message.document is None:
        raise DoesNotApply("the message has no HTML part")
    ways = list(islice(ways_out(message), 50))
    if not ways:
        hidden = hidden_way_out(message)
        if hidden is not None:
            yield _hit(message, hidden, "The unsubscribe link is hidden: {why}.", "no reader sees it")
        return
    if any(way.element is None for way in ways):
        return
    if not all(_may_be_faint(message, way) for way in ways):
        return
    styles = message.shared(_STYLES, lambda: ComputedStyles(message.document))  # type: ignore[arg-type]
    faults = [(way, _fault(message, way, styles, options)) for way in ways]
    if all(why for _, why in faults):
        way, why = faults[0]
        yield _hit(message, way, "The unsubscribe link is hard to see: {why}.", why)


def _hit(message: Message, link: Link, sentence: str, why: str) -> Hit:
    element = link.element
    assert element is not None
    return Hit(sentence, Place.in_html(message, element.start_tag, element.index), {"why": why}, identity="hidden")


#: Type under this is worth a closer look, in px; as is any size that is not told in px.
_SMALL = 11.0


def _may_be_faint(message: Message, way: Link) -> bool:
    """Whether a link is worth working out the styles of the whole message for: small type, a light colour, no words at all."""
    assert way.element is not None
    if not tidy(way.element.text):
        return True
    around = (*(node for node in way.element.walk() if isinstance(node, Element)), way.element, *islice(way.element.ancestors(), 60))
    for element in around:
        size = message.cascade.value(element, "font-size")
        px = length_px(size)
        if (
            (size is not None and (px is None or px < _SMALL))
            or message.cascade.value(element, "font")
            or element.tag in ("font", "small", "sub", "sup")
        ):
            return True
        if message.cascade.value(element, "background-image") or element.get("background"):
            continue
        if (element is way.element or element not in way.element.ancestors()) and message.cascade.value(element, "color"):
            return True
    return False


def _fault(message: Message, way: Link, styles: ComputedStyles, options: HiddenOptions) -> str:
    """Why a link is hard to see; empty where it is not, or nobody can tell."""
    assert way.element is not None
    runs = [node for node in way.element.walk() if isinstance(node, TextRun) and tidy(node.text) and not message.cascade.is_hidden(node)]
    if not runs:
        has_picture = any(isinstance(node, Element) and node.tag == "img" for node in way.element.walk())
        around = next((parent for parent in way.element.ancestors() if parent.tag in ("p", "td", "div", "li", "th", "center")), None)
        says = around is not None and len(around.text) < 2_000 and phrase_pattern("phrases", "unsubscribe").search(around.text)
        return "it is only in a picture" if has_picture and not says else ""
    sizes = [size for run in runs if (size := styles.px(run.parent, "font-size")) is not None]
    if sizes and max(sizes) < options.least_size:
        return f"its type is {max(sizes):g} px"
    seen = [value for run in runs if (value := _contrast(message, run.parent, styles)) is not None]
    if seen and len(seen) == len(runs) and max(seen) < options.least_contrast:
        return f"its contrast is {ratio(max(seen))} : 1"
    return ""


def _contrast(message: Message, element: Element, styles: ComputedStyles) -> float | None:
    """Contrast of an element's text with its ground; None where a picture or an unknown colour lies behind it."""
    colour = styles.colour(element)
    ground: tuple[float, float, float, float] = _WHITE
    for number, around in enumerate((element, *element.ancestors())):
        if number > 100 or around.get("background") or (styles.value(around, "background-image") or "none") != "none":
            return None
        behind = styles.colour(around, "background-color")
        if behind is None or 0 < behind[3] < 1:
            return None
        if behind[3] == 1:
            ground = behind
            break
    if colour is None:
        return None
    return contrast(over(colour, ground), ground)


@check(
    id="footer.unsubscribe-words",
    name="Unsubscribe link that does not say so",
    level=Level.NOTE,
    why="Readers look for the word, and screen readers list links by their words alone.",
    fix="Let the link itself say “Unsubscribe”.",
    basis="Common practice, no published source",
    merged=True,
    samples=[
        clear(f"<p>{_LINK}</p>"),
        clear('<a href="https://kiln.org/u">Leave this list</a>'),
        clear('<a href="https://kiln.org/abmelden">Newsletter abbestellen</a>'),
        clear('<a href="https://kiln.org/u">Отписаться</a>'),
        clear('<a href="{{ unsubscribe_url }}">{{ unsubscribe_words }}</a>'),
        clear('<a href="https://kiln.org/unsubscribe"><img src="a.png" alt="Unsubscribe"></a>'),
        clear(f'<p>To unsubscribe, <a href="https://kiln.org/p/9">click here</a>.</p><p>{_LINK}</p>'),  # another says it
        clear("<p>Your receipt</p>", kind="transactional"),
        clear('<p>Write to <a href="mailto:leave@kiln.org">leave@kiln.org</a> to unsubscribe.</p>'),  # the address is what to use
        finds('<p>To unsubscribe, <a href="https://kiln.org/p/9f3">click here</a>.</p>'),
        finds('<p>Sale</p><a href="https://kiln.org/unsubscribe?m=1">Change</a>'),
    ],
)
def find_words(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The text of the link by which a reader leaves the list says that it does."""
    need_bulk(context, "footer.unsubscribe-words", "a transactional message needs no unsubscribe link")
    if message.document is None:
        raise DoesNotApply("the message has no HTML part")
    words = phrase_pattern("phrases", "unsubscribe")
    ways = [way for way in islice(ways_out(message), 50) if way.element is not None]
    if not ways or any(
        words.search(way.name) or "@" in way.name or message.holds_field(way.name) or ADDRESS_WORDS.search(way.name) for way in ways
    ):
        return
    first = ways[0]
    assert first.element is not None
    yield Hit(
        "The link by which a reader unsubscribes says “{name}”.",
        Place.in_html(message, first.element.start_tag, first.element.index),
        {"name": first.name or "nothing"},
        identity="words",
    )
