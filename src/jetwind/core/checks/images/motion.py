"""Animations say what they have to say in their first frame, and do not flash."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checking.samples import pictured
from jetwind.core.checks.images.files import hit, need_shown
from jetwind.core.checks.images.shown import widest
from jetwind.core.checks.needs import pictures_in, told_of_all
from jetwind.core.message import Message

_A = "https://pictures.kiln.org/wheel.gif"
_IMAGE = f"<img src='{_A}' width='600' height='400' alt='A wheel'>"
_BADGE = f"<img src='{_A}' width='120' height='90' alt='New'>"


@dataclass(frozen=True)
class FrameOptions(Options):
    """The options that a house may set."""

    least_share: Annotated[
        float, About("the detail of the first frame, as a share of that of the frame with most, from which it says enough", most=1)
    ] = 0.3


@check(
    id="images.first-frame",
    name="First frame that says little",
    level=Level.NOTE,
    why="Some clients show the first frame alone: their readers see next to nothing.",
    fix="Begin the animation with the frame that says most.",
    basis="Common practice, no published source; clients that show one frame: open support dataset",
    options=FrameOptions,
    samples=[
        clear(_IMAGE, given=pictured(_A, format="GIF")),
        clear(_IMAGE, given=pictured(_A, format="GIF", frames=8, first_detail=14.0, most_detail=16.0)),
        clear(_IMAGE, given=pictured(_A, format="GIF", frames=8, first_detail=0.0, most_detail=0.2)),
        finds(_IMAGE, at=_A, given=pictured(_A, format="GIF", frames=8, first_detail=0.0, most_detail=16.0)),
        finds(_IMAGE, at=_A, given=pictured(_A, format="GIF", frames=2, first_detail=2.0, most_detail=16.0)),
    ],
)
def find_first_frame(message: Message, context: Context, options: FrameOptions) -> Iterator[Hit]:
    """The first frame of an animation has nearly as much to see as the others."""
    pictures = need_shown(pictures_in(message, context))
    for picture in pictures:
        facts = picture.facts
        if (
            facts is not None
            and facts.is_animated
            and facts.most_detail >= _PLAIN
            and facts.first_detail < options.least_share * facts.most_detail
        ):
            said = "is blank" if facts.first_detail < _PLAIN else "shows little of what comes"
            yield hit(message, picture, "The first frame of {name} {said}.", said=said, frames=facts.frames)
    told_of_all(pictures)


#: Detail below which a frame is a plain ground: the mean of its edges, of 255.
_PLAIN = 0.5


@dataclass(frozen=True)
class FlashOptions(Options):
    """The options that a house may set."""

    most_share: Annotated[float, About("the share of its area that may flash", most=1)] = 0.25
    safe_px: Annotated[int, About("an area that is too small to harm", unit="CSS px²")] = 21_824


@check(
    id="images.flash",
    name="Animation that flashes",
    level=Level.STOP,
    why="Flashes can cause a seizure.",
    fix="Slow the animation down to three flashes a second, or make them smaller or fainter.",
    basis="WCAG 2.2 SC 2.3.1, general flash and red flash thresholds (a quarter of 341 × 256 px)",
    options=FlashOptions,
    samples=[
        clear(_IMAGE, given=pictured(_A, format="GIF")),
        clear(_IMAGE, given=pictured(_A, format="GIF", frames=20, flashing=0.2)),
        clear(_BADGE, given=pictured(_A, format="GIF", frames=20, flashing=1.0)),
        finds(_IMAGE, at=_A, given=pictured(_A, format="GIF", frames=20, flashing=0.5)),
        finds(f"<img src='{_A}' alt='A wheel'>", at=_A, given=pictured(_A, format="GIF", frames=20, flashing=1.0)),
    ],
)
def find_flash(message: Message, context: Context, options: FlashOptions) -> Iterator[Hit]:
    """No animation flashes more than three times a second over a quarter of its area and over more than a quarter of 341 × 256 px."""
    pictures = need_shown(pictures_in(message, context))
    for picture in pictures:
        facts = picture.facts
        if facts is None or facts.flashing <= options.most_share:
            continue
        width = widest(message, context, picture) or facts.width
        if facts.flashing * width * width * facts.height / max(facts.width, 1) > options.safe_px:
            share = round(facts.flashing * 100)
            yield hit(message, picture, "{share} % of {name} flashes more than three times a second.", share=share)
    told_of_all(pictures)
