"""Reasons in the subject."""

from __future__ import annotations

import re

from jetwind.core.checking import Context, Place, clear, finds
from jetwind.core.checks.envelope.emoji import emoji
from jetwind.core.checks.envelope.subject import graphemes
from jetwind.core.fields import opaque
from jetwind.core.message import Message
from jetwind.core.spam.declaring import Evidence, found_by, reason
from jetwind.core.spam.phrases import disguised, told

_HEAD = "From: Kiln Works <hello@kiln.org>\n"
_BODY = "\n\nThe big kiln is fired on Monday. Bring your pots by Friday noon.\n"
_CLEAN = clear(f"{_HEAD}Subject: Twelve glazes, a fifth off{_BODY}")
_NO_HEADERS = clear("<p>HTML that came without any headers</p>")


def _at(message: Message) -> Place:
    return Place.in_header(message, "Subject", message.header("Subject"))


def _masked(message: Message) -> str:
    """The subject with a letter of no alphabet for each character of a field."""
    return opaque(message.subject, message.syntax)


@reason(
    id="subject-missing",
    name="No subject",
    group="subject",
    weight=3.5,
    by_hand=True,
    why="Hardly any honest mail goes out without one, and many filters weigh it heavily.",
    fix="Write a subject.",
    samples=[
        _CLEAN,
        _NO_HEADERS,
        clear(f"{_HEAD}Subject: {{{{ subject }}}}{_BODY}"),
        finds(f"{_HEAD}{_BODY}"),
        finds(f"{_HEAD}Subject:  {_BODY}"),
    ],
)
def subject_missing(message: Message, context: Context) -> Evidence | None:
    """No subject, or only white space in it."""
    if not message.envelope_known or message.subject.strip():
        return None
    return Evidence("the subject is missing or empty", _at(message))


@reason(
    id="subject-shouting",
    name="Subject in capitals",
    group="subject",
    weight=1.2,
    why="Capitals are how unwanted mail raises its voice.",
    fix="Write the subject as a sentence.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}Subject: NEW: wheels{_BODY}"),
        clear(f"{_HEAD}Subject: *|OFFER_OF_THE_MONTH|*{_BODY}"),
        finds(f"{_HEAD}Subject: TWELVE GLAZES A FIFTH OFF{_BODY}"),
    ],
)
def subject_shouting(message: Message, context: Context) -> Evidence | None:
    """Over half of eight or more letters are capitals."""
    letters = [char for char in _masked(message) if char.isalpha()]
    capitals = sum(char.isupper() for char in letters)
    if len(letters) < 8 or capitals * 2 <= len(letters):
        return None
    return Evidence(f"{capitals} of {len(letters)} letters are capitals", _at(message))


_MARKS = re.compile(r"[!?！？]{2,}|(?:![^!]{0,200}){3,}|\$\$+|\*\*\*+")


@reason(
    id="subject-marks",
    name="Rows of marks in the subject",
    group="subject",
    weight=0.8,
    why="Rows of exclamation marks, question marks or currency signs are seldom in wanted mail.",
    fix="Leave one mark, or none.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}Subject: Ready? Come on Monday!{_BODY}"),
        finds(f"{_HEAD}Subject: Glazes!!{_BODY}"),
        finds(f"{_HEAD}Subject: Save $$$ now{_BODY}"),
    ],
)
def subject_marks(message: Message, context: Context) -> Evidence | None:
    """Two marks in a row, or three exclamation marks."""
    match = _MARKS.search(_masked(message))
    return Evidence(f"“{match[0][:30]}”", _at(message)) if match else None


@reason(
    id="subject-false-reply",
    name="Subject of a reply that is none",
    group="subject",
    weight=1.8,
    by_hand=True,
    why="It pretends to answer something that was never asked.",
    fix="Take “Re:” or “Fwd:” away.",
    samples=[_CLEAN, clear(f"{_HEAD}In-Reply-To: <a@kiln.org>\nSubject: Re: glazes{_BODY}"), finds(f"{_HEAD}Subject: Re: glazes{_BODY}")],
)
def subject_false_reply(message: Message, context: Context) -> Evidence | None:
    """Begins like a reply, in a message that answers none."""
    return found_by("envelope.subject-false-reply", message, context)


_MONEY = re.compile(
    r"(?:[$€£]|\b(?:USD|EUR|GBP)\s?)\d{1,3}(?:[,.]\d{3})+|(?:[$€£])\d{4,}|\b\d+(?:[.,]\d+)?\s?(?:million|billion)\b|\b(?:[89]\d|100)\s?%\s+(?:off|free|savings?|discount)\b",
    re.IGNORECASE,
)


@reason(
    id="subject-money",
    name="Large sums in the subject",
    group="subject",
    weight=0.8,
    why="Large sums and almost all of the price taken off are promised by those who do not keep it.",
    fix="Say what is offered, and leave the sum to the copy.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}Subject: Save 20% on 12 glazes from $9{_BODY}"),
        finds(f"{_HEAD}Subject: Earn $5,000 at home{_BODY}"),
        finds(f"{_HEAD}Subject: 90% off all kilns{_BODY}"),
    ],
)
def subject_money(message: Message, context: Context) -> Evidence | None:
    """An amount of a thousand and more, millions, or 80 % and more taken off."""
    match = _MONEY.search(_masked(message))
    return Evidence(f"“{match[0]}”", _at(message)) if match else None


_PADDED = re.compile(r"\S(?P<gap>[ \t\u00a0]{6,})(?P<tail>\S{2,40})\s*\Z")


@reason(
    id="subject-padding",
    name="Gap and code at the end of the subject",
    group="subject",
    weight=1.6,
    why="A code behind a row of blanks makes each copy differ, so that filters do not know it again.",
    fix="Take the blanks and what follows them away.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}Subject: Twelve glazes  (kiln 4){_BODY}"),
        finds(f"{_HEAD}Subject: Twelve glazes a fifth off             kq7xw{_BODY}"),
    ],
)
def subject_padding(message: Message, context: Context) -> Evidence | None:
    """Six and more blanks with something behind them."""
    match = _PADDED.search(_masked(message))
    return Evidence(f"{len(match['gap'])} blanks, then “{match['tail']}”", _at(message)) if match else None


@reason(
    id="subject-emoji-many",
    name="Many emoji in the subject",
    group="subject",
    weight=0.4,
    by_hand=True,
    why="Rows of pictures in the subject are a habit of mail that wants to be seen at any price.",
    fix="Leave one or two.",
    samples=[_CLEAN, clear(f"{_HEAD}Subject: New glazes 🎨🔥{_BODY}"), finds(f"{_HEAD}Subject: 🔥🔥 Glazes 🎨🎉{_BODY}")],
)
def subject_emoji_many(message: Message, context: Context) -> Evidence | None:
    """More than three emoji."""
    found = emoji(message.subject)
    return Evidence(f"{len(found)}: {' '.join(found[:8])}", _at(message)) if len(found) > 3 else None


@reason(
    id="subject-long",
    name="Very long subject",
    group="subject",
    weight=0.3,
    by_hand=True,
    why="A subject that holds the whole message is one that hopes not to be opened.",
    fix="Say it in sixty characters.",
    samples=[_CLEAN, finds(f"{_HEAD}Subject: {'Twelve glazes at a fifth off until Sunday at the quay and ' * 3}more{_BODY}")],
)
def subject_long(message: Message, context: Context) -> Evidence | None:
    """More than 120 characters, fields as they are written left out."""
    length = graphemes(message.subject)
    if length <= 120 or message.holds_field(message.subject):
        return None
    return Evidence(f"{length} characters", _at(message))


@reason(
    id="subject-disguised",
    name="Disguised words in the subject",
    group="subject",
    weight=1.8,
    by_hand=True,
    why="Who parts or swaps letters hides words from filters.",
    fix="Write the words as they are spelt.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}Subject: A B C of glazes, part 2{_BODY}"),
        clear(f"{_HEAD}Subject: Kiln K2 and wheel B12 are back, 3D pots{_BODY}"),
        finds(f"{_HEAD}Subject: F R E E  K I L N{_BODY}"),
        finds(f"{_HEAD}Subject: M0ney f0r n0thing{_BODY}"),
        finds(f"{_HEAD}Subject: C@sh today{_BODY}"),
    ],
)
def subject_disguised(message: Message, context: Context) -> Evidence | None:
    """Words with blanks between all letters, or with figures and signs in the place of letters."""
    found = disguised(_masked(message))
    return Evidence(f"“{found[0]}”", _at(message), times=min(len(found), 2)) if found else None


_MAIL_ADDRESS = re.compile(r"[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63}){1,5}")


@reason(
    id="subject-address",
    name="Mail address in the subject",
    group="subject",
    weight=1.0,
    why="The reader’s own address in the subject makes a message that knows nobody look personal.",
    fix="Take the address away.",
    samples=[_CLEAN, clear(f"{_HEAD}Subject: Kiln @ the quay{_BODY}"), finds(f"{_HEAD}Subject: maeve@kiln.org, you have post{_BODY}")],
)
def subject_address(message: Message, context: Context) -> Evidence | None:
    """A mail address stands in the subject."""
    match = _MAIL_ADDRESS.search(_masked(message))
    return Evidence(f"“{match[0]}”", _at(message)) if match else None


@reason(
    id="subject-promises",
    name="Promises and pressure in the subject",
    group="subject",
    weight=0.9,
    why="These turns of phrase are met in unwanted mail far more often than in wanted mail.",
    fix="Say in plain words what the reader gets.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}Subject: Free testers with every order until Sunday{_BODY}"),
        finds(f"{_HEAD}Subject: Congratulations! Claim your prize{_BODY}"),
    ],
)
def subject_promises(message: Message, context: Context) -> Evidence | None:
    """A turn of phrase of pressure, winning, earning, loans or health."""
    found = [
        phrase
        for key in ("pressure", "winnings", "earning", "loans", "health", "transfers", "threats")
        for phrase in told(key, _masked(message))
    ]
    return (
        Evidence("; ".join(f"“{phrase}”" for phrase in found[:3]), _at(message), times=min(1 + 0.5 * (len(found) - 1), 2))
        if found
        else None
    )
