"""Letters and see-through pictures of nearly the colour of their ground vanish at night."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, Place, SampleBlock, box, check, clear, finds, laid_out
from jetwind.core.checks.rendered import element_of, need_renders, says_something, seen_in, some
from jetwind.core.images.see_through import see_through
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.renders import Render
from jetwind.core.renders.measured import Block
from jetwind.core.styles.contrast import Rgba, contrast

_BLACK = (18, 18, 18, 1)


def _text(colour: Rgba) -> SampleBlock:
    """Nine letters of a colour on black, in the only paragraph."""
    return box("p", "text", (0, 0, 90, 20), characters=9, size=16, colour=colour, ground=_BLACK)


@check(
    id="appearance.dark-lost",
    name="Vanishes at night",
    level=Level.FIX,
    why="A dark drawing on nothing, or dark letters that stay dark, cannot be seen on a dark ground.",
    fix="Give the picture a light edge or ground of its own, or set letters and ground together for the night.",
    basis="Common practice, no published source; measured on the render",
    samples=[
        clear("<p>x</p>", renders=laid_out("desktop-night", _text((230, 230, 230, 1)))),
        clear("<p>x</p>", renders=laid_out("desktop-pane", _text(_BLACK))),
        finds(
            "<p>x</p>",
            "<p>",
            renders=laid_out("desktop-night", _text((27, 36, 48, 1))),
        ),
    ],
)
def find_dark_lost(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """In a night profile no text and no see-through picture has nearly the colour of its ground."""
    document, renders = need_renders(message, context)
    nights = some(renders, "one by night", is_night=True)
    days = [render for render in renders.renders.values() if not render.profile.is_night]
    lost: dict[int, tuple[str, list[str]]] = {}
    for render in nights:
        for block in render.measured.of("text", "image"):
            element = element_of(document, block)
            if element is None or block.ground is None:
                continue
            if block.kind == "text":
                value = block.contrast
                gone = value is not None and value < 1.6 and block.size >= 4 and says_something(element) and not _lost_by_day(block, days)
            else:
                gone = not block.is_broken and min(block.width, block.height) > 3 and _melts(message, element, block)
            if gone:
                lost.setdefault(block.element, ("Text" if block.kind == "text" else "A dark see-through picture", []))[1].append(
                    render.profile.id
                )
    for index, (what, ids) in lost.items():
        element = document.all_elements[index]
        yield Hit(
            "{what} can hardly be seen on its ground, in {profiles}.",
            Place.in_html(message, element.start_tag, index),
            {"what": what, **seen_in(renders, ids)},
        )


def _lost_by_day(block: Block, days: list[Render]) -> bool:
    """Whether it cannot be seen by day either: then night is not what takes it."""
    for render in days:
        same = render.measured.by_element.get(block.element)
        value = same.contrast if same is not None else None
        if value is not None:
            return value < 1.6
    return False


def _melts(message: Message, element: Element, block: Block) -> bool:
    """Whether what is drawn in a see-through picture has nearly the colour of the ground behind it."""
    resource = message.resource(element.get("src") or "")
    drawn = see_through(resource.data) if resource is not None else None
    if drawn is None or drawn.clear_share < 0.2 or block.ground is None:
        return False
    close = sum(share for share, colour in drawn.colours if contrast((*colour, 1.0), block.ground) < 1.6)
    return close > 0.6
