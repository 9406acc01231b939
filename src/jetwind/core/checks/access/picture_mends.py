"""The mends of alternative texts: a person says what a picture shows; what stands beside the picture already is not said twice."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator, Sequence
from html import escape

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, fill, leaves_alone, mend, one_place, turns
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.source import Span

_POT = "https://kiln.org/pot.png"
_ASKS = "What the picture shows, in a few words"
_LEAVES = "Where several pictures lack words, a person says them one by one at the source."


def _pictures(message: Message, finding: Finding) -> Iterator[Element]:
    """The pictures of a finding, in their order."""
    elements = message.document.all_elements if message.document is not None else ()
    for place in finding.places:
        if place.element is not None and place.element < len(elements) and elements[place.element].tag == "img":
            yield elements[place.element]


def _suggested(message: Message, context: Context, finding: Finding) -> Sequence[str]:
    """The title of the picture, and the words of its file's name."""
    found = []
    for image in _pictures(message, finding):
        # The name of a part of the mail, as in cid:, is none that a person gave to a picture.
        source = "" if (image.get("src") or "").lower().startswith(("cid:", "data:")) else image.get("src") or ""
        stem = posixpath.splitext(posixpath.basename(source.split("?")[0]))[0]
        words = re.sub(r"[\W_\d]+", " ", stem).strip()
        found += [(image.get("title") or "").strip(), words.capitalize() if " " in words else ""]
    return [words for words in found if words]


def _with_alt(message: Message, finding: Finding, words: str) -> Iterator[Change]:
    for image in _pictures(message, finding) if one_place(finding) else ():
        alt = image.attributes.get("alt")
        if alt is not None:
            yield Change("html", alt.value_span, escape(words))
        elif image.start_tag is not None:
            at = image.start_tag.start + len("<img")
            yield Change("html", Span(at, at), f' alt="{escape(words)}"')


@fill(
    "access.alt-missing",
    asks=_ASKS,
    example="A bowl",
    does="The picture gets these words as its alternative text.",
    leaves=_LEAVES,
    suggests=_suggested,
    samples=[
        turns(f"<img src='{_POT}' width=300>", f"<img alt=\"A “sea-green” pot\" src='{_POT}' width=300>", "A “sea-green” pot"),
        turns(f"<IMG src='{_POT}' width=300>", f"<IMG alt=\"Pots &amp; bowls\" src='{_POT}' width=300>", "Pots & bowls"),
        leaves_alone(f"<img src='{_POT}' width=300><img src='https://kiln.org/bowl.png' width=300>", "A pot"),
    ],
)
def fill_missing(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The words stand right behind the tag's name, so that nothing else of the tag is touched."""
    yield from _with_alt(message, finding, word)


def fill_alt(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The value of alt."""
    yield from _with_alt(message, finding, word)


#: Checks of alternative texts that say nothing: one such text, another, and what the words replace.
_EMPTY_WORDS = (
    ("access.alt-filename", "pot.png", "bowl.png", "the file's name"),
    ("access.alt-filler", "image", "Bild", "the word that says nothing"),
    ("access.alt-generic", "Company logo", "photo icon", "those that name only the kind of picture"),
)
for _check, _one, _other, _replaced in _EMPTY_WORDS:
    fill(
        _check,
        asks=_ASKS,
        example="A bowl",
        does=f"These words replace {_replaced}.",
        leaves=_LEAVES,
        suggests=_suggested,
        samples=[
            turns(f"<img src='{_POT}' alt='{_one}'>", f"<img src='{_POT}' alt='Sea-green pot'>", "Sea-green pot"),
            leaves_alone(f"<img src='{_POT}' alt='{_one}'><img src='{_POT}' alt='{_other}'>", "Sea-green pot"),
        ],
    )(fill_alt)


@mend(
    "access.alt-repeats",
    kind=MendKind.CONFIRM,
    does="The alternative text becomes empty: the text beside the picture says it.",
    leaves="A picture that is blocked leaves an empty place then; a person decides.",
    samples=[
        turns(f"<p><img src='{_POT}' alt='A pot'> A pot</p>", f"<p><img src='{_POT}' alt=''> A pot</p>"),
        leaves_alone(f"<p><img src='{_POT}' alt=Pot> Pot</p>"),
    ],
)
def mend_repeats(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """A value without quotes would swallow what follows it, and is left."""
    for image in _pictures(message, finding):
        alt = image.attributes.get("alt")
        if alt is not None and message.html is not None and message.html.text[alt.value_span.start - 1] in "\"'":
            yield Change("html", alt.value_span, "")


fill(
    "access.alt-link-empty",
    asks="Where the picture leads, in a few words",
    example="To the bowls",
    does="The picture in the link gets these words as its alternative text.",
    leaves=_LEAVES,
    suggests=_suggested,
    samples=[
        turns(
            f"<a href='https://kiln.org/pots'><img src='{_POT}' alt=''></a>",
            f"<a href='https://kiln.org/pots'><img src='{_POT}' alt='To the pots'></a>",
            "To the pots",
        ),
        leaves_alone(
            f"<a href='https://kiln.org/pots'><img src='{_POT}' alt=''></a><a href='https://kiln.org/cups'><img src='{_POT}' alt=''></a>",
            "To the pots",
        ),
    ],
)(fill_alt)


@fill(
    "access.alt-long",
    asks="What the picture shows, in one short sentence",
    example="A bowl",
    does="These words replace the long ones.",
    leaves=_LEAVES,
    samples=[
        turns(f"<img src='{_POT}' alt='{'Sea-green bowl, ' * 10}'>", f"<img src='{_POT}' alt='Sea-green bowls'>", "Sea-green bowls"),
        leaves_alone(f"<img src='{_POT}' alt='{'Sea-green bowl, ' * 10}'>", "Sea-green bowl " * 12),
    ],
)
def fill_shorter(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """Words that are within the limit."""
    most = finding.data.get("most")
    if isinstance(most, int) and len(word) <= most:
        yield from _with_alt(message, finding, word)
