"""Alternative text says what is to be seen, and not what kind of thing the picture is."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.access.alternative_text import is_file_name, is_filler, shown_pictures
from jetwind.core.facts import phrase_set
from jetwind.core.images import is_spacer
from jetwind.core.message import Message
from jetwind.core.prose.reading import tidy

_WORDS = re.compile(r"[^\W\d_]+(?:-[^\W\d_]+)*")
_PARTS = re.compile(r"[\W_\d]+")


@check(
    id="access.alt-generic",
    name="Alternative text that names only the kind",
    level=Level.FIX,
    why="A listener hears that there is a picture, and not of what.",
    fix='Say what the picture shows, such as the company’s name for its logo; for mere decoration write alt="".',
    basis="WCAG 2.2 SC 1.1.1; common practice, no published source",
    merged=True,
    together="{many} alternative texts say what kind of picture it is, and not what is to be seen.",
    samples=[
        clear('<img src="a.png" alt="Kiln Works logo"><img src="b.png" alt="Photo of the quay"><img src="c.png" alt="Play icon">'),
        clear('<img src="bowl.png" alt="Bowl"><img src="sea-green.png" alt="Sea-green"><img src="top-shelf.png" alt="The top shelf">'),
        clear(
            '<img src="a.png" alt="Our newsletter"><img src="a.png" alt="Main article"><img src="a.png" alt="Left"><img src="a.png" alt="">'
        ),
        clear(
            '<img src="a.png" alt="{{ product }} photo"><img src="a.png" alt="Logo"><img src="gap.gif" width="1" height="1" alt="small image">'
        ),
        clear('<img src="a.png" alt="Produktfoto der grünen Schale"><img src="a.png" alt="Picture the sea at night">'),
        finds('<img src="a.png" alt="Company logo">', at="Company logo"),
        finds('<img src="a.png" alt="photo icon">', at="photo icon"),
        finds('<img src="a.png" alt="Our main newsletter banner">', at="Our main newsletter banner"),
        finds('<img src="a.png" alt="Image of the product">', at="Image of the product"),
        finds('<img src="a.png" alt="Imagen del producto">', at="Imagen del producto"),
        finds('<img src="https://kiln.org/hero-left.jpg?x=1" alt="hero-left">', at="hero-left"),
    ],
)
def find_generic(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """An alternative text has a word that belongs to this picture alone."""
    for image in shown_pictures(message):
        alt = image.attributes.get("alt")
        words = tidy(alt.value[:200]) if alt is not None else ""
        if alt is None or not words or is_spacer(message, image) or is_filler(words) or message.holds_field(alt.value[:200]):
            continue
        source = (image.get("src") or "").split("?")[0]
        if not (_names_a_kind(words) or _is_stem(words, source)) or is_file_name(words, source):
            continue
        yield Hit(
            "The alternative text “{alt}” says what kind of picture it is, and not what is to be seen.",
            Place.in_html(message, alt.value_span, image.index),
            {"alt": words},
            identity=words,
        )


def _names_a_kind(words: str) -> bool:
    """Whether there is a word for a kind of picture, and no other that says anything."""
    kinds, beside = phrase_set("phrases", "alt_kinds"), phrase_set("phrases", "alt_beside")
    found = [word.casefold() for word in _WORDS.findall(words)]
    return (
        1 < len(found) <= 6
        and not any(char.isdigit() for char in words)
        and found[-1 if found[-1] in kinds else 0] in kinds
        and all(word in kinds or word in beside for word in found)
    )


def _is_stem(words: str, source: str) -> bool:
    """Whether it is the name of the file without its ending, and that name tells a place or a kind."""
    stem = posixpath.splitext(posixpath.basename(source))[0]
    if words.casefold() != stem.casefold():
        return False
    parts = [part.casefold() for part in _PARTS.split(stem) if part]
    told = phrase_set("phrases", "alt_kinds") | phrase_set("phrases", "alt_beside") - _PLAIN
    return len(parts) > 1 and any(part in told for part in parts)


#: Words that stand in many a good name.
_PLAIN = frozenset({"a", "an", "the", "of", "la", "el", "le", "de", "die", "der", "das", "new", "big", "small", "large", "top"})
