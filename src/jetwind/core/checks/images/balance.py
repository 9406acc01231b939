"""A message is words with pictures, not pictures alone."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, SampleBlock, box, check, clear, finds, laid_out
from jetwind.core.checking.options import About
from jetwind.core.checks.images.package import PIXEL
from jetwind.core.checks.needs import need_html
from jetwind.core.images import is_spacer, measure, shown_size
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.prose.outline import outline_of
from jetwind.core.prose.reading import reading_of
from jetwind.core.renders import Render, Renders

_PICTURE = "<img src='https://pictures.kiln.org/a.jpg' width='600' height='800' alt='Spring at the works, all of it'>"
_BIG = "<img src='https://pictures.kiln.org/{}.jpg' width='600' height='400' alt='Pots'>"
_COPY = "<p>Twelve glazes, mixed by hand from ash and sea sand, are a fifth off until the middle of the month for all who fire with us.</p>"
_THREE = "<img src='a.jpg' width='600' height='400' alt='A'><img src='b.jpg' width='600' height='400' alt='B'><img src='c.jpg' width='600' height='400' alt='C'>"


def _seen(selector: str, height: float) -> SampleBlock:
    return box(selector, "image", (0, 0, 600, height))


def _gif(width: int, height: int) -> bytes:
    """A picture that says it has this size."""
    return PIXEL[:6] + width.to_bytes(2, "little") + height.to_bytes(2, "little") + PIXEL[10:]


def _large(message: Message, context: Context) -> list[Element]:
    """Pictures that are seen and are large in both directions: marks of networks, logos, bars and bullets are not.

    A size is what renders measured; without them what attributes and styles ask for, and what follows from the picture's own proportions.
    """
    if message.document is None:
        return []
    found = []
    for image in message.document.elements("img"):
        width, height = _measured(context, image) or _in_proportion(message, image)
        if message.cascade.is_hidden(image) or is_spacer(message, image):
            continue
        if (width is None or width >= _LARGE) and (height is None or height >= _LARGE / 2):
            found.append(image)
    return found


def _measured(context: Context, image: Element) -> tuple[float, float] | None:
    """The largest box that a render showed the picture in; None where none did."""
    blocks = (
        [render.measured.by_element.get(image.index) for render in context.renders.renders.values()] if context.renders is not None else []
    )
    shown = [block for block in blocks if block is not None and block.kind == "image" and not block.is_broken]
    return max(((block.width, block.height) for block in shown), key=lambda size: size[0] * size[1], default=None)


def _in_proportion(message: Message, image: Element) -> tuple[float | None, float | None]:
    width, height = shown_size(message, image)
    resource = message.resource(image.get("src") or "") if width is None or height is None else None
    facts = measure(resource.data) if resource is not None else None
    if facts is None or not facts.width or not facts.height:
        return width, height
    if width is None and height is None:
        return facts.width, facts.height
    ratio = facts.height / facts.width
    return width if width is not None else (height or 0) / ratio, height if height is not None else (width or 0) * ratio


#: A picture narrower than this, in CSS px, is a mark; as is one of half that height.
_LARGE = 200


def _words(message: Message) -> int:
    """Letters and digits of the copy that can be read, the footer left out."""
    return sum(sum(map(str.isalnum, passage.text)) for section, passage in outline_of(message).sections if section != "footer")


@dataclass(frozen=True)
class OnlyOptions(Options):
    """The options that a house may set."""

    least_letters: Annotated[int, About("letters outside of the footer from which there is something to read", unit="letters")] = 20


@check(
    id="images.only",
    name="Nothing but pictures",
    level=Level.STOP,
    why="With pictures blocked the message is empty, a screen reader has little to read, and filters take it for spam.",
    fix="Write the message as text, and let pictures go with it.",
    basis="Common practice, no published source",
    options=OnlyOptions,
    samples=[
        clear(f"{_PICTURE}{_COPY}"),
        clear("<p>{{ body }}</p>" + _PICTURE),
        clear("<img src='https://pictures.kiln.org/logo.png' width='120' height='40' alt='Kiln'>"),
        clear("<img src='bar.gif' width='600' alt='Spring'>", files={"bar.gif": _gif(1200, 80)}),
        clear(_PICTURE, renders=laid_out("desktop-pane", _seen("img", 60), height=800)),
        finds("<img src='spring.gif' width='600' alt='Spring'>", files={"spring.gif": _gif(1200, 900)}),
        clear("<p>x</p>"),
        finds(_PICTURE, at=_PICTURE),
        finds(
            f"<a href='https://kiln.org/'>{_PICTURE}</a><p>Unsubscribe: <a href='https://kiln.org/u'>leave the list of the kiln works</a></p>"
        ),
    ],
)
def find_only_pictures(message: Message, context: Context, options: OnlyOptions) -> Iterator[Hit]:
    """Beside its pictures and its footer a message has words to read."""
    need_html(message)
    large = _large(message, context)
    if not large:
        raise DoesNotApply("the message shows no large picture")
    # What a field brings may be all the copy there is.
    if _words(message) >= options.least_letters or message.holds_field(reading_of(message).visible_text):
        return
    first, *others = (Place.in_html(message, image.start_tag, image.index) for image in large)
    yield Hit("The message has pictures and hardly a word to read.", first, {"pictures": len(large)}, identity="only", also=tuple(others))


def _read(height: float) -> SampleBlock:
    return box("p", "text", (0, 700, 600, height), characters=120)


@dataclass(frozen=True)
class BalanceOptions(Options):
    """The options that a house may set."""

    most_share: Annotated[float, About("the share of the rendered area that pictures may cover", most=1)] = 0.6
    least_characters: Annotated[
        int, About("the copy that more large pictures than the option “pictures” need beside them", unit="characters")
    ] = 400
    pictures: Annotated[int, About("so many large pictures pass with less copy")] = 2


@check(
    id="images.text-ratio",
    name="Much picture, little text",
    level=Level.FIX,
    why="Filters trust words more than pictures, and with pictures blocked little is left.",
    fix="Say in text what the pictures say, or show fewer of them.",
    basis="Common practice, no published source; areas as measured on the render",
    options=BalanceOptions,
    samples=[
        clear(f"{_BIG}{_COPY}"),
        clear(f"<p>{{{{ body }}}}</p>{_THREE}"),
        clear(f"{_PICTURE}{_COPY}", renders=laid_out("desktop-pane", _seen("img", 500), _read(400), height=1000)),
        clear(_PICTURE, renders=laid_out("desktop-pane", _seen("img", 800), height=800)),
        clear(f"<img src='logo.png' width='120' height='40' alt='Kiln'>{_COPY}"),
        finds(f"{_THREE}{_COPY}"),
        finds(f"{_PICTURE}{_COPY}", at=_PICTURE, renders=laid_out("desktop-pane", _seen("img", 800), _read(200), height=1000)),
    ],
)
def find_text_ratio(message: Message, context: Context, options: BalanceOptions) -> Iterator[Hit]:
    """Pictures cover 60 % of the message at most, and over two large ones come with 400 characters of text."""
    need_html(message)
    large = _large(message, context)
    if not large:
        raise DoesNotApply("the message shows no large picture")
    text = reading_of(message).visible_text
    # A message of pictures alone is told as that; of one with fields nobody knows how much there will be to read.
    if _words(message) < OnlyOptions().least_letters or message.holds_field(text):
        return
    share = covered(judged(context.renders))
    place, *others = (Place.in_html(message, image.start_tag, image.index) for image in large)
    if share is not None and share > options.most_share:
        yield Hit(
            "Pictures cover {share} % of the message; {most} % are the limit.",
            place,
            {"share": round(100 * share), "most": round(100 * options.most_share)},
            identity="share",
            also=tuple(others),
        )
    elif len(large) > options.pictures and len(text) < options.least_characters:
        yield Hit(
            "{pictures} large pictures come with {characters} characters of text.",
            place,
            {"pictures": len(large), "characters": len(text)},
            identity="text",
            also=tuple(others),
        )


def judged(renders: Renders | None) -> Render | None:
    """The render that the balance is judged by: the first of a desktop by day with pictures, else the first by day with pictures."""
    found = renders.where(is_night=False, images="on") if renders is not None else []
    return next((render for render in found if render.profile.device == "desktop"), found[0] if found else None)


def covered(render: Render | None) -> float | None:
    """The share of the message's own area (0 to 1) that pictures cover in a render; None without one, or where it shows nothing."""
    if render is None:
        return None
    measured = render.measured
    blocks = [block for block in measured.blocks if block.width > 0 and block.height > 0]
    if not blocks or not measured.height:
        return None
    width = min(max(block.right for block in blocks), measured.width) - max(min(block.x for block in blocks), 0)
    area = sum(block.width * block.height for block in blocks if block.kind == "image" and not block.is_broken)
    return min(1.0, area / (width * measured.height)) if width > 0 else None
