"""Every picture says in words what it shows."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Annotated

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.images.package import PIXEL
from jetwind.core.facts import phrase_set
from jetwind.core.images import is_spacer, shown_size
from jetwind.core.links.collect import accessible_name
from jetwind.core.markup import Element
from jetwind.core.message import Message, Sample
from jetwind.core.prose.reading import reading_of, tidy

_FILE_NAME = re.compile(r"\S.*\.(?:png|jpe?g|gif|webp|svg|bmp|tiff?|heic|avif)\Z|(?!\w+:)\S*[/\\]\S*\.\w{3,4}\Z", re.IGNORECASE)
#: File systems take no longer name, in characters; beyond it an alternative text is something else.
_LONGEST_NAME = 255
_CAMERA = re.compile(r"(?:IMG|DSC|DSCN|DSCF|PXL|MVIMG|Screenshot|Screen[ _-]Shot)[ _-]?\d[\w -]*\Z", re.IGNORECASE)
_UNDERSCORED = re.compile(r"[A-Za-z0-9]+(?:[-_][A-Za-z0-9]+)*_[A-Za-z0-9]+(?:[-_][A-Za-z0-9]+)*\Z")
_SLUG = re.compile(r"[A-Za-z0-9]+(?:-[A-Za-z0-9]+)+\Z")


def shown_pictures(message: Message) -> Iterator[Element]:
    """The pictures that some reader sees."""
    if message.document is None:
        return
    for image in message.document.elements("img"):
        # A hidden picture with a size is one that a media query shows on phones; without a size it counts openings.
        if not message.cascade.is_hidden(image) or any(shown_size(message, image)):
            yield image


@check(
    id="access.alt-missing",
    name="Picture without alternative text",
    level=Level.STOP,
    why="With pictures blocked there is nothing in its place, and a screen reader spells out the file's address.",
    fix='Say in alt what the picture says; for mere decoration write alt="".',
    basis="WCAG 2.2 SC 1.1.1; HTML §4.8.4.4 (from memory)",
    merged=True,
    together="{many} pictures have no alt attribute.",
    samples=[
        clear('<img src="https://kiln.org/bowl.png" alt="Sea-green bowl">'),
        clear('<img src="https://kiln.org/line.png" alt="">'),
        clear('<img src="https://kiln.org/line.png" alt>'),
        clear('<img src="https://kiln.org/open.gif" width="1" height="1">'),
        clear('<img src="https://kiln.org/open.gif" style="width:1px;height:1px">'),
        clear('<img src="https://kiln.org/gap.gif" width="600" height="2">'),
        clear('<img src="gap.gif">', files={"gap.gif": PIXEL}),
        clear('<img src="https://kiln.org/open?m=1" style="display:none">'),
        clear('<!--[if mso]><img src="x.png"><![endif]-->'),
        clear('<img src="https://kiln.org/bowl.png" alt="{{ product_name }}">'),
        clear('<img src="https://kiln.org/bowl.png" alt="{{ product_name }}">', readers=(Sample("Nil", {"product_name": ""}),)),
        finds('<img src="https://kiln.org/bowl.png">', at='<img src="https://kiln.org/bowl.png">'),
        finds('<a href="https://kiln.org"><img src="https://kiln.org/bowl.png" width="600" title="Bowl"></a>'),
        finds('<img src="https://kiln.org/bowl.png" width="100%">'),
        finds('<div style="display:none" class="on-phone"><img src="https://kiln.org/bowl.png" width="320"></div>'),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each shown picture larger than a spacer has an alt attribute."""
    for image in shown_pictures(message):
        if "alt" in image.attributes or is_spacer(message, image):
            continue
        source = image.get("src") or "without address"
        yield Hit(
            "The picture {source} has no alt attribute.",
            Place.in_html(message, image.start_tag, image.index),
            {"source": posixpath.basename(source.split("?")[0]) or source},
            identity=source,
        )


@check(
    id="access.alt-filename",
    name="File name as alternative text",
    level=Level.FIX,
    why="A file name tells the reader nothing about the picture.",
    fix='Say in alt what the picture says; for mere decoration write alt="".',
    basis="HTML §4.8.4.4 (from memory)",
    merged=True,
    together="{many} alternative texts are file names.",
    samples=[
        clear('<img src="https://kiln.org/bowl.png" alt="Sea-green bowl">'),
        clear('<img src="https://kiln.org/t-shirt.png" alt="T-shirt"><img src="x" alt="">'),
        clear('<img src="https://kiln.org/a.png" alt="state-of-the-art"><img src="x" alt="COVID-19">'),
        clear('<img src="https://kiln.org/a.png" alt="kiln.org"><img src="x" alt="{{ first_name }}">'),
        clear('<img src="https://kiln.org/sale.png" alt="Sale"><img src="x" alt="5/6 off, and up.">'),
        finds('<img src="https://kiln.org/bowl.png" alt="bowl.png">', at="bowl.png"),
        finds('<img src="https://kiln.org/a.png" alt="header_bowl_v2">', at="header_bowl_v2"),
        finds('<img src="https://kiln.org/spring-sale-1200.jpg" alt="spring-sale-1200">', at="spring-sale-1200"),
        finds('<img src="https://kiln.org/a.png" alt="IMG_2041">', at="IMG_2041"),
        finds('<img src="https://kiln.org/a.png" alt="Spring Sale Final.JPG">', at="Spring Sale Final.JPG"),
    ],
)
def find_file_name(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """An alternative text is words, not a file name or a slug."""
    for image in shown_pictures(message):
        alt = image.attributes.get("alt")
        if alt is None or not is_file_name(alt.value.strip(), image.get("src") or ""):
            continue
        yield Hit(
            "The alternative text is a file name: {alt}",
            Place.in_html(message, alt.value_span, image.index),
            {"alt": alt.value.strip()},
            identity=alt.value.strip(),
        )


def is_file_name(alt: str, source: str) -> bool:
    """Whether an alternative text is the name of a file, or a slug of one."""
    if not alt or "{" in alt or len(alt) > _LONGEST_NAME:
        return False
    if _FILE_NAME.match(alt) or _CAMERA.match(alt) or _UNDERSCORED.match(alt):
        return True
    if not _SLUG.match(alt):
        return False
    stem = posixpath.splitext(posixpath.basename(source.split("?")[0]))[0]
    many = alt.count("-") >= 2
    return many and (alt.casefold() == stem.casefold() or any(char.isdigit() for char in alt))


_POT = "https://kiln.org/pot.png"


@check(
    id="access.alt-link-empty",
    name="Linked picture without a word",
    level=Level.STOP,
    why="A screen reader says “link” and spells out an address; with pictures blocked there is nothing to press.",
    fix="Say in alt where the link leads.",
    basis="WCAG 2.2 SC 2.4.4 and 4.1.2; HTML §4.8.4.4.1 (from memory)",
    merged=True,
    together="The links of {many} pictures have no words.",
    samples=[
        clear(f'<a href="https://kiln.org/pots"><img src="{_POT}" alt="All pots"></a>'),
        clear(f'<a href="https://kiln.org/pots"><img src="{_POT}" alt=""> All pots</a>'),
        clear(f'<a href="https://kiln.org/pots" aria-label="All pots"><img src="{_POT}" alt=""></a>'),
        clear(f'<a href="https://kiln.org/pots" title="All pots"><img src="{_POT}" alt=""></a>'),
        clear(f'<a href="https://kiln.org/pots"><img src="{_POT}" alt=""><img src="{_POT}" alt="All pots"></a>'),
        clear(f'<a href="https://kiln.org/pots"><img src="{_POT}"></a>'),
        clear(f'<a name="top"><img src="{_POT}" alt=""></a>'),
        clear('<a href="https://kiln.org/pots"><img src="gap.gif" width="1" height="1" alt=""></a>'),
        clear(f'<a href="https://kiln.org/pots"><img src="{_POT}" alt="{{{{ course }}}}"></a>'),
        clear(f'<a href="https://kiln.org/pots" aria-hidden="true" tabindex="-1"><img src="{_POT}" alt=""></a>'),
        finds(f'<a href="https://kiln.org/pots"><img src="{_POT}" alt=""></a>', at=f'<img src="{_POT}" alt="">'),
        finds(f'<a href="https://kiln.org/pots"><img src="{_POT}" alt=" "></a>'),
    ],
)
def find_link_empty(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A link that holds a picture has a word in it, or a label."""
    names: dict[int, str] = {}
    for image in shown_pictures(message):
        alt = image.attributes.get("alt")
        link = _link_around(image)
        if alt is None or alt.value.strip() or link is None or link.get("href") is None or is_spacer(message, image):
            continue
        # A link may hold thousands of pictures: its name is read once.
        if link.index not in names:
            names[link.index] = accessible_name(link)
        if names[link.index]:
            continue
        # One that is kept from everybody who listens is there beside another link to the same place.
        if (link.get("aria-hidden") or "").strip().lower() == "true":
            continue
        source = image.get("src") or ""
        yield Hit(
            "The link of the picture {source} has no words.",
            Place.in_html(message, image.start_tag, image.index),
            {"source": posixpath.basename(source.split("?")[0]) or source},
            identity=source,
        )


#: Boxes around a picture in which its link is looked for: hostile markup nests thousands.
_MOST_BOXES = 40


def _link_around(image: Element) -> Element | None:
    return next((place for place in islice(image.ancestors(), _MOST_BOXES) if place.tag == "a"), None)


_NUMBER = re.compile(r"[\W_]*\d+[\W_]*\Z")
_NUMBERED = re.compile(r"[\s_-]*\d{1,4}\Z")


@check(
    id="access.alt-filler",
    name="Alternative text that says nothing",
    level=Level.FIX,
    why="“Image” tells a listener nothing new.",
    fix='Say in alt what the picture says; for mere decoration write alt="".',
    basis="Common practice, no published source",
    merged=True,
    together="{many} alternative texts say nothing of their pictures.",
    samples=[
        clear(f'<img src="{_POT}" alt="Sea-green bowl"><img src="x" alt="">'),
        clear(f'<img src="{_POT}" alt="Kiln works logo"><img src="x" alt="Photo of the quay"><img src="x" alt="{{{{ alt }}}}">'),
        clear(f'<img src="{_POT}" alt="50 % off"><img src="x" alt="2027 calendar">'),
        clear('<img src="gap.gif" width="1" height="1" alt="spacer">'),
        finds(f'<img src="{_POT}" alt="image">', at="image"),
        finds(f'<img src="{_POT}" alt="Image 3">', at="Image 3"),
        finds(f'<img src="{_POT}" alt="CTA">', at="CTA"),
        finds(f'<img src="{_POT}" alt="Bild">', at="Bild"),
        finds(f'<img src="{_POT}" alt="7">', at="7"),
    ],
)
def find_filler(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """An alternative text is more than the word for a picture, a button or a line, and more than a number."""
    for image in shown_pictures(message):
        alt = image.attributes.get("alt")
        words = tidy(alt.value[:200]) if alt is not None else ""
        if alt is None or not words or is_spacer(message, image):
            continue
        if is_filler(words):
            yield Hit(
                "The alternative text “{alt}” says nothing of the picture.",
                Place.in_html(message, alt.value_span, image.index),
                {"alt": words},
                identity=words,
            )


def is_filler(words: str) -> bool:
    """Whether an alternative text is a word for any picture, or a number."""
    plain = _NUMBERED.sub("", words.casefold()).strip(" .:!-_")
    return _NUMBER.match(words) is not None or plain in phrase_set("phrases", "alt_filler")


@dataclass(frozen=True)
class LongOptions(Options):
    """The options that a house may set."""

    most_characters: Annotated[int, About("the longest alternative text that passes", unit="characters")] = 150


@check(
    id="access.alt-long",
    name="Long alternative text",
    level=Level.NOTE,
    why="A screen reader reads it in one go, and a blocked picture's box cuts it off.",
    fix="Say it in a sentence, and the rest as text beside the picture.",
    basis="Common practice, no published source",
    options=LongOptions,
    together="{many} alternative texts are too long.",
    samples=[
        clear(f'<img src="{_POT}" alt="Sea-green bowl on the long shelf, with its lid beside it">'),
        finds(f'<img src="{_POT}" alt="{"Sea-green bowl, " * 10}">'),
    ],
)
def find_long(message: Message, context: Context, options: LongOptions) -> Iterator[Hit]:
    """An alternative text has 150 characters at most."""
    for image in shown_pictures(message):
        alt = image.attributes.get("alt")
        words = tidy(alt.value) if alt is not None else ""
        if alt is not None and len(words) > options.most_characters:
            data = {"characters": len(words), "most": options.most_characters}
            yield Hit(
                "The alternative text has {characters} characters; {most} are the limit.",
                Place.in_html(message, alt.value_span, image.index),
                data,
                identity=words[:80],
            )


@check(
    id="access.alt-repeats",
    name="Alternative text that repeats the text beside it",
    level=Level.NOTE,
    why="A listener hears everything twice.",
    fix='Write alt="" where the text beside the picture says it all.',
    basis="HTML §4.8.4.4 (from memory)",
    merged=True,
    together="{many} alternative texts repeat the text beside them.",
    samples=[
        clear(f'<p><img src="{_POT}" alt="Sea-green bowl"> Bowls are back</p>'),
        clear(f'<p><img src="{_POT}" alt=""> Sea-green bowl</p>'),
        clear(f'<table><tr><td><img src="{_POT}" alt="Kiln"></td></tr></table><p>Words between.</p><p>Kiln</p>'),
        clear(f'<p><img src="{_POT}" alt="Tea"> Teacups</p>'),
        finds(f'<p><img src="{_POT}" alt="Sea-green bowl"> Sea-green bowl</p>', at="Sea-green bowl"),
        finds(f'<a href="https://kiln.org/"><img src="{_POT}" alt="Sea-green bowl!"><br>Sea-Green Bowl</a>'),
        finds(f'<table><tr><td><img src="{_POT}" alt="Sea-green bowl"></td></tr><tr><td>Sea-green bowl</td></tr></table>'),
    ],
)
def find_repeats(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No alternative text is the text right before or after its picture."""
    if message.document is None:
        return
    before = ""
    waiting: list[tuple[Element, str]] = []
    labels: dict[int, str] = {}
    shown = {image.index for image in shown_pictures(message)}
    for piece in _spoken(message):
        if isinstance(piece, Element):
            words = _plain(piece.get("alt") or "") if piece.index in shown else ""
            if words and words in (before, _label(piece, labels)):
                yield _repeated(message, piece)
            elif words:
                waiting.append((piece, words))
            continue
        for image, words in waiting:
            if words == piece:
                yield _repeated(message, image)
        waiting, before = [], piece


def _label(image: Element, known: dict[int, str]) -> str:
    """The words of the link that holds a picture; ``known`` are those of links that were read."""
    link = _link_around(image)
    if link is None:
        return ""
    if link.index not in known:
        known[link.index] = _plain(link.text[:1_000])
    return known[link.index]


def _repeated(message: Message, image: Element) -> Hit:
    alt = image.attributes["alt"]
    return Hit(
        "The alternative text “{alt}” repeats the text beside it.",
        Place.in_html(message, alt.value_span, image.index),
        {"alt": tidy(alt.value)[:120]},
        identity=tidy(alt.value)[:120],
    )


def _spoken(message: Message) -> Iterator[Element | str]:
    """Pictures, and between them the text as passages, in the order in which they are read."""
    by_element: dict[int, list[str]] = {}
    for passage in reading_of(message).passages:
        by_element.setdefault(passage.element.index, []).append(_plain(passage.text))
    assert message.document is not None
    for element in message.document.all_elements:
        if element.tag == "img":
            yield element
        yield from by_element.get(element.index, ())


def _plain(text: str) -> str:
    return " ".join(re.findall(r"\w+", text.casefold()))
