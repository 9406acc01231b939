"""The subject is there and short enough to be read in an inbox row."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated

import regex

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.copy import subjects
from jetwind.core.checking.options import About
from jetwind.core.checks.needs import need_headers
from jetwind.core.fields import fill
from jetwind.core.message import Envelope, Message, Sample
from jetwind.core.prose.passages import collapse

_HEAD = "From: Kiln <hello@kiln.example>\n"
_BODY = "\n\nHello from the kiln.\n"

_MARKS = re.compile(r"[!?！？]{2,}")
#: Marks of answers and forwarded mail in the languages of mail programs (common practice, no published source).
REPLY = re.compile(
    r"\s*(?:\[[^\]]{1,40}\]\s*)?(?P<mark>(?:re|fw|fwd|aw|wg|antw|sv|vs|vb|rv|tr|enc|res|odp|ynt|ilt|rif|doorst)(?:\s?[\[(]\d+[\])])?\s?[:：])(?=\s|(?-i:[A-Z])|$)",
    re.IGNORECASE,
)


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
        finds("<p>Hello</p>", envelope=Envelope(subject="x", subject_variants=(" ",), sender_address="hello@kiln.example")),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The message has a subject that is more than white space, and so has every variant."""
    need_headers(message)
    if message.header("Subject") is None:
        yield Hit("The message has no subject.", Place.in_header(message, "Subject"), identity="missing")
    for number, copy in enumerate(subjects(message), 1 if message.header("Subject") is None else 0):
        if not collapse(copy.written).strip():
            which = f"variant {number} of the subject" if number else "subject"
            yield Hit("The {which} is empty.", copy.place(0, 0), {"which": which}, identity=f"empty:{number}")


@dataclass(frozen=True)
class LengthOptions(Options):
    """The options that a house may set."""

    most_characters: Annotated[int, About("the longest subject that passes, as a reader counts", unit="characters")] = 60


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
    need_headers(message)
    for copy in subjects(message):
        longest, reader = max(merged(copy.written, message, context), key=lambda pair: graphemes(pair[0]))
        length = graphemes(longest)
        if length > options.most_characters:
            whose = reader.name if longest != copy.written.strip() else ""
            yield Hit(
                "The subject has {length} characters for {whose}; the limit is {limit}."
                if whose
                else "The subject has {length} characters; the limit is {limit}.",
                copy.place(0, len(copy.text)),
                {"length": length, "limit": options.most_characters, "whose": whose, "merged": longest},
                identity=copy.written,
            )


def merged(text: str, message: Message, context: Context) -> list[tuple[str, Sample]]:
    """A subject as each sample reader gets it, or once, as it stands, where there are none."""
    readers = context.readers or (Sample("", {}),)
    return [(fill(text, reader.values, escape=False, syntax=message.syntax).strip(), reader) for reader in readers]


@check(
    id="envelope.subject-shouting",
    name="Subject shouts",
    level=Level.FIX,
    why="Capitals and rows of marks read as shouting, and filters weigh them.",
    fix="Write it in ordinary letters with at most one mark.",
    basis="Common practice, no published source",
    samples=[
        clear(f"{_HEAD}Subject: Spring glaze sale!{_BODY}"),
        clear(f"{_HEAD}Subject: USA, UK{_BODY}"),  # under eight letters
        clear(f"{_HEAD}Subject: RAKU and NASA ceramics meet at the studio{_BODY}"),
        clear(f"{_HEAD}Subject: {{{{ FIRST_NAME }}}} {{{{ LAST_NAME }}}}, your slot{_BODY}"),
        clear("<p>x</p>", envelope=Envelope(subject="春の陶器市のお知らせ", sender_address="hello@kiln.example")),
        clear(f"{_HEAD}Subject: Ready? Steady! Glaze.{_BODY}"),
        finds(f"{_HEAD}Subject: SPRING GLAZE SALE{_BODY}", at="Subject: SPRING GLAZE SALE"),
        finds(f"{_HEAD}Subject: Spring glaze sale!!{_BODY}"),
        finds(f"{_HEAD}Subject: Ready for spring?!{_BODY}"),
        finds("<p>x</p>", envelope=Envelope(subject="Sale", subject_variants=("LAST CHANCE TODAY",), sender_address="hello@kiln.example")),
    ],
)
def find_shouting(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """At most half of eight or more letters are capitals, and marks of exclamation or question stand alone."""
    need_headers(message)
    for copy in subjects(message):
        text = copy.text
        letters = [char for char in text if char.lower() != char.upper()]
        capitals = sum(char.isupper() for char in letters)
        marks = _MARKS.search(text)
        if len(letters) >= 8 and capitals * 2 > len(letters):
            said = "{capitals} of the subject's {letters} letters are capitals."
        elif marks:
            said = "The subject has “{marks}” in a row."
        else:
            continue
        data = {"capitals": capitals, "letters": len(letters), "marks": marks[0] if marks else ""}
        yield Hit(said, copy.place(0, len(copy.text)), data, identity=copy.written)


@check(
    id="envelope.subject-false-reply",
    name="Pretends to be an answer or forwarded",
    level=Level.STOP,
    why="A subject that pretends a conversation deceives the reader, which the law forbids for commercial mail.",
    fix="Take the “Re:” or “Fwd:” away.",
    basis="15 U.S.C. 7704(a)(2) (from memory)",
    samples=[
        clear(f"{_HEAD}Subject: Re: your slot\nIn-Reply-To: <a@kiln.example>{_BODY}"),
        clear(f"{_HEAD}Subject: Fwd: pots\nReferences: <a@kiln.example>{_BODY}"),
        clear(f"{_HEAD}Subject: Reminder: your firing slot{_BODY}"),
        clear(f"{_HEAD}Subject: Re-glaze your bowls: a guide{_BODY}"),
        clear(f"{_HEAD}Subject: Trip to the coast: re: discover clay{_BODY}"),
        finds(f"{_HEAD}Subject: Re: your slot{_BODY}", at="Subject: Re: your slot"),
        finds(f"{_HEAD}Subject: RE: Spring sale{_BODY}"),
        finds(f"{_HEAD}Subject: FW:Spring sale{_BODY}"),
        finds(f"{_HEAD}Subject: Fwd[2]: Spring sale{_BODY}"),
        finds(f"{_HEAD}Subject: AW: Ihr Brenntermin{_BODY}"),
        finds("<p>x</p>", envelope=Envelope(subject="x", subject_variants=("Re: x",), sender_address="hello@kiln.example")),
    ],
)
def find_false_reply(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Only an answer, which names what it answers, starts with “Re:” or its like."""
    need_headers(message)
    if any(header.value.strip() for name in ("In-Reply-To", "References") for header in message.header_fields(name)):
        return
    for copy in subjects(message):
        if match := REPLY.match(copy.text):
            yield Hit(
                "The subject starts with “{start}”, but the message answers nothing.",
                copy.place(0, len(copy.text)),
                {"start": match["mark"]},
                identity=copy.written,
            )


@check(
    id="envelope.variant-duplicate",
    name="Two subject variants are the same",
    level=Level.FIX,
    why="A test between two equal subjects tells nothing.",
    fix="Change one of the two, or take it out.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>x</p>", envelope=Envelope(subject="Spring sale", subject_variants=("Sale of spring",), sender_address="a@kiln.example")),
        finds("<p>x</p>", envelope=Envelope(subject="Spring sale", subject_variants=("SPRING  sale",), sender_address="a@kiln.example")),
        finds("<p>x</p>", envelope=Envelope(subject="x", subject_variants=("One", "Two", "one "), sender_address="a@kiln.example")),
    ],
)
def find_duplicate_variant(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Subject and variants differ in more than case and spacing."""
    need_headers(message)
    seen: dict[str, int] = {}
    for number, copy in enumerate(subjects(message)):
        plain = " ".join(copy.written.split()).casefold()
        if plain and plain in seen:
            other = f"variant {seen[plain]}" if seen[plain] else "the subject"
            yield Hit(
                "Variant {number} is the same as {other}: {text}",
                copy.place(0, len(copy.text)),
                {"number": number, "other": other, "text": copy.written},
                identity=plain,
            )
        seen.setdefault(plain, number)
