"""A picture's alternative text says the words that stand in the picture."""

from __future__ import annotations

import hashlib
import re
import unicodedata
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from itertools import islice
from typing import Annotated

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checking.sample_values import Given
from jetwind.core.checks.images.package import PIXEL
from jetwind.core.checks.needs import need_html, pictures_in
from jetwind.core.fields import opaque
from jetwind.core.fields.syntax import FILLER
from jetwind.core.images.collecting import Picture
from jetwind.core.images.words import PictureWords, Words, can_be_read, may_hold_words
from jetwind.core.links.collect import accessible_name
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.prose.reading import reading_of, tidy

_WORD = re.compile(r"\w+")
#: Passages before and after a picture that count as beside it.
_BESIDE = 3
#: Words of one picture that are looked at, and that a finding quotes.
_MOST, _QUOTED = 120, 12
#: Words that begin or end alike, which one is held against letter by letter.
_MOST_NEAR = 60
#: How alike a word must be to one that is said, of 1: a letter misread, another ending.
_ALIKE = 0.8
#: Boxes around a picture in which its link is looked for, and characters that are read of a name or a passage: hostile markup has any number.
_MOST_BOXES, _LONGEST_NAME = 40, 2_000


def _of_file(data: bytes, text: str, reader: str = "reader 1") -> Given:
    """For ``given`` of a sample: the words in the picture with this file."""
    return {"picture_words": PictureWords({hashlib.sha256(data).hexdigest(): Words(text, reader)}, reader)}


def _at(address: str, text: str, reader: str = "") -> Given:
    """The same for a picture that lies elsewhere; entered by a person, or read by a program."""
    return {"picture_words": PictureWords({hashlib.sha256(address.encode()).hexdigest(): Words(text, reader)}, reader)}


_BOWL = "https://kiln.org/bowl.png"


@dataclass(frozen=True)
class WordsOptions(Options):
    """The options that a house may set."""

    least_words: Annotated[
        int,
        About(
            "from how many words on, read by a program, the text must leave out; of words that a person entered, one is enough",
            unit="words",
        ),
    ] = 2
    least_share: Annotated[
        float, About("the share of all words read that the text must leave out as well: a line below a logo is no part of its name", most=1)
    ] = 0.5


@check(
    id="access.alt-words",
    name="Words in a picture missing from its alternative",
    level=Level.FIX,
    why="A reader who does not see the picture, or has pictures blocked, does not get these words.",
    fix="Say the picture's words in alt, or as text beside it.",
    basis="WCAG 2.2 SC 1.4.5 and 1.1.1; which words count: common practice, no published source",
    options=WordsOptions,
    merged=True,
    samples=[
        clear(f"<img src='{_BOWL}' alt='Spring glazes, 20 % off'>", given=_at(_BOWL, "Spring glazes\n20 % off")),
        clear(f"<img src='{_BOWL}' alt='SPRING-GLAZES: 20% off!'>", given=_at(_BOWL, "Spring glazes 20 % off")),
        # A program takes an i for an l, and reads a word off a pot's label.
        clear(f"<img src='{_BOWL}' alt='Spring glazes are back'>", given=_at(_BOWL, "Sprlng glazes")),
        clear(f"<img src='{_BOWL}' alt='A bowl'>", given=_at(_BOWL, "Kiln", "reader 1")),
        clear(f"<img src='{_BOWL}' alt='Saltmarsh Kiln Works'>", given=_at(_BOWL, "SALTMARSH KILN WORKS\nest. 1987", "reader 1")),
        clear(f"<img src='{_BOWL}' alt=''><p>Spring glazes: 20 % off until Sunday</p>", given=_at(_BOWL, "Spring glazes 20 % off")),
        clear(f"<a href='https://kiln.org/' title='All bowls'><img src='{_BOWL}' alt=''></a>", given=_at(_BOWL, "All bowls")),
        clear(f"<img src='{_BOWL}' alt='{{{{ offer }}}}'>", given=_at(_BOWL, "Spring glazes 20 % off")),
        clear(f"<img src='{_BOWL}' alt='A bowl'>", given=_at(_BOWL, "")),
        # No alternative text at all is told by access.alt-missing.
        clear(f"<img src='{_BOWL}'>", given=_at(_BOWL, "Spring glazes 20 % off")),
        clear("<img src='gap.gif' alt=''>", files={"gap.gif": PIXEL}, given=_of_file(PIXEL, "Spring glazes")),
        finds(f"<img src='{_BOWL}' alt='A bowl'>", "A bowl", given=_at(_BOWL, "Spring glazes\n20 % off")),
        finds(f"<img src='{_BOWL}' alt='Spring glazes'>", "Spring glazes", given=_at(_BOWL, "Spring glazes until Sunday")),
        finds(f"<img src='{_BOWL}' alt=''><p>Hello</p>", given=_at(_BOWL, "Spring glazes")),
        finds(f"<img src='{_BOWL}' alt='A bowl'>", given=_at(_BOWL, "Spring glazes", "reader 1")),
    ],
)  # fmt: skip
def find_left_out(message: Message, context: Context, options: WordsOptions) -> Iterator[Hit]:
    """The words that stand in a picture are said by its alternative text, its link, or the text beside it."""
    need_html(message)
    pictures = [picture for picture in pictures_in(message, context) if may_hold_words(picture)]
    known = context.picture_words
    unread: list[Picture] = []
    beside = _Beside(message)
    for picture in pictures:
        words = known.by_picture.get(picture.digest) if known is not None else None
        if words is None:
            unread.append(picture)
        elif words.text:
            yield from _left_out(message, picture, words, beside, options if words.reader else WordsOptions(1, 0.0))
    if unread:
        raise CannotTell(_why_unread(unread, known))


def _left_out(message: Message, picture: Picture, words: Words, beside: _Beside, options: WordsOptions) -> Iterator[Hit]:
    spoken = telling_words(words.text)
    for use in picture.images:
        element = use.element
        alt = element.attributes.get("alt") if element is not None else None
        if element is None or alt is None or message.cascade.is_hidden(element):
            continue
        own = beside.own(element)
        # A field, of whatever kind, stands for words that nobody knows yet.
        if FILLER in opaque(own, message.syntax):
            continue
        heard = {_plain(word) for word in _WORD.findall(f"{own} {beside.around(element)}")}
        missing = [word for word in spoken if not _is_heard(_plain(word), heard)]
        if len(missing) < max(1, options.least_words) or len(missing) < options.least_share * len(spoken):
            continue
        yield _hit(message, picture, element, missing, words)
        return


def _hit(message: Message, picture: Picture, element: Element, missing: Sequence[str], words: Words) -> Hit:
    alt = element.attributes["alt"]
    return Hit(
        "{name} shows words that its alternative text leaves out: “{words}” (read by {reader})."
        if words.reader
        else "{name} shows words that its alternative text leaves out: “{words}”.",
        Place.in_html(message, alt.value_span if alt.value else element.start_tag, element.index),
        {
            "name": picture.name,
            "words": " ".join(missing[:_QUOTED]) + (" …" if len(missing) > _QUOTED else ""),
            "reader": words.reader,
            "key": picture.key,
        },
        identity=picture.key,
    )


class _Beside:
    """The words that a reader hears with a picture."""

    def __init__(self, message: Message) -> None:
        self._order: dict[int, int] = {}
        self._passages: list[tuple[int, str]] = []
        document = message.document
        texts: dict[int, list[str]] = {}
        for passage in reading_of(message).passages:
            texts.setdefault(passage.element.index, []).append(passage.text)
        for element in document.all_elements if document is not None else ():
            if element.tag == "img":
                self._order[element.index] = len(self._passages)
            self._passages += [(element.index, text) for text in texts.get(element.index, ())]

    @staticmethod
    def own(image: Element) -> str:
        """Its alternative text, titles, and the words of its link."""
        link = next((place for place in islice(image.ancestors(), _MOST_BOXES) if place.tag == "a"), None)
        own = (image.get("alt") or "", image.get("title") or "", image.get("aria-label") or "")
        return tidy(" ".join((*own, accessible_name(link)[:_LONGEST_NAME] if link is not None else "")))

    def around(self, image: Element) -> str:
        """The passages before and after it."""
        at = self._order.get(image.index, 0)
        return " ".join(text[:_LONGEST_NAME] for _, text in self._passages[max(0, at - _BESIDE) : at + _BESIDE])


def telling_words(text: str) -> list[str]:
    """The words that say something, each once: of three letters or more, or numbers of two digits or more."""
    words = _WORD.findall(text)[:_MOST]
    kept = [word for word in words if len(word) >= 3 or (word.isdecimal() and len(word) >= 2)]
    found: dict[str, str] = {}
    for word in kept:
        found.setdefault(_plain(word), word)
    return list(found.values())


def _plain(word: str) -> str:
    """Without capitals and accents."""
    apart = unicodedata.normalize("NFKD", word.casefold())
    return "".join(char for char in apart if not unicodedata.combining(char))


def _is_heard(word: str, heard: set[str]) -> bool:
    if word in heard:
        return True
    if word.isdecimal():
        return False
    near = (one for one in heard if abs(len(one) - len(word)) <= 2 and (one[:2] == word[:2] or one[-2:] == word[-2:]))
    return bool(get_close_matches(word, list(islice(near, _MOST_NEAR)), n=1, cutoff=_ALIKE))


def _why_unread(unread: Sequence[Picture], known: PictureWords | None) -> str:
    what = f"the words in {len(unread)} pictures were not read" if len(unread) > 1 else "the words in 1 picture were not read"
    if known is None:
        return f"{what}; --read-pictures reads them, or enter them at the Images station"
    if not any(can_be_read(picture) for picture in unread):
        return f"{what}, since no file is at hand that can be read; enter them at the Images station"
    if not known.reader:
        return f"{what}: tesseract is not installed; enter them at the Images station"
    return f"{what} by {known.reader}; enter them at the Images station"
