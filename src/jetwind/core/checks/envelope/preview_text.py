"""The line an inbox shows after the subject is written on purpose."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.needs import need_headers
from jetwind.core.facts import phrase_pattern
from jetwind.core.markup import source_span
from jetwind.core.message import Envelope, Message
from jetwind.core.prose.reading import InboxPiece, reading_of, tidy_places

_WORD = re.compile(r"[^\W\d_]{2,}")
_WORD_OR_NUMBER = re.compile(r"\w+")
_ADDRESS = re.compile(r"(?:https?://|www\.)\S+|[^\s@]{1,64}@\S+\.\S+", re.IGNORECASE)
#: An inbox row has room for little more than this after a subject.
_FIRST = 40
#: Characters after the shown ones that are looked at too, so that what begins in sight is seen whole.
_BEYOND = 300
#: Characters of a subject that are compared.
_LONGEST_SUBJECT = 500
#: Characters of a text in which a leak is pointed at exactly.
_LONGEST_PIECE = 5_000


@check(
    id="envelope.preheader-missing",
    name="No preview text",
    level=Level.FIX,
    why="The inbox fills the line with the first words of the message: a menu, an address, or nothing.",
    fix="Put a sentence of 40 to 110 characters first in the body, hidden or visible.",
    basis="Common practice, no published source",
    merged=True,
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
    yield from _missing(message)


def _missing(message: Message) -> Iterator[Hit]:
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
    if _reads(reading_of(message).lead_in):
        return
    words: list[str] = []
    taken = 0
    for piece in reading_of(message).pieces:
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
            {"first_words": " ".join(piece.text for piece in reading_of(message).pieces)[:_FIRST]},
            identity="missing",
        )


def _reads(text: str) -> bool:
    """Whether a text has words of its own once addresses and "view in browser" phrases are taken away."""
    rest = phrase_pattern("phrases", "view_in_browser").sub(" ", _ADDRESS.sub(" ", text))
    return len(_WORD.findall(rest)) >= 2 or (bool(rest.strip()) and not rest.isascii() and len(rest.strip()) >= 4)


@dataclass(frozen=True)
class LeakOptions(Options):
    """The options that a house may set."""

    shown_characters: Annotated[int, About("how much an inbox row shows after the subject, at least", unit="characters")] = 40


_HIDDEN = "<div style='display:none'>"


@check(
    id="envelope.preheader-leak",
    name="Inbox row runs into menu or technical text",
    level=Level.FIX,
    why="After a short preview text the inbox goes on with menu words, an address or picture descriptions.",
    fix="Make the preview text longer, or pad it, so that nothing else fits beside it.",
    basis="Common practice, no published source",
    options=LeakOptions,
    samples=[
        clear(f"<body>{_HIDDEN}Twelve glazes at a fifth off until Sunday evening</div><a href='x'>View in browser</a><p>Hello</p></body>"),
        clear(f"<body>{_HIDDEN}Spring is here{'&#847;&zwnj;&nbsp;' * 40}</div><a href='x'>View in browser</a></body>"),
        clear("<body><h1>Spring glaze sale</h1><p>Twelve glazes at a fifth off, from Tuesday.</p></body>"),
        clear("<body><p>Hello {{ first_name }}, your pots are ready. <a href='x'>Come by</a> today.</p></body>"),
        clear("<body><a href='x'>Your pots are ready to collect</a><p>Come by from Tuesday.</p></body>"),
        clear("Subject: Hi\n\nYour pots are ready for collection.\n"),
        clear("<body><p>Hello %%FIRST_NAME%%, spring is here</p></body>"),  # told under fields
        clear("<body><p>Write to studio@kiln.org and we will keep a shelf for you.</p></body>"),
        finds(
            f"<body>{_HIDDEN}Spring is here</div><a href='x'>View in browser</a><p>Twelve glazes at a fifth off</p></body>",
            at="View in browser",
        ),
        finds("<body><p>Spring glaze sale. View this email in your browser</p><p>y</p></body>"),
        finds("<body><p>Spring sale</p><p>https://kiln.org/sale</p><p>y</p></body>", at="https://kiln.org/sale"),
        finds(f"<body>{_HIDDEN}Spring glaze sale</div><img src='a.png' alt='Logo of the Kiln Works'><p>y</p></body>"),
        finds(
            f"<body>{_HIDDEN}Spring glaze sale</div><a href='a'>Shop</a> <a href='b'>Courses</a> <a href='c'>Studio</a><p>y</p></body>",
            at="Shop",
        ),
    ],
)
def find_leak(message: Message, context: Context, options: LeakOptions) -> Iterator[Hit]:
    """The inbox shows copy after the subject, without menu, browser link, address, alternative text or raw field."""
    if any(True for _ in _missing(message)):
        return
    pieces = list(reading_of(message).inbox_pieces(options.shown_characters))
    room = options.shown_characters
    menu = _menu(pieces)
    for piece in pieces:
        leak = _leak(piece, room)
        if leak is None and piece is menu:
            leak = "menu words", 0, len(piece.text)
        if leak is not None:
            what, start, end = leak
            yield Hit(
                "After {shown} characters the inbox row runs into {what}: {words}",
                _place(message, piece, start, end),
                {"shown": options.shown_characters - room + start, "what": what, "words": piece.text[start:end]},
                identity=f"{what}:{piece.text[start:end].casefold()}",
            )
            return
        room -= piece.length + 1


def _leak(piece: InboxPiece, room: int) -> tuple[str, int, int] | None:
    if piece.kind == "alternative text":
        return "an alternative text", 0, len(piece.text)
    text = piece.text[: room + _BEYOND]
    for what, matches in (
        ("“view in browser”", phrase_pattern("phrases", "view_in_browser").finditer(text)),
        ("an address", _ADDRESS.finditer(text)),
    ):
        for match in matches:
            if match.start() < room and not _is_in_a_sentence(text, match):
                return what, match.start(), match.end()
    return None


def _is_in_a_sentence(text: str, match: re.Match[str]) -> bool:
    """Whether a mail address stands among the words of a sentence, where it is copy like any other word."""
    if "@" not in match[0] or match[0].lower().startswith(("http", "www.")):
        return False
    return len(_WORD.findall(text[: match.start()])) + len(_WORD.findall(text[match.end() :])) >= 3


def _menu(pieces: list[InboxPiece]) -> InboxPiece | None:
    """The first of three short links in a row, which is what a menu is."""
    row: list[InboxPiece] = []
    for piece in pieces:
        if piece.link is not None and len(piece.text.split()) <= 3 and (not row or row[-1].link is not piece.link):
            row.append(piece)
            if len(row) == 3:
                return row[0]
        elif piece.text.strip("|·•–-/ "):
            row = []
    return None


def _place(message: Message, piece: InboxPiece, start: int, end: int) -> Place:
    document = message.document
    if piece.kind == "given":
        return Place.in_header(message, "Preview text")
    if document is None:
        return Place.in_text(message, None)
    if piece.run is not None and piece.run.span is not None:
        places = tidy_places(reading_of(message).shown_text(piece.run)[:_LONGEST_PIECE])
        if end <= len(places):
            raw = document.source.slice(piece.run.span)
            span = source_span(raw, piece.run.span, places[start], places[max(end - 1, start)] + 1)
            return Place.in_html(message, span, piece.run.parent.index)
        return Place.in_html(message, piece.run.span, piece.run.parent.index)
    element = piece.element
    return Place.in_html(message, element.start_tag if element else None, element.index if element else None)


@dataclass(frozen=True)
class RepeatOptions(Options):
    """The options that a house may set."""

    likeness: Annotated[float, About("how like the subject the start of the preview text may not be", most=1)] = 0.9


@check(
    id="envelope.preheader-repeats-subject",
    name="Preview text repeats the subject",
    level=Level.FIX,
    why="The inbox row says the same thing twice, and the second half of the invitation is lost.",
    fix="Let the preview text go on where the subject ends.",
    basis="Common practice, no published source",
    options=RepeatOptions,
    samples=[
        clear(
            f"Subject: Spring glaze sale\nFrom: a@kiln.org\nContent-Type: text/html\n\n<body>{_HIDDEN}Twelve glazes at a fifth off</div></body>"
        ),
        clear("<p>Spring is here, and so is our new kiln.</p>", envelope=Envelope(subject="Spring", sender_address="a@kiln.org")),
        clear(
            "<p>Your slot on Tuesday is free</p>",
            envelope=Envelope(
                subject="Your slot on Tuesday is booked, come by", preview_text="Bring your own shelves", sender_address="a@b.org"
            ),
        ),
        finds(
            f"Subject: Spring glaze sale\nFrom: a@kiln.org\nContent-Type: text/html\n\n<body>{_HIDDEN}Spring glaze sale: save</div><p>x</p></body>"
        ),
        finds("<p>x</p>", envelope=Envelope(subject="Spring glaze sale", preview_text="SPRING GLAZE SALE!", sender_address="a@kiln.org")),
        finds(
            "<body><h1>Spring glaze sale</h1><p>Go</p></body>", envelope=Envelope(subject="Spring glaze sale!", sender_address="a@kiln.org")
        ),
    ],
)
def find_repeats(message: Message, context: Context, options: RepeatOptions) -> Iterator[Hit]:
    """The preview text does not begin with the subject."""
    need_headers(message)
    subject = _plain(message.subject[:_LONGEST_SUBJECT])
    pieces = list(reading_of(message).inbox_pieces(min(len(message.subject), _LONGEST_SUBJECT) + 20))
    start = _plain(" ".join(piece.text for piece in pieces))[: len(subject)]
    if len(subject) < 8 or not pieces:
        return
    likeness = difflib.SequenceMatcher(None, subject, start, autojunk=False).ratio()
    if likeness >= options.likeness:
        yield Hit(
            "The preview text begins with the subject: {start}",
            _place(message, pieces[0], 0, len(pieces[0].text)),
            {"start": start, "likeness": round(likeness, 2)},
            identity=subject,
        )


def _plain(text: str) -> str:
    return " ".join(_WORD_OR_NUMBER.findall(text.casefold()))
