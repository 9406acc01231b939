"""Text is large enough to read and links are large enough to hit."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Context, Hit, Level, Options, Place, SampleBlock, box, check, clear, finds, laid_out
from jetwind.core.checking.options import About
from jetwind.core.checks.rendered import element_of, need_renders, says_something, seen_in, some
from jetwind.core.message import Message
from jetwind.core.prose.outline import outline_of
from jetwind.core.renders.measured import Block, Measured

_WHITE, _BLACK = (255, 255, 255, 1), (0, 0, 0, 1)


def _text(size: float, characters: int = 80, selector: str = "p") -> SampleBlock:
    """Black letters of a size on white."""
    return box(selector, "text", (0, 0, 200, 20), characters=characters, size=size, colour=_BLACK, ground=_WHITE)


@dataclass(frozen=True)
class TextOptions(Options):
    """The options that a house may set."""

    body_px: Annotated[float, About("the smallest type of copy", unit="px")] = 12.0
    phone_px: Annotated[float, About("the smallest type of copy on a phone", unit="px")] = 14.0
    footer_px: Annotated[float, About("the smallest type of a footer", unit="px")] = 10.0
    least_characters: Annotated[int, About("shorter texts are labels, not copy", unit="characters")] = 40


@check(
    id="access.text-small",
    name="Text too small",
    level=Level.FIX,
    why="Many readers cannot read it without enlarging the message, on a phone hardly any.",
    fix="Set body copy at 14 px or more and the footer at 10 px or more.",
    basis="Common practice, no published source; measured on the render",
    options=TextOptions,
    samples=[
        clear("<p>Words enough to be copy.</p>", renders=laid_out("desktop-pane", _text(12))),
        clear("<p>Words enough to be copy.</p>", renders=laid_out("phone-upright", _text(14))),
        clear("<p>Words.</p>", renders=laid_out("desktop-pane", _text(9, 6))),
        clear(
            "<p>Words enough to be copy.</p><p>Small print.</p>",
            renders=laid_out("phone-upright", _text(14, 400), _text(10, 120, "p + p")),
        ),
        clear("<p>Words enough to be copy.</p>", renders=laid_out("phone-upright", _text(24), width=640, scale=0.61)),
        finds("<p>Words enough to be copy.</p>", "<p>", renders=laid_out("phone-upright", _text(16), width=640, scale=0.61)),
        finds("<p>Words enough to be copy.</p>", "<p>", renders=laid_out("desktop-pane", _text(11))),
        finds("<p>Words enough to be copy.</p>", "<p>", renders=laid_out("phone-upright", _text(13))),
    ],
)
def find_small(message: Message, context: Context, options: TextOptions) -> Iterator[Hit]:
    """Body copy has 12 px or more, on a phone 14 px, and the footer 10 px."""
    document, renders = need_renders(message, context)
    found: dict[tuple[str, float], tuple[float, list[int], list[str], list[tuple[float, float, float]]]] = {}
    for render in renders.renders.values():
        copy = options.phone_px if render.profile.is_phone else options.body_px
        end = _end_of_copy(render.measured, copy, options.least_characters)
        for block in render.measured.of("text"):
            element = element_of(document, block)
            if element is None or block.size < 4 or block.characters < options.least_characters or not says_something(element):
                continue
            section = outline_of(message).section_of(element)
            if section == "header":
                continue
            if block.element > end:
                section = "footer"
            least = options.footer_px if section == "footer" else copy
            if block.size * render.measured.scale < least - 0.05:
                # A message that is shown smaller to fit is one fault however many sizes it has; each client shrinks it in its own way.
                shrunk = render.measured.scale < 1
                _, elements, ids, scales = found.setdefault((section, 0.0 if shrunk else block.size), (least, [], [], []))
                elements.append(block.element)
                ids.append(render.profile.id)
                scales.append((block.size * render.measured.scale, block.size, render.measured.scale))
    for (where, size), (least, elements, ids, scales) in found.items():
        element = document.all_elements[min(elements)]
        smallest, of_size, scale = min(scales)
        yield Hit(
            "{section} of {size} px is under {least} px, in {profiles}."
            if scale == 1
            else "{section} of {size} px, shrunk to {scale} %, has {shown} px, under {least} px, in {profiles}.",
            Place.in_html(message, element.start_tag, element.index),
            {
                "section": "Footer text" if where == "footer" else "Body copy",
                "size": f"{of_size:g}",
                "scale": round(scale * 100),
                "shown": f"{smallest:.1f}",
                "least": f"{least:g}",
                "places": len(set(elements)),
                "elements": sorted(set(elements)),
                **seen_in(renders, ids),
            },
            identity=f"{where} {size:g}" if scale == 1 else f"{where} shrunk",
        )


def _end_of_copy(measured: Measured, least: float, characters: int) -> int:
    """The last element of copy in the size of most of it, or in full size: smaller print after it is a footer, whatever it says."""
    letters: Counter[float] = Counter()
    for block in measured.of("text"):
        letters[block.size] += block.characters
    usual = letters.most_common(1)[0][0] if letters else least
    large = [block.element for block in measured.of("text") if block.size >= min(least, usual) and block.characters >= characters]
    return max(large, default=10**9)


@check(
    id="access.tap-small",
    name="Link too small to tap",
    level=Level.FIX,
    why="A finger hits what stands beside it.",
    fix="Give the link padding until it is 24 × 24 px, or room of 24 px around its middle.",
    basis="WCAG 2.2 SC 2.5.8",
    samples=[
        clear("<a href=x>x</a>", renders=laid_out("phone-upright", box("a", "link", (0, 0, 24, 24)))),
        clear("<a href=x>x</a>", renders=laid_out("phone-upright", box("a", "link", (40, 40, 12, 12)))),
        clear(
            "<p>a <a href=x>x</a> <a href=y>y</a></p>",
            renders=laid_out(
                "phone-upright", box("a", "link", (0, 0, 12, 12), in_text=True), box("a + a", "link", (14, 0, 12, 12), in_text=True)
            ),
        ),
        # The first line of a link that breaks is short: what stands above its second line's free end is far enough.
        clear(
            "<a href=x>x</a><a href=y>y</a>",
            renders=laid_out(
                "phone-upright",
                box("a", "link", (0, 0, 200, 30), lines=((0, 0, 200, 15), (0, 15, 40, 15))),
                box("a + a", "link", (120, 32, 60, 15)),
            ),
        ),
        finds(
            "<a href=x>x</a><a href=y>y</a>",
            "<a href=x>",
            renders=laid_out("phone-upright", box("a", "link", (0, 0, 12, 12)), box("a + a", "link", (14, 0, 40, 40))),
        ),
        finds(
            "<a href=x>x</a><a href=y>y</a><a href=z>z</a>",
            "<a href=x>",
            renders=laid_out(
                "phone-upright",
                box("a", "link", (0, 0, 60, 12)),
                box("a + a", "link", (0, 14, 60, 12)),
                box("a + a + a", "link", (0, 28, 60, 12)),
            ),
        ),
    ],
)
def find_small_targets(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """On a phone, links have 24 × 24 CSS px, or a circle of 24 px that meets no other, or stand in a sentence.

    Links that crowd each other are one fault: a list of twenty is mended once.
    """
    document, renders = need_renders(message, context)
    crowds: list[tuple[dict[int, Block], set[str]]] = []
    for render in some(renders, "a phone", device="phone"):
        for crowd in crowded(render.measured):
            together = {block.element: block for block in crowd if element_of(document, block) is not None}
            ids = {render.profile.id}
            # The same links in another profile, or some of them.
            for known in [known for known in crowds if known[0].keys() & together.keys()]:
                crowds.remove(known)
                together = known[0] | together
                ids |= known[1]
            if together:
                crowds.append((together, ids))
    for together, found_in in sorted(crowds, key=lambda crowd: min(crowd[0])):
        first = min(together)
        block = together[first]
        yield Hit(
            "A link of {width} × {height} px stands close to another, in {profiles}."
            if len(together) == 1
            else "{places} links, the first of {width} × {height} px, stand close to each other, in {profiles}.",
            Place.in_html(message, document.all_elements[first].start_tag, first),
            {
                "width": f"{block.width:g}",
                "height": f"{block.height:g}",
                "places": len(together),
                "elements": sorted(together),
                **seen_in(renders, [render.profile.id for render in renders.renders.values() if render.profile.id in found_in]),
            },
        )


#: Side of the least target and diameter of the free circle, in CSS px (WCAG 2.2 SC 2.5.8).
_LEAST = 24.0


def small_targets(measured: Measured) -> list[Block]:
    """Links under 24 × 24 px that no exception covers: in a sentence, or with a free circle of 24 px around the middle."""
    targets = [block for block in measured.of("link") if block.width >= 1 and block.height >= 1]
    small = [block for block in targets if min(block.width, block.height) < _LEAST - 0.05 and not block.in_text]
    return [block for block in small if any(_crowds(block, other) for other in targets if other is not block)]


def crowded(measured: Measured) -> list[list[Block]]:
    """Small targets by the crowd they stand in, in the order of the source; one that is crowded by a large link only stands alone."""
    found: list[list[Block]] = []
    for block in small_targets(measured):
        near = [crowd for crowd in found if any(_crowds(block, other) or _crowds(other, block) for other in crowd)]
        for crowd in near:
            found.remove(crowd)
        found.append([*(other for crowd in near for other in crowd), block])
    return found


def _crowds(block: Block, other: Block) -> bool:
    """Whether a circle around a small target meets another target, or the circle of another small one.

    A link that is broken over lines is hit on its lines, not in the box around them: each has its circle, each is in the way.
    """
    if other.x <= block.x and other.right >= block.right and other.y <= block.y and other.bottom >= block.bottom and not other.lines:
        return False
    is_small = min(other.width, other.height) < _LEAST
    other_x, other_y = other.x + other.width / 2, other.y + other.height / 2
    for left, top, width, height in block.boxes:
        x, y = left + width / 2, top + height / 2
        if is_small and ((x - other_x) ** 2 + (y - other_y) ** 2) ** 0.5 < _LEAST - 0.05:
            return True
        for from_x, from_y, wide, tall in other.boxes:
            near_x = min(max(x, from_x), from_x + wide)
            near_y = min(max(y, from_y), from_y + tall)
            if ((x - near_x) ** 2 + (y - near_y) ** 2) ** 0.5 < _LEAST / 2 - 0.05:
                return True
    return False
