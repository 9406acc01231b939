"""Text stands out from its ground: by day, by night, and where pictures are blocked; links stand out from the words around them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, SampleBlock, box, check, clear, finds, laid_out
from jetwind.core.checks.rendered import element_of, need_renders, says_something, seen_in, some
from jetwind.core.markup import Document, Element
from jetwind.core.message import Message
from jetwind.core.renders import Render, Renders
from jetwind.core.renders.measured import Measured
from jetwind.core.styles.contrast import Rgba, as_hex, contrast, ratio

_WHITE, _BLACK = (255, 255, 255, 1), (0, 0, 0, 1)


def _text(colour: Rgba, ground: Rgba | None = _WHITE, size: float = 16) -> SampleBlock:
    """Forty letters of the only paragraph."""
    return box("p", "text", (0, 0, 200, 20), characters=40, size=size, colour=colour, ground=ground)


def _alternative(characters: int, colour: Rgba, *, is_broken: bool = True) -> SampleBlock:
    """The alternative text of the only picture, on white."""
    return box("img", "image", (0, 0, 90, 90), characters=characters, size=16, colour=colour, ground=_WHITE, is_broken=is_broken)


def _link(colour: Rgba, other_colour: Rgba, *, marked: bool) -> SampleBlock:
    """The only link, among words of another colour."""
    return box("a", "link", (0, 0, 20, 20), colour=colour, in_text=True, marked=marked, other_colour=other_colour)


@dataclass(frozen=True)
class _Pair:
    """Texts of one colour on one ground, by whether they are large: one cause, one finding."""

    value: float
    needed: float
    colour: Rgba
    ground: Rgba
    elements: dict[int, None]
    profiles: dict[str, None]


#: Forced night colours are our reading of what clients do: what misses the ratio by less than this is the reading's own grain.
_FORCED_GRAIN = 0.85


def faint(document: Document, renders: list[Render]) -> dict[tuple[str, str, bool], _Pair]:
    """Texts under their least contrast, by colour, ground and whether they are large."""
    found: dict[tuple[str, str, bool], _Pair] = {}
    for render in renders:
        is_forced = render.profile.is_night and render.profile.night != "asks"
        for block in render.measured.of("text"):
            value = block.contrast
            element = element_of(document, block)
            least = block.needed_contrast * (_FORCED_GRAIN if is_forced else 1)
            if value is None or element is None or value >= least or block.size < 4 or not says_something(element):
                continue
            assert block.colour is not None and block.ground is not None
            key = (as_hex(block.colour), as_hex(block.ground), block.needed_contrast == 3)
            pair = found.setdefault(
                key, _Pair(value, block.needed_contrast, colour=block.colour, ground=block.ground, elements={}, profiles={})
            )
            pair.elements[block.element] = None
            pair.profiles[render.profile.id] = None
    return found


def unmeasured(document: Document, renders: list[Render]) -> set[int]:
    """Elements with text whose contrast nobody can tell: a picture, a gradient or an unknown colour is in play."""
    return {
        block.element
        for render in renders
        for block in render.measured.of("text")
        if block.contrast is None and block.size >= 4 and (element := element_of(document, block)) is not None and says_something(element)
    }


def _tell_unmeasured(document: Document, found: set[int]) -> None:
    """Say where contrast cannot be told, so that silence is not taken for clear.

    Raises:
        CannotTell: it is so somewhere.
    """
    if not found:
        return
    start = next((tag.start for index in sorted(found) if (tag := document.all_elements[index].start_tag) is not None), 0)
    line = document.source.position(start).line
    places = f"{len(found)} places, the first" if len(found) > 1 else "one place,"
    raise CannotTell(f"text stands on a picture, a gradient or a colour that is not known, in {places} at line {line}")


def _hits(message: Message, document: Document, renders: Renders, pairs: list[_Pair]) -> Iterator[Hit]:
    for pair in pairs:
        first = document.all_elements[min(pair.elements)]
        yield Hit(
            "{letters} on {ground} has a contrast of {contrast} : 1, under {least} : 1, in {profiles}.",
            Place.in_html(message, first.start_tag, first.index),
            {
                "letters": as_hex(pair.colour),
                "ground": as_hex(pair.ground),
                "contrast": ratio(pair.value),
                "least": f"{pair.needed:g}",
                "places": len(pair.elements),
                "elements": sorted(pair.elements),
                **seen_in(renders, pair.profiles),
            },
            identity=f"{as_hex(pair.colour)} {as_hex(pair.ground)} {pair.needed}",
        )


def _by_day(renders: Renders) -> list[Render]:
    return some(renders, "one by day with images shown", is_night=False, images="on")


@check(
    id="access.contrast",
    name="Text too faint on its ground",
    level=Level.FIX,
    why="Readers with weak sight, on a dim screen or in the sun, cannot read it.",
    fix="Make the letters darker or the ground lighter until the ratio is reached.",
    basis="WCAG 2.2 SC 1.4.3; held against a general-purpose checker in the tests",
    samples=[
        clear("<p>x</p>", renders=laid_out("desktop-pane", _text((118, 118, 118, 1)))),
        clear("<p>x</p>", renders=laid_out("desktop-pane", _text((148, 148, 148, 1), size=24))),
        clear("<p>x</p>", renders=laid_out("desktop-pane", _text((200, 200, 200, 1), ground=None))),  # nobody can tell
        clear("<p>|</p>", renders=laid_out("desktop-pane", _text((200, 200, 200, 1)))),
        finds("<p>x</p>", "<p>", renders=laid_out("desktop-pane", _text((119, 119, 119, 1)))),
        finds("<p>x</p>", "<p>", renders=laid_out("desktop-pane", _text((149, 149, 149, 1), size=24))),
    ],
)
def find_faint(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """By day, text has a contrast of 4.5 : 1 on its ground, large text 3 : 1."""
    document, renders = need_renders(message, context)
    by_day = _by_day(renders)
    yield from _hits(message, document, renders, list(faint(document, by_day).values()))
    _tell_unmeasured(document, unmeasured(document, by_day))


@check(
    id="access.contrast-dark",
    name="Text too faint at night",
    level=Level.FIX,
    why="A client that turns colours for the night can leave letters and ground close together.",
    fix="Set letters and ground in the same place, and both again in a media query for the dark scheme.",
    basis="WCAG 2.2 SC 1.4.3",
    samples=[
        clear("<p>x</p>", renders=laid_out("desktop-night", _text(_WHITE, _BLACK))),
        clear("<p>x</p>", renders=laid_out("desktop-night", _text((20, 20, 20, 1), _BLACK))),
        clear("<p>x</p>", renders=laid_out("phone-night", _text((31, 31, 31, 1), (129, 129, 129, 1)))),
        finds("<p>x</p>", "<p>", renders=laid_out("desktop-night", _text((90, 90, 90, 1), _BLACK))),
    ],
)
def find_faint_at_night(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """At night, text that is clear by day keeps a contrast of 4.5 : 1 on its ground, large text 3 : 1."""
    document, renders = need_renders(message, context)
    nights = some(renders, "one by night", is_night=True)
    by_day = {
        index
        for pair in faint(document, [one for one in renders.renders.values() if not one.profile.is_night]).values()
        for index in pair.elements
    }
    kept: list[_Pair] = []
    for pair in faint(document, nights).values():
        # Faint by day is told by day; what can hardly be seen at all has vanished, which is a finding of its own.
        elements = {index: None for index in pair.elements if index not in by_day}
        if elements and pair.value >= 1.6:
            kept.append(_Pair(pair.value, pair.needed, colour=pair.colour, ground=pair.ground, elements=elements, profiles=pair.profiles))
    yield from _hits(message, document, renders, kept)
    known = unmeasured(document, [one for one in renders.renders.values() if not one.profile.is_night])
    _tell_unmeasured(document, unmeasured(document, nights) - known)


@check(
    id="access.alt-unreadable",
    name="Alternative text too faint",
    level=Level.FIX,
    why="With images blocked the alternative text is all there is, and it cannot be read.",
    fix="Set a colour on the picture that stands out from the ground behind it.",
    basis="WCAG 2.2 SC 1.4.3",
    samples=[
        clear(
            "<img alt='Spring sale'>",
            renders=laid_out("pane-blocked", _alternative(11, _BLACK)),
        ),
        clear(
            "<img alt='Spring sale'>",
            renders=laid_out("desktop-pane", _alternative(0, _WHITE, is_broken=False)),
        ),
        finds(
            "<img alt='Spring sale'>",
            "<img alt='Spring sale'>",
            renders=laid_out("pane-blocked", _alternative(11, (230, 230, 230, 1))),
        ),
    ],
)
def find_alternative_unreadable(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """With images blocked, alternative text has a contrast of 3 : 1 on what stands behind it."""
    document, renders = need_renders(message, context)
    found: dict[int, tuple[float, list[str]]] = {}
    for render in some(renders, "one with images blocked", images="blocked"):
        if render.profile.alternative != "styled":
            continue
        for block in render.measured.of("image"):
            value = block.contrast
            if block.is_broken and block.characters and value is not None and value < 3 and element_of(document, block) is not None:
                known = found.setdefault(block.element, (value, []))
                known[1].append(render.profile.id)
    for index, (value, ids) in found.items():
        element = document.all_elements[index]
        yield Hit(
            "The alternative text has a contrast of {contrast} : 1, under 3 : 1, in {profiles}.",
            Place.in_html(message, element.start_tag, index),
            {"contrast": ratio(value), **seen_in(renders, ids)},
        )


def _of_letters(measured: Measured, link: Element) -> Rgba | None:
    """The colour of most letters in a link; None where none were measured."""
    letters: Counter[Rgba] = Counter()
    for element in (link, *islice(link.elements(), _MOST_INSIDE)):
        block = measured.text_by_element.get(element.index)
        if block is not None and block.colour is not None:
            letters[block.colour] += block.characters
    return letters.most_common(1)[0][0] if letters else None


#: Elements of a link whose letters are looked at: hostile markup nests thousands.
_MOST_INSIDE = 50


@check(
    id="access.link-colour-only",
    name="Link told by its colour alone",
    level=Level.FIX,
    why="Who does not see the difference between the two colours does not find the link.",
    fix="Underline links in running text, or make them bold as well.",
    basis="WCAG 2.2 SC 1.4.1",
    samples=[
        clear(
            "<p>a <a href=x>b</a></p>",
            renders=laid_out("desktop-pane", _link((31, 95, 139, 1), _BLACK, marked=True)),
        ),
        clear(
            "<p>a <a href=x>b</a></p>",
            renders=laid_out("desktop-pane", _link((200, 60, 60, 1), _BLACK, marked=False)),
        ),
        clear(
            "<p>a <a href=x><b>b</b></a></p>",
            renders=laid_out(
                "desktop-pane",
                _link((31, 95, 139, 1), (60, 60, 60, 1), marked=False),
                box("b", "text", (0, 0, 20, 12), characters=1, colour=(200, 160, 20, 1)),
            ),
        ),
        finds(
            "<p>a <a href=x>b</a></p>",
            "<a href=x>",
            renders=laid_out(
                "desktop-pane",
                _link((31, 95, 139, 1), (60, 60, 60, 1), marked=False),
            ),
        ),
    ],
)
def find_colour_only(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A link in running text differs from it by more than colour, or by 3 : 1 in contrast."""
    document, renders = need_renders(message, context)
    found: dict[tuple[str, str], tuple[float, list[int], list[str]]] = {}
    for render in _by_day(renders):
        for block in render.measured.of("link"):
            if not block.in_text or block.marked or block.colour is None or block.other_colour is None:
                continue
            link = element_of(document, block)
            if link is None:
                continue
            # What is read are the letters inside: an element in the link may have a colour of its own.
            letters = _of_letters(render.measured, link) or block.colour
            value = contrast((*letters[:3], 1.0), (*block.other_colour[:3], 1.0))
            if value < 3:
                _, elements, ids = found.setdefault((as_hex(letters), as_hex(block.other_colour)), (value, [], []))
                elements.append(block.element)
                ids.append(render.profile.id)
    for (colour, other), (value, elements, ids) in found.items():
        element = document.all_elements[min(elements)]
        yield Hit(
            "A link in {colour} among words in {other} has no mark but its colour, {contrast} : 1, in {profiles}.",
            Place.in_html(message, element.start_tag, element.index),
            {"colour": colour, "other": other, "contrast": ratio(value), "elements": sorted(set(elements)), **seen_in(renders, ids)},
            identity=f"{colour} {other}",
        )
