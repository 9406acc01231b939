"""The file of a picture is whole, of a type that the chosen clients show, and tells nothing that it should not."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds, laid_out
from jetwind.core.checking.samples import pictured
from jetwind.core.checks.images.package import PIXEL
from jetwind.core.checks.needs import pictures_in, told_of_all
from jetwind.core.checks.rendered import seen_in
from jetwind.core.images.collecting import Picture, Use
from jetwind.core.message import Message
from jetwind.core.profiles.profile import Profile, profiles

_A = "https://pictures.kiln.org/bowl.jpg"
_IMAGE = f"<img src='{_A}' width='300' height='200' alt='Bowl'>"
_ONE = "<img src='bowl.gif' alt='Bowl'>"


def places(message: Message, uses: Iterable[Use]) -> list[Place]:
    """Where a picture is shown."""
    return [Place.in_html(message, use.span, use.element.index if use.element is not None else None) for use in uses]


def hit(message: Message, picture: Picture, template: str, level: Level | None = None, **data: object) -> Hit:
    """A finding about a picture, at all its places."""
    first, *others = places(message, picture.uses)
    return Hit(template, first, {"name": picture.name, **data}, identity=picture.key, level=level, also=tuple(others))


#: Formats by content, as Pillow and :func:`facts_of` name them, with the types that a picture of each may be called by.
TYPES = {
    "JPEG": frozenset({"image/jpeg", "image/jpg", "image/pjpeg"}),
    "MPO": frozenset({"image/jpeg", "image/jpg", "image/pjpeg"}),
    "PNG": frozenset({"image/png", "image/apng", "image/x-png"}),
    "GIF": frozenset({"image/gif"}),
    "WEBP": frozenset({"image/webp"}),
    "AVIF": frozenset({"image/avif"}),
    "SVG": frozenset({"image/svg+xml"}),
    "BMP": frozenset({"image/bmp", "image/x-ms-bmp", "image/x-bmp"}),
    "TIFF": frozenset({"image/tiff"}),
    "ICO": frozenset({"image/x-icon", "image/vnd.microsoft.icon", "image/ico"}),
}
_BROKEN = {
    "unknown": "The picture {name} is no picture that opens.",
    "cut-off": "The picture {name} is cut off: its file ends before the picture does.",
    "damaged": "The picture {name} is damaged and does not open.",
    "too-large": "The picture {name} has {width} × {height} px, more than may be opened.",
}


@check(
    id="images.corrupt",
    name="Picture that does not open",
    level=Level.STOP,
    why="Some clients show half of it, others a broken-picture sign.",
    fix="Save the picture anew, under the ending of its own format.",
    basis="Decoded by a general-purpose library (Pillow)",
    samples=[
        clear(_ONE, files={"bowl.gif": PIXEL}),
        clear(_IMAGE, given=pictured(_A)),
        clear(_IMAGE),
        clear("<img src='{{ picture }}' alt='x'><img src='gone.png' alt='y'>"),
        clear(_IMAGE, given=pictured(_A, format="WEBP")),
        finds(_ONE, at="bowl.gif", files={"bowl.gif": b"GIF89a"}),
        finds(_ONE, at="bowl.gif", files={"bowl.gif": b"<html>Not found</html>"}),
        finds("<img src='bowl.png' alt='Bowl'>", at="bowl.png", files={"bowl.png": PIXEL}),
        finds(_IMAGE, at=_A, given=pictured(_A, fault="cut-off")),
        finds(_IMAGE, at=_A, given=pictured(_A, 20_000, 20_000, fault="too-large")),
    ],
)
def find_corrupt(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every picture opens to its end and is of the type that it says."""
    pictures = pictures_in(message, context)
    for picture in pictures:
        facts = picture.facts
        if facts is None:
            continue
        if facts.fault:
            yield hit(message, picture, _BROKEN[facts.fault], width=f"{facts.width:,}", height=f"{facts.height:,}")
        elif (
            picture.where != "elsewhere"
            and picture.claims.startswith("image/")
            and picture.claims not in TYPES.get(facts.format, {picture.claims})
        ):
            kind = picture.claims.removeprefix("image/")
            yield hit(message, picture, "The picture {name} is called {kind} and is {format}.", kind=kind, format=facts.format)
    told_of_all(pictures)


@check(
    id="images.format",
    name="Picture that a client cannot show",
    level=Level.FIX,
    why="In that client the reader sees an empty box.",
    fix="Save it as JPEG, PNG or GIF, which every client shows.",
    basis="Open support dataset (its package and date stand in facts/client_support.json)",
    samples=[
        clear(_IMAGE, given=pictured(_A), renders=laid_out("word-processor")),
        clear(_IMAGE, given=pictured(_A, format="WEBP"), renders=laid_out("desktop-pane")),
        clear(_IMAGE, renders=laid_out("word-processor")),
        clear("<img src='https://kiln.org/render?as=webp' alt='x'>"),
        finds(_IMAGE, at=_A, given=pictured(_A, format="WEBP"), renders=laid_out("word-processor")),
        finds(
            "<img src='https://kiln.org/bowl.avif' alt='Bowl'>",
            at="https://kiln.org/bowl.avif",
            given=pictured("https://kiln.org/bowl.avif", format="AVIF"),
        ),
        finds("<img src='https://kiln.org/bowl.svg' alt='Bowl'>", given=pictured("https://kiln.org/bowl.svg", format="SVG")),
    ],
)
def find_format(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every chosen client shows the format of each picture; without renders, every client of the usual set."""
    pictures = pictures_in(message, context)
    chosen = [render.profile for render in context.renders.renders.values()] if context.renders is not None else _usual()
    for picture in pictures:
        if picture.facts is None or picture.facts.fault:
            continue
        # Who reads only what a word processor draws, or picks among candidates, never asks for the others.
        if all(use.way in ("drawing", "candidate") for use in picture.uses):
            continue
        without = [profile for profile in chosen if _lacks(profile, picture.facts.format)]
        if without:
            data = (
                seen_in(context.renders, [profile.id for profile in without])
                if context.renders is not None
                else {"profiles": f"“{without[0].name}”" + (f" and {len(without) - 1} more" if len(without) > 1 else "")}
            )
            level = Level.STOP if len(without) * 3 >= len(chosen) else None
            yield hit(message, picture, "{name} is {format}, which {profiles} cannot show.", level, format=picture.facts.format, **data)
    told_of_all(pictures)


def _usual() -> list[Profile]:
    return [profile for profile in profiles().values() if not profile.is_rare]


def _lacks(profile: Profile, name: str) -> bool:
    kinds = TYPES.get(name, frozenset())
    return any(loss.how == "image" and loss.names & kinds and (name != "PNG" or "image/png" in loss.names) for loss in profile.losses)


@check(
    id="images.location",
    name="Picture that tells where or who",
    level=Level.FIX,
    why="A reader who saves the picture learns where it was taken, or by whom.",
    fix="Save the picture without its EXIF data.",
    basis="Exif 2.32 §4.6 (GPS position, Artist, camera owner; from memory)",
    samples=[
        clear(_IMAGE, given=pictured(_A)),
        clear(_ONE, files={"bowl.gif": PIXEL}),
        finds(_IMAGE, at=_A, given=pictured(_A, has_position=True)),
        finds(_IMAGE, at=_A, given=pictured(_A, people=("Odell Marsh",))),
    ],
)
def find_location(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No picture holds a position or a person's name."""
    pictures = pictures_in(message, context)
    for picture in pictures:
        if picture.facts is None:
            continue
        if picture.facts.has_position:
            yield hit(message, picture, "The picture {name} holds the position where it was taken.")
        elif picture.facts.people:
            yield hit(message, picture, "The picture {name} holds the name {person}.", person=picture.facts.people[0])
    told_of_all(pictures)


@check(
    id="images.colour-space",
    name="Picture in colours for print",
    level=Level.NOTE,
    why="Clients turn CMYK into other colours than were meant, or show nothing; 16 bits a colour only weigh more.",
    fix="Save it in sRGB with 8 bits a colour.",
    basis="Common practice, no published source",
    samples=[
        clear(_IMAGE, given=pictured(_A)),
        clear(_IMAGE, given=pictured(_A, colours="grey")),
        finds(_IMAGE, at=_A, given=pictured(_A, colours="cmyk")),
        finds(_IMAGE, at=_A, given=pictured(_A, colours="16-bit", format="PNG")),
    ],
)
def find_colour_space(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No picture is in CMYK or has 16 bits a colour."""
    pictures = pictures_in(message, context)
    for picture in pictures:
        if picture.facts is not None and picture.facts.colours in ("cmyk", "16-bit"):
            said = "is in CMYK, the colours of print" if picture.facts.colours == "cmyk" else "has 16 bits a colour"
            yield hit(message, picture, "The picture {name} {said}.", said=said)
    told_of_all(pictures)


def need_shown(pictures: list[Picture]) -> list[Picture]:
    """Pictures that open.

    Raises:
        DoesNotApply: there is none.
    """
    found = [picture for picture in pictures if not picture.is_tracking and (picture.facts is None or not picture.facts.fault)]
    if not found:
        raise DoesNotApply("no picture opens")
    return found
