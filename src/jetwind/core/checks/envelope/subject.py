"""The subject is there and short enough to be read in an inbox row."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import regex

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.fields import fill
from jetwind.core.message import Envelope, Message, Sample

_HEAD = "From: Kiln <hello@kiln.example>\n"
_BODY = "\n\nHello from the kiln.\n"


def graphemes(text: str) -> int:
    """User-perceived characters: an emoji family or a letter with its accents is one (Unicode UAX #29)."""
    return len(regex.findall(r"\X", text))


@check(
    id="envelope.subject-missing",
    name="No subject",
    level=Level.STOP,
    why="A message without a subject looks like an accident, is rarely opened, and is weighed as spam.",
    fix="Write the subject.",
    basis="Common practice, no published source",
    samples=[
        clear(f"{_HEAD}Subject: Spring glaze sale{_BODY}"),
        clear(f"{_HEAD}Subject: =?utf-8?q?Fr=C3=BChling?={_BODY}"),
        clear(f"{_HEAD}Subject: {{{{ offer_title }}}}{_BODY}"),
        clear("<p>HTML without any headers</p>"),
        finds(f"{_HEAD}To: reader@kiln.example{_BODY}"),
        finds(f"{_HEAD}Subject:   {_BODY}"),
        finds(f"{_HEAD}Subject: =?utf-8?q?_=C2=A0?={_BODY}"),
        finds("<p>Hello</p>", envelope=Envelope(sender_address="hello@kiln.example")),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The message has a subject that is more than white space."""
    _need_headers(message)
    header = message.header("Subject")
    if header is None:
        yield Hit("The message has no subject.", Place.in_header(message, "Subject"), identity="missing")
    elif not header.value.strip():
        yield Hit("The subject is empty.", Place.in_header(message, "Subject", header), identity="empty")


@dataclass(frozen=True)
class LengthOptions(Options):
    """``most_characters``: the longest subject that passes, in characters as a reader counts them."""

    most_characters: int = 60


@check(
    id="envelope.subject-long",
    name="Subject too long for the inbox row",
    level=Level.FIX,
    why="Inbox rows cut a long subject; the reader decides on its first half.",
    fix="Shorten the subject, with what matters most in its first 40 characters.",
    basis="Common practice, no published source",
    options=LengthOptions,
    samples=[
        clear(f"{_HEAD}Subject: {'a' * 60}{_BODY}"),
        clear(f"{_HEAD}Subject: {'👩‍👩‍👧' * 30}{_BODY}"),
        clear(f'{_HEAD}Subject: Your firing slot, {{{{ first_name | default: "dear potter" | upcase }}}}, is waiting{_BODY}'),
        finds(f"{_HEAD}Subject: {'a' * 61}{_BODY}"),
        finds(
            f"{_HEAD}Subject: {{{{ first_name }}}}, {'a' * 50}{_BODY}",
            readers=(Sample("Al", {"first_name": "Al"}), Sample("Long", {"first_name": "Maximiliana"})),
        ),
    ],
)
def find_long(message: Message, context: Context, options: LengthOptions) -> Iterator[Hit]:
    """Merged for the reader with the longest values, the subject has at most 60 characters."""
    _need_headers(message)
    header = message.header("Subject")
    if header is None:
        return
    readers = context.readers or (Sample("", {}),)
    merged = [(fill(header.value, reader.values, escape=False, syntax=message.syntax).strip(), reader) for reader in readers]
    longest, reader = max(merged, key=lambda pair: graphemes(pair[0]))
    length = graphemes(longest)
    if length > options.most_characters:
        whose = f" for {reader.name}" if reader.name and longest != header.value.strip() else ""
        yield Hit(
            "The subject has {length} characters{whose}; the limit is {limit}.",
            Place.in_header(message, "Subject", header),
            {"length": length, "limit": options.most_characters, "whose": whose, "merged": longest},
            identity=header.value,
        )


def _need_headers(message: Message) -> None:
    if not message.envelope_known:
        raise CannotTell("the input has no headers")
