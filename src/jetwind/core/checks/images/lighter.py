"""Pictures are saved as lightly as they look."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.images.files import hit, need_shown
from jetwind.core.checks.images.package import PIXEL
from jetwind.core.checks.images.shown import widest
from jetwind.core.checks.needs import pictures_in
from jetwind.core.images.collecting import Picture
from jetwind.core.images.lighter import USUAL, Form, lighter, may_be_lighter
from jetwind.core.message import Message
from jetwind.core.profiles import Profile

#: A BMP of 120 × 40 px in one colour: 14 KB, of which a PNG needs a hundredth (made for this sample).
PLAIN = (
    b"BM\x76\x38\x00\x00\x00\x00\x00\x00\x36\x00\x00\x00\x28\x00\x00\x00\x78\x00\x00\x00\x28\x00\x00\x00\x01\x00\x18\x00\x00\x00\x00\x00\x40\x38\x00\x00"
    b"\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00" + b"\x8b\x5f\x1f" * 4800
)


@dataclass(frozen=True)
class SavingOptions(Options):
    """The options that a house may set."""

    least_share: Annotated[float, About("the share of its weight that must be saved", most=1)] = 0.2
    least_octets: Annotated[int, About("the octets that must be saved as well", unit="octets")] = 10_240
    least_likeness: Annotated[float, About("how alike the lighter file must look, by structural similarity", most=1)] = 0.98


@check(
    id="images.saving",
    name="Picture that could be lighter",
    level=Level.NOTE,
    why="The same look could come in faster and cost the reader less.",
    fix="Put the lighter file in; the Images station makes it.",
    basis="Measured: the file is made. Likeness: Wang, Bovik, Sheikh, Simoncelli 2004. The bounds: common practice, no published source",
    options=SavingOptions,
    samples=[
        clear("<img src='bowl.gif' width='60' alt='Bowl'>", files={"bowl.gif": PIXEL}),
        clear("<img src='https://pictures.kiln.org/bowl.jpg' width='60' alt='Bowl'>"),
        finds("<img src='plain.bmp' width='60' height='20' alt='x'>", at="plain.bmp", files={"plain.bmp": PLAIN}),
    ],
)
def find_saving(message: Message, context: Context, options: SavingOptions) -> Iterator[Hit]:
    """No picture can be saved with a fifth and 10 KB less and look the same."""
    unseen = 0
    for picture in need_shown(pictures_in(message, context)):
        facts = picture.facts
        if picture.data is None or facts is None:
            unseen += not picture.is_lost
            continue
        if facts.octets < max(options.least_octets, 1) or not may_be_lighter(facts):
            continue
        shown = shown_width(message, context, picture)
        found = lighter(picture.data, shown, options.least_likeness)
        saved = facts.octets - found.octets if found is not None else 0
        if found is not None and saved >= options.least_octets and saved >= options.least_share * facts.octets:
            yield hit(
                message,
                picture,
                "{name} would weigh {lighter} KB instead of {kilobytes} KB as {how}.",
                kilobytes=round(facts.octets / 1024),
                lighter=max(1, round(found.octets / 1024)),
                how=found.words,
                likeness=round(found.likeness, 4),
                saved=saved,
                key=picture.key,
                shown=shown,
            )
    if unseen:
        raise CannotTell(f"the files of {unseen} pictures are not at hand" if unseen > 1 else "the file of 1 picture is not at hand")


def shown_width(message: Message, context: Context, picture: Picture) -> float:
    """The CSS px that a picture is shown with at most; its own pixels where nobody says, as clients show it then."""
    return widest(message, context, picture) or float(picture.facts.width if picture.facts is not None else 0)


def forms_taken(chosen: Iterable[Profile]) -> frozenset[Form]:
    """The formats that every one of these profiles shows: the usual ones, and of the newer ones those that none of them loses."""
    lost = {name for profile in chosen for loss in profile.losses if loss.how == "image" for name in loss.names}
    newer: tuple[Form, ...] = ("WEBP", "AVIF")
    return USUAL | {form for form in newer if f"image/{form.lower()}" not in lost}
