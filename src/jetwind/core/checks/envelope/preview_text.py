"""The line an inbox shows after the subject is written on purpose."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.facts import phrase_pattern
from jetwind.core.message import Message

_WORD = re.compile(r"[^\W\d_]{2,}")
_ADDRESS = re.compile(r"(?:https?://|www\.)\S+|\S+@\S+\.\S+", re.IGNORECASE)
#: An inbox row has room for little more than this after a subject.
_FIRST = 40


@check(
    id="envelope.preheader-missing",
    name="No preview text",
    level=Level.FIX,
    why="The inbox fills the line with whatever comes first: menu words, an address, or nothing.",
    fix="Put a sentence of 40 to 110 characters first in the body, hidden or visible.",
    basis="Common practice, no published source",
    samples=[
        clear('<body><div style="display:none">Twelve glazes at a fifth off until Sunday</div><a href="x">View in browser</a></body>'),
        clear("<body><h1>Spring glaze sale</h1><p>Twelve glazes at a fifth off.</p></body>"),
        clear("<body><p>Hello {{ first_name }}, your pots are ready.</p></body>"),
        clear("<body><span style='font-size:1px;line-height:1px;mso-hide:all'>Your firing slot is booked</span><p>x</p></body>"),
        clear("Subject: Hi\n\nYour pots are ready for collection.\n"),
        clear("<body><a href='x'><b>Your pots are ready to collect from the quay</b></a><p>Come by from Tuesday.</p></body>"),
        finds("<body><a href='x'>View in browser</a><img src='a.png' alt='Sale'></body>"),
        finds(
            "<body><a href='a'>Shop</a> | <a href='b'>Courses</a> | <a href='c'>Membership</a> | <a href='d'>Studio</a><p>Hello</p></body>"
        ),
        finds("<body><img src='a.png' alt='A row of glazed bowls'></body>"),
        finds("<body><div style='display:none'>&#847;&zwnj;&nbsp;&#847;</div><img src='a.png' alt=''></body>"),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Hidden lead-in text, or words in the first 40 visible characters, can stand as preview text."""
    if message.given_preview_text:
        return
    if message.document is None:
        if message.text is None:
            raise DoesNotApply("the message has no text at all")
        if not _reads(message.text.text.strip()[: _FIRST * 2]):
            yield Hit(
                "Nothing in the first words of the plain text can serve as preview text.", Place.in_text(message, None), identity="text"
            )
        return
    if _reads(message.reading.lead_in):
        return
    words: list[str] = []
    taken = 0
    for piece in message.reading.pieces:
        if taken >= _FIRST:
            break
        # A menu is a row of short links; a sentence that happens to be a link may well be read as preview text.
        if piece.link is None or len(piece.text.split()) > 4:
            words.append(piece.text[: _FIRST * 2])
        taken += len(piece.text) + 1
    if not _reads(" ".join(words)):
        body = message.document.body
        yield Hit(
            "The body does not start with words that can serve as preview text.",
            Place.in_html(message, body.start_tag, body.index),
            {"first_words": " ".join(piece.text for piece in message.reading.pieces)[:_FIRST]},
            identity="missing",
        )


def _reads(text: str) -> bool:
    """Whether a text has words of its own once addresses and "view in browser" phrases are taken away."""
    rest = phrase_pattern("phrases", "view_in_browser").sub(" ", _ADDRESS.sub(" ", text))
    return len(_WORD.findall(rest)) >= 2 or (bool(rest.strip()) and not rest.isascii() and len(rest.strip()) >= 4)
