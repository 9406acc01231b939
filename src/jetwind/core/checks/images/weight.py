"""Pictures are light enough for a phone on a slow line."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from typing import Annotated

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checking.samples import answered, opened, pictured
from jetwind.core.checks.images.package import PIXEL
from jetwind.core.checks.needs import pictures_in, told_of_all
from jetwind.core.images.elsewhere import remote_address
from jetwind.core.message import Message, image_references

_REMOTE = "https://pictures.kiln.org/bowl.png"


@dataclass(frozen=True)
class WeightOptions(Options):
    """The options that a house may set."""

    largest_octets: Annotated[int, About("the heaviest picture that passes (204,800 are 200 KB)", unit="octets")] = 204_800


@check(
    id="images.heavy",
    name="Heavy picture",
    level=Level.FIX,
    why="On a phone the reader scrolls past before it has come in, and pays for it.",
    fix="Scale it to twice its shown width at most, and save it again with stronger compression.",
    basis="Common practice, no published source",
    options=WeightOptions,
    samples=[
        clear('<img src="bowl.gif" alt="Bowl">', files={"bowl.gif": PIXEL + b"\0" * (204_800 - len(PIXEL))}),
        clear('<img src="https://pictures.kiln.org/bowl.png" alt="Bowl">'),
        clear(
            '<img src="https://pictures.kiln.org/bowl.png" alt="Bowl">', given=opened(pictures=(answered(_REMOTE, 200, octets=204_800),))
        ),
        finds(
            '<img src="https://pictures.kiln.org/bowl.png" alt="Bowl">',
            at=_REMOTE,
            given=opened(pictures=(answered(_REMOTE, 200, octets=204_801),)),
        ),
        finds('<img src="bowl.gif" alt="Bowl">', at="bowl.gif", files={"bowl.gif": PIXEL + b"\0" * 204_800}),
        finds(f'<img src="data:image/gif;base64,{"A" * 280_000}" alt="Bowl">'),
    ],
)
def find_heavy(message: Message, context: Context, options: WeightOptions) -> Iterator[Hit]:
    """No picture weighs more than 200 KB."""
    references = {reference.value.strip(): reference for reference in reversed(list(image_references(message)))}
    for image in message.images:
        if len(image.data) <= options.largest_octets:
            continue
        found = next((reference for value, reference in references.items() if message.resource(value) is image), None)
        place = Place("image", image.name)
        if found is not None:
            place = replace(Place.in_html(message, found.span, found.element.index), name=image.name)
        yield Hit(
            "The picture {name} weighs {kilobytes} KB; the limit is {limit} KB.",
            place,
            {
                "name": image.name,
                "octets": len(image.data),
                "kilobytes": round(len(image.data) / 1024),
                "limit": options.largest_octets // 1024,
            },
            identity=f"{image.name}:{image.sha256}",
        )
    remote = 0
    fetched = context.answers.pictures if context.answers is not None else {}
    for value, reference in references.items():
        if reference.scheme == "data":
            octets = len(value.partition(",")[2]) * 3 // 4
            if octets > options.largest_octets:
                yield Hit(
                    "A picture inside the HTML weighs {kilobytes} KB; the limit is {limit} KB.",
                    Place.in_html(message, reference.span, reference.element.index),
                    {"octets": octets, "kilobytes": round(octets / 1024), "limit": options.largest_octets // 1024},
                )
        elif not reference.is_local:
            answer = fetched.get(remote_address(message, value, context.readers))
            if answer is None or not answer.is_opened:
                remote += 1
            elif answer.octets > options.largest_octets:
                weight = f"{round(answer.octets / 1024):,}" if not answer.is_cut else f"more than {answer.octets // 1024:,}"
                yield Hit(
                    "The picture {name} weighs {kilobytes} KB; the limit is {limit} KB.",
                    Place.in_html(message, reference.span, reference.element.index),
                    {"name": value, "octets": answer.octets, "kilobytes": weight, "limit": options.largest_octets // 1024},
                    identity=value,
                )
    if remote and not any(len(image.data) > options.largest_octets for image in message.images):
        raise CannotTell(
            f"{remote} pictures lie elsewhere and were not fetched" if remote > 1 else "1 picture lies elsewhere and was not fetched"
        )


@dataclass(frozen=True)
class TotalOptions(Options):
    """The options that a house may set."""

    most_octets: Annotated[int, About("what all pictures together may weigh (819,200 are 800 KB)", unit="octets")] = 819_200


_TWO = f"<img src='{_REMOTE}' alt='A'><img src='bowl.gif' alt='B'>"


@check(
    id="images.total-heavy",
    name="Pictures heavy together",
    level=Level.FIX,
    why="On a phone the message is read before it has come in, and the reader pays for it.",
    fix="Make the heaviest pictures lighter; the Images station says by how much.",
    basis="Common practice, no published source",
    options=TotalOptions,
    samples=[
        clear(_TWO, files={"bowl.gif": PIXEL}, given=pictured(_REMOTE, octets=819_200 - 43)),
        clear(f"<img src='{_REMOTE}' alt='A'><img src='{_REMOTE}' alt='B'>", given=pictured(_REMOTE, octets=500_000)),
        clear(_TWO, files={"bowl.gif": PIXEL}),
        finds(_TWO, at=_REMOTE, files={"bowl.gif": PIXEL}, given=pictured(_REMOTE, octets=819_200)),
    ],
)
def find_total_heavy(message: Message, context: Context, options: TotalOptions) -> Iterator[Hit]:
    """All pictures that a reader loads weigh 800 KB at most; one that is shown twice is loaded once."""
    pictures = pictures_in(message, context)
    total = sum(picture.facts.octets for picture in pictures if picture.facts is not None)
    if total > options.most_octets:
        heaviest = max((picture for picture in pictures if picture.facts is not None), key=lambda picture: picture.facts.octets)  # type: ignore[union-attr]
        use = heaviest.uses[0]
        yield Hit(
            "{pictures} pictures weigh {kilobytes} KB together; the limit is {limit} KB.",
            Place.in_html(message, use.span, use.element.index if use.element is not None else None),
            {
                "pictures": len(pictures),
                "octets": total,
                "kilobytes": f"{round(total / 1024):,}",
                "limit": options.most_octets // 1024,
                "heaviest": heaviest.name,
            },
            identity="all",
        )
    else:
        told_of_all(pictures)
