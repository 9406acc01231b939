"""Measurements on the renders: width, columns, first screen."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, SampleBlock, box, check, clear, finds, laid_out
from jetwind.core.checking.options import About
from jetwind.core.checks.rendered import element_of, first_screen_text, need_renders, seen_in, some, widened_by_values
from jetwind.core.markup import Document, Element
from jetwind.core.message import Message, image_references
from jetwind.core.prose.outline import outline_of
from jetwind.core.renders import Render
from jetwind.core.renders.measured import Measured

_WHITE = (255, 255, 255, 1)


def _text(selector: str, x: float = 0, y: float = 0, width: float = 300) -> SampleBlock:
    """Sixty black letters on white."""
    return box(selector, "text", (x, y, width, 20), characters=60, size=16, colour=(0, 0, 0, 1), ground=_WHITE)


@check(
    id="appearance.sideways",
    name="Wider than a phone's screen",
    level=Level.STOP,
    why="The reader has to push the message to and fro, or the client shrinks it until nothing can be read.",
    fix="Let widths give way on small screens: width 100 % with a max-width, or a media query for fixed widths.",
    basis="Common practice, no published source; measured on the render",
    samples=[
        clear("<p>x</p>", renders=laid_out("phone-upright", _text("p"), content_width=390)),
        clear("<p>x</p>", renders=laid_out("desktop-pane", _text("p", width=900), content_width=900)),
        finds(
            "<table width=640><tr><td>x</table>",
            "<table width=640>",
            renders=laid_out("phone-upright", _text("td", width=640), content_width=640),
        ),
    ],
)
def find_sideways(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """At the width of a phone the content is no wider than the screen.

    Where the value of a field alone makes it so, fields.overflow tells it.
    """
    document, renders = need_renders(message, context)
    phones = some(renders, "a phone", device="phone")
    wide = [render for render in phones if render.measured.content_width > render.measured.width + 1]
    if not wide:
        return
    worst = max(wide, key=lambda render: render.measured.content_width / render.measured.width)
    element = _widest(document, worst.measured)
    if element is not None and element.index in widened_by_values(message, context):
        return  # told once, by fields.overflow
    yield Hit(
        "At {width} px the content is {content} px wide, in {profiles}.",
        Place.in_html(message, element.start_tag if element else None, element.index if element else None),
        {
            "width": worst.measured.width,
            "content": worst.measured.content_width,
            **seen_in(renders, [render.profile.id for render in (worst, *wide)]),
        },
        identity=f"sideways {element.tag if element else ''}",
    )


def _widest(document: Document, measured: Measured) -> Element | None:
    """The outermost box that makes the page too wide: from the block that reaches furthest up to the last that sets a width."""
    out = max((block for block in measured.blocks if block.right > measured.width + 1), key=lambda block: block.right, default=None)
    element = element_of(document, out) if out is not None else None
    if element is None:
        return None
    chosen = element
    for place in (element, *element.ancestors()):
        width = (place.get("width") or "").strip().removesuffix("px")
        style = (place.get("style") or "").lower()
        if (re.fullmatch(r"[0-9]{1,7}", width) and int(width) > measured.width) or (
            "width" in style and "px" in style and place.tag not in ("html", "body")
        ):
            chosen = place
    return chosen if chosen.start_tag is not None else None


@dataclass(frozen=True)
class StackOptions(Options):
    """The options that a house may set."""

    least_px: Annotated[int, About("the room that text needs beside another column", unit="px")] = 120
    least_characters: Annotated[int, About("text shorter than this needs less", unit="characters")] = 25


@check(
    id="appearance.no-stack",
    name="Columns stay side by side on a phone",
    level=Level.FIX,
    why="Two or three words in a line cannot be read; on a phone columns should become a stack.",
    fix="Let each column take the whole width on a phone: display block with width 100 % in a media query, or inline-block columns.",
    basis="Common practice, no published source; measured on the render",
    options=StackOptions,
    samples=[
        clear(
            "<table><tr><td>one</td><td>two</td></tr></table>",
            renders=laid_out("phone-upright", _text("td", width=350, y=0), _text("td + td", width=350, y=100)),
        ),
        clear(
            "<table><tr><th>Size</th><th>Price</th></tr><tr><td>one</td><td>two</td></tr></table>",
            renders=laid_out("phone-upright", _text("td", width=80), _text("td + td", x=90, width=80)),
        ),
        finds(
            "<table><tr><td>one</td><td>two</td></tr></table>",
            "<td>",
            renders=laid_out("phone-upright", _text("td", width=80), _text("td + td", x=90, width=80)),
        ),
    ],
)
def find_no_stack(message: Message, context: Context, options: StackOptions) -> Iterator[Hit]:
    """At phone width no column of text has less than 120 px beside another."""
    _, renders = need_renders(message, context)
    phones = [render for render in some(renders, "a phone held upright", device="phone", is_turned=False) if render.profile.images == "on"]
    for row in outline_of(message).rows():
        if len(row.cells) < 2 or outline_of(message).is_data_table(row.table):
            continue
        narrow: dict[str, tuple[Element, float]] = {}
        for render in phones:
            found = _squeezed([cell for cell, _ in row.cells], render, options)
            if found is not None:
                narrow[render.profile.id] = found
        if narrow:
            worst = min(narrow, key=lambda name: narrow[name][1])
            cell, room = narrow[worst]
            yield Hit(
                "A column has {room} px for its text beside another, in {profiles}.",
                Place.in_html(message, cell.start_tag, cell.index),
                {"room": round(room), **seen_in(renders, [worst, *narrow])},
            )


def _squeezed(cells: list[Element], render: Render, options: StackOptions) -> tuple[Element, float] | None:
    boxes: list[tuple[Element, float, float, float, float, int]] = []
    for cell in cells:
        inside = {cell.index, *(element.index for element in cell.elements())}
        blocks = [block for block in render.measured.of("text", "image") if block.element in inside]
        if blocks:
            left, right = min(block.x for block in blocks), max(block.right for block in blocks)
            top, bottom = min(block.y for block in blocks), max(block.bottom for block in blocks)
            boxes.append(
                (
                    cell,
                    left,
                    right,
                    top,
                    bottom,
                    max(block.characters for block in blocks if block.kind == "text")
                    if any(block.kind == "text" for block in blocks)
                    else 0,
                )
            )
    for cell, left, right, top, bottom, characters in boxes:
        if characters < options.least_characters or right - left >= options.least_px:
            continue
        for other, other_left, other_right, other_top, other_bottom, _ in boxes:
            beside = other_left >= right - 2 or other_right <= left + 2
            level = min(bottom, other_bottom) - max(top, other_top) > 4
            if other is not cell and beside and level:
                return cell, right - left
    return None


@dataclass(frozen=True)
class FirstScreenOptions(Options):
    """The options that a house may set."""

    least_characters: Annotated[int, About("with fewer letters on the first screen nothing can be read there", unit="characters")] = 12


@check(
    id="appearance.images-off-empty",
    name="Nothing to read with images off",
    level=Level.FIX,
    why="Most first openings are with images blocked: the reader sees empty boxes and goes on to the next message.",
    fix="Put words above the first picture or say what the picture says in its alternative text.",
    basis="Common practice, no published source; measured on the render",
    options=FirstScreenOptions,
    samples=[
        clear("<p>x</p>", renders=laid_out("pane-blocked", _text("p"))),
        clear(
            "<img alt='Spring sale, a fifth off'>", renders=laid_out("pane-blocked", box("img", "image", (0, 0, 600, 300), characters=24))
        ),
        finds("<img><p>x</p>", renders=laid_out("pane-blocked", box("img", "image", (0, 0, 600, 700)), _text("p", y=700))),
    ],
)
def find_images_off_empty(message: Message, context: Context, options: FirstScreenOptions) -> Iterator[Hit]:
    """With images blocked the first screen has readable words."""
    _, renders = need_renders(message, context)
    empty = [
        render
        for render in some(renders, "one with images blocked", images="blocked")
        # A client that shows no alternative text at all is no fault of the message as long as others do.
        if render.profile.alternative != "none" and first_screen_text(render.measured) < options.least_characters
    ]
    if empty:
        count = max(first_screen_text(render.measured) for render in empty)
        yield Hit(
            "With images blocked the first screen has {count} readable letters, in {profiles}.",
            Place("html"),
            {"count": count, **seen_in(renders, [render.profile.id for render in empty])},
            identity="images off",
        )


@check(
    id="appearance.action-below",
    name="Button below the first screen",
    level=Level.NOTE,
    why="What the reader is asked to do is only seen by those who scroll.",
    fix="Move the first button up, or shorten what stands above it.",
    basis="Common practice, no published source; measured on the render",
    samples=[
        clear(
            '<a href="https://x.example" style="background:#b00;padding:9px">Buy</a>',
            renders=laid_out("phone-upright", box("a", "link", (0, 600, 90, 40))),
        ),
        clear(
            '<img src="https://x.example/a.png" width="300"><a href="https://x.example" style="background:#b00;padding:9px">Buy</a>',
            renders=laid_out("phone-upright", box("a", "link", (0, 700, 90, 40)), facts={"unsized": 1}),
        ),
        finds(
            '<a href="https://x.example" style="background:#b00;padding:9px">Buy</a>',
            '<a href="https://x.example" style="background:#b00;padding:9px">',
            renders=laid_out("phone-upright", box("a", "link", (0, 700, 90, 40))),
        ),
    ],
)
def find_action_below(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """On a phone the first button-like link stands on the first screen."""
    _, renders = need_renders(message, context)
    phones = [render for render in some(renders, "a phone held upright", device="phone", is_turned=False) if render.profile.images == "on"]
    buttons = {element.index: element for element in outline_of(message).buttons}
    told = [render for render in phones if not render.measured.facts.get("unsized")]
    if buttons and phones and not told:
        count = phones[0].measured.facts["unsized"]
        pictures = "a picture that lies elsewhere gives" if count == 1 else f"{count} pictures that lie elsewhere give"
        raise CannotTell(f"{pictures} no height, so what stands below is not known")
    phones = told
    below: list[tuple[float, Render, Element]] = []
    for render in phones:
        shown = [render.measured.by_element[index] for index in buttons if index in render.measured.by_element]
        first = min(shown, key=lambda block: block.y, default=None)
        if first is not None and first.y >= render.measured.first_screen:
            below.append((first.y, render, buttons[first.element]))
    if below:
        y, render, element = max(below, key=lambda item: item[0] / item[1].measured.first_screen)
        yield Hit(
            "The first button begins at {y} px, below the first screen of {screen} px, in {profiles}.",
            Place.in_html(message, element.start_tag, element.index),
            {
                "y": round(y * render.measured.scale),
                "screen": round(render.measured.first_screen * render.measured.scale),
                **seen_in(renders, [render.profile.id, *(one.profile.id for _, one, _ in below)]),
            },
        )


@check(
    id="appearance.blank",
    name="Nothing to see at all",
    level=Level.STOP,
    why="The reader gets an empty page.",
    fix="Look at the list of what this profile drops: what holds the copy is dropped, hidden or cut off there.",
    basis="Common practice, no published source; measured on the render",
    samples=[
        clear("<p>x</p>", renders=laid_out("desktop-pane", _text("p"))),
        clear("<img src='https://x.example/a.png'>", renders=laid_out("desktop-pane")),
        finds("<div style='display:none'>x</div>", renders=laid_out("desktop-pane")),
    ],
)
def find_blank(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every render shows text or a picture."""
    _, renders = need_renders(message, context)
    blank = [render.profile.id for render in renders.renders.values() if render.profile.images == "on" and _is_blank(render)]
    # A picture that lies elsewhere is not loaded here, and may be all that there is to see.
    if blank and not any(not reference.is_local and reference.scheme != "data" for reference in image_references(message)):
        yield Hit("There is nothing to see, in {profiles}.", Place("html"), seen_in(renders, blank), identity="blank")


def _is_blank(render: Render) -> bool:
    measured = render.measured
    seen = (block for block in measured.of("image") if not block.is_broken and min(block.width, block.height) > 3)
    return measured.characters == 0 and next(seen, None) is None
