"""Reasons in how pictures and text are balanced."""

from __future__ import annotations

from jetwind.core.checking import CannotTell, Context, Place, clear, finds
from jetwind.core.checking.field_texts import uses
from jetwind.core.images import is_spacer, shown_size
from jetwind.core.markup import Element
from jetwind.core.message import Message, Shared
from jetwind.core.prose.reading import reading_of
from jetwind.core.spam.declaring import Evidence, reason

_PICTURES: Shared[list[Element]] = Shared("spam pictures")
_LETTERS: Shared[int] = Shared("letters of the copy")

_ONE = "<img src='https://pictures.kiln.org/a.png' alt='Pots' width='600' height='300'>"
_COPY = "<p>Twelve glazes, mixed by hand from ash and sea sand, are a fifth off until the middle of the month for all who fire with us.</p>"
#: Letters and digits under which a message has hardly any text.
_HARDLY_ANY = 80
#: A mark or an icon is no picture that stands in for text: px.
_SMALL = 60


def _pictures(message: Message) -> list[Element]:
    """Pictures that are seen and take place of their own."""
    return message.shared(_PICTURES, lambda: _seen(message))


def _seen(message: Message) -> list[Element]:
    document = message.document
    if document is None:
        return []
    found = []
    for image in document.elements("img"):
        sizes = [size for size in shown_size(message, image) if size is not None]
        if not message.cascade.is_hidden(image) and not is_spacer(message, image) and not (sizes and max(sizes) <= _SMALL):
            found.append(image)
    return found


def _letters(message: Message) -> int:
    """Letters and digits of the visible copy; what a field brings is not known."""
    return message.shared(_LETTERS, lambda: sum(map(str.isalnum, reading_of(message).visible_text)))


def unfilled(message: Message) -> bool:
    """Whether so much of the copy is fields and blocks that nobody knows how much text there will be."""
    return bool(uses(message)) and _letters(message) < 4 * _HARDLY_ANY


def _at(message: Message, image: Element) -> Place:
    return Place.in_html(message, image.start_tag, image.index)


@reason(
    id="pictures-only",
    name="Pictures but hardly any text",
    group="pictures",
    weight=2.2,
    why="Text is put into pictures to hide it from filters, so they weigh a message of pictures heavily.",
    fix="Write what the pictures say as text.",
    effort=2,
    samples=[
        clear(_COPY + _ONE),
        clear(f"{_ONE}{{{{ content }}}}"),
        clear("<p>Hi</p>"),
        clear("<p>Hi</p><img src='a.png' alt='' width='40' height='40'>"),
        finds(f"<p>Hi</p>{_ONE}"),
    ],
)
def pictures_only(message: Message, context: Context) -> Evidence | None:
    """A picture, and fewer than 80 letters and digits."""
    pictures, letters = _pictures(message), _letters(message)
    if not pictures or letters >= _HARDLY_ANY:
        return None
    if unfilled(message):
        raise CannotTell("fields will bring text that is not known yet")
    return Evidence(f"{len(pictures)} picture{'s' * (len(pictures) > 1)}, {letters} letters of text", _at(message, pictures[0]))


@reason(
    id="picture-balance",
    name="Much picture for little text",
    group="pictures",
    weight=0.8,
    why="The less text there is beside pictures, the less a filter can judge by.",
    fix="Write more of it as text, or leave pictures out.",
    effort=2,
    samples=[clear(_COPY + _ONE), clear(f"{_COPY}{_ONE * 3}{{{{ content }}}}"), finds(_COPY + _ONE * 3)],
)
def picture_balance(message: Message, context: Context) -> Evidence | None:
    """Two pictures and more, with under 120 letters and digits for each."""
    pictures, letters = _pictures(message), _letters(message)
    if letters < _HARDLY_ANY or len(pictures) < 2 or letters >= 120 * len(pictures):
        return None
    if unfilled(message):
        raise CannotTell("fields will bring text that is not known yet")
    return Evidence(f"{len(pictures)} pictures, {letters} letters of text", _at(message, pictures[0]))


@reason(
    id="picture-single",
    name="One linked picture is the whole message",
    group="pictures",
    weight=1.0,
    why="A picture of a letter, linked to one page, is how filters are passed by.",
    fix="Write the letter as text.",
    effort=2,
    samples=[
        clear(f"{_COPY}<a href='https://kiln.org/'>{_ONE}</a>{_COPY}"),
        clear(f"<a href='https://kiln.org/'>{_ONE}</a>{{{{ content }}}}"),
        finds(f"<a href='https://kiln.org/sale'>{_ONE}</a><p>Unsubscribe</p>"),
    ],
)
def picture_single(message: Message, context: Context) -> Evidence | None:
    """One picture in a link, and under 150 letters and digits."""
    pictures = _pictures(message)
    if len(pictures) != 1 or _letters(message) >= 150 or not any(parent.tag == "a" for parent in pictures[0].ancestors()):
        return None
    if unfilled(message):
        raise CannotTell("fields will bring text that is not known yet")
    return Evidence(f"one picture, {_letters(message)} letters of text", _at(message, pictures[0]))
