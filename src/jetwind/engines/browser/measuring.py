"""The answer of measure.js as values."""

from __future__ import annotations

import json
from functools import lru_cache
from html import unescape
from importlib.resources import files
from typing import Any

from jetwind.core.renders.measured import Block, Measured, one_of_equal
from jetwind.core.styles.contrast import Rgba
from jetwind.engines.browser.capture import CaptureRequest
from jetwind.engines.browser.fonts import without_font

#: Whole pages beyond this many CSS px cost seconds to code as a picture and nobody scrolls that far.
TALLEST = 12_000
#: No picture is wider, in CSS px: what a message claims beyond is not shown.
WIDEST = 4_000


@lru_cache(maxsize=1)
def script() -> str:
    """The function that runs in the page."""
    return files(__package__).joinpath("measure.js").read_text("utf-8")


def call(mark: str, *, paint: bool) -> str:
    """The expression that measures a page whose elements carry their number in the attribute ``mark``; ``paint``: their look too."""
    return f"({script().rstrip().removesuffix(';')})({json.dumps([mark, paint])})"


def read(answer: str, request: CaptureRequest, laid_out_at: int = 0) -> Measured:
    """The measurements, for the request that they were made for; ``laid_out_at`` is another width, in CSS px, that it was laid out at."""
    found = json.loads(answer)
    room = request.room or request.width
    # Where the client's own parts stand beside the message, scrollWidth is that of the window: the right edge of what is laid out counts.
    taken = max(found["right"] - found["left"], found["width"]) if room == request.width else max(found["right"], room) - found["left"]
    taken = laid_out_at or min(max(taken, room), WIDEST)
    # A slip of a px or two is no reason to shrink.
    shrinks = request.shrinks and taken > room + 2
    # What a message that is read from the right has beyond its room lies at the left, and comes in where it is shrunk.
    shift = -found["left"] if shrinks and not laid_out_at else 0
    scale = room / taken if shrinks else 1.0
    first_screen = round(request.first_screen / scale)
    return Measured(
        width=taken if shrinks else room,
        # The picture is at least as high as the window, also where the message is shown smaller.
        height=max(min(found["height"], TALLEST), min(first_screen, TALLEST), 1),
        content_width=taken,
        first_screen=first_screen,
        blocks=tuple(
            _block([row[0], row[1], row[2] + shift, *row[3:13], [[x + shift, *box] for x, *box in row[13]]]) for row in found["rows"]
        ),
        scale=scale,
        without_font=without_font(unescape(request.html)),
        left=found["origin"] + (-shift if shrinks else found["beyond"]),
        cut=found["height"] > TALLEST,
        facts={name: found[name] for name in ("links", "images", "words", "broken", "unsized")} | {"whole_height": found["height"]},
        painted=tuple((row[0] + shift, row[1], row[2], row[3], row[4]) for row in found["painted"]),
    )


def _block(row: list[Any]) -> Block:
    element, kind, x, y, width, height, characters, size, weight, colour, ground, flags, around, lines = row
    return Block(
        element,
        kind,
        x=x,
        y=y,
        width=width,
        height=height,
        characters=characters,
        size=size,
        weight=int(weight),
        colour=_colour(colour),
        ground=_colour(ground),
        in_text=bool(flags & 1),
        marked=not flags & 1 or bool(flags & 2),
        other_colour=_colour(around),
        is_broken=bool(flags & 4),
        lines=tuple((left, top, wide, tall) for left, top, wide, tall in lines),
    )


def _colour(parts: list[float] | None) -> Rgba | None:
    return one_of_equal((parts[0], parts[1], parts[2], round(parts[3], 3))) if parts is not None else None
