"""Emoji are few, and old enough for the readers' devices."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache, partial
from typing import Annotated

import regex

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.copy import Copy, preview, subjects
from jetwind.core.checking.options import About
from jetwind.core.checks.needs import need_headers
from jetwind.core.facts import table
from jetwind.core.facts.tables import Emoji
from jetwind.core.fields import opaque
from jetwind.core.message import Envelope, Header, Message

_ADDRESS = "a@kiln.example"
#: UTS #51 ED-17: shown as a picture by itself, or made so by a variation selector; flags and keycaps too.
_EMOJI = regex.compile(r"\p{Emoji_Presentation}|\p{Extended_Pictographic}\ufe0f|[0-9#*]\ufe0f?\u20e3|[\U0001f1e6-\U0001f1ff]{2}")


def emoji(text: str) -> list[str]:
    """The emoji of a text, each a grapheme cluster: a joined family is one (Unicode UAX #29, UTS #51)."""
    return [cluster for cluster in regex.findall(r"\X", text) if _EMOJI.search(cluster)]


@lru_cache(maxsize=1)
def _ages() -> dict[str, tuple[str, int]]:
    return {sequence: (group["version"], group["year"]) for group in table("emoji", Emoji)["added"] for sequence in group["sequences"]}


@dataclass(frozen=True)
class ManyOptions(Options):
    """The options that a house may set."""

    most_emoji: Annotated[int, About("how many a subject may hold", unit="emoji")] = 2


@check(
    id="envelope.subject-emoji-many",
    name="Many emoji in the subject",
    level=Level.FIX,
    why="Rows of emoji read as shouting, are read aloud one by one, and push the words out of sight.",
    fix="Keep one or two that help to understand the subject.",
    basis="Common practice, no published source; Unicode UTS #51",
    options=ManyOptions,
    samples=[
        clear("<p>x</p>", envelope=Envelope(subject="👩‍👩‍👧 Pots for the family 🏺", sender_address=_ADDRESS)),
        clear("<p>x</p>", envelope=Envelope(subject="Kiln™ © ® 100 % 1 2 3 # *", sender_address=_ADDRESS)),
        clear("<p>x</p>", envelope=Envelope(subject="🇬🇧 👍🏽 Two only", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="🏺🔥🎁 Spring sale", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="One", subject_variants=("1️⃣2️⃣3️⃣ go",), sender_address=_ADDRESS)),
    ],
)
def find_many(message: Message, context: Context, options: ManyOptions) -> Iterator[Hit]:
    """A subject holds at most two emoji."""
    need_headers(message)
    for copy in subjects(message):
        found = emoji(copy.text)
        if len(found) > options.most_emoji:
            yield Hit(
                "The subject holds {count} emoji: {emoji}",
                copy.place(0, len(copy.text)),
                {"count": len(found), "emoji": " ".join(found[:12]), "limit": options.most_emoji},
                identity=copy.written,
            )


@check(
    id="envelope.emoji-new",
    name="Emoji newer than many devices",
    level=Level.FIX,
    why="Devices that have not been renewed for some years show an empty box in the inbox row.",
    fix="Take an older emoji, or a word.",
    basis="Unicode emoji data (data file of the package emoji 2.16.0, checked against Unicode 15.0 emoji-test.txt)",
    samples=[
        clear("<p>x</p>", envelope=Envelope(subject="🏺 👩🏽‍🎨 ❤️‍🔥 Spring", sender_address=_ADDRESS)),  # the last: Emoji 13.1
        clear("<p>A new face in the copy itself: 🫠</p>", envelope=Envelope(subject="x", sender_address=_ADDRESS)),
        clear("<p>x</p>", envelope=Envelope(subject="{{ emoji }} Spring", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="🫠 Melting prices", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="x", sender_name="Kiln 🪿", sender_address=_ADDRESS)),
        finds("<body><div style='display:none'>Nod 🙂‍↕️ to spring</div><p>y</p></body>", at="🙂‍↕️"),
        finds("<p>x</p>", envelope=Envelope(subject="🫱🏻‍🫲🏾 Together", sender_address=_ADDRESS)),
    ],
)
def find_new(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Emoji of subject, preview text and sender name were there in Emoji 13.1."""
    copies = [*subjects(message), *preview(message)]
    for header in message.header_fields("From"):
        copies.append(Copy(opaque(header.value, message.syntax), "From", partial(_place, message, header), header.value))
    ages = _ages()
    for copy in copies:
        if copy.text.isascii():
            continue
        text = copy.text
        for match in regex.finditer(r"\X", text):
            plain = match[0].replace("\ufe0f", "")
            if plain in ages:
                version, year = ages[plain]
                yield Hit(
                    "{emoji} came with Emoji {version} in {year}; older devices show a box instead.",
                    copy.place(match.start(), match.end()),
                    {"emoji": match[0], "version": version, "year": str(year), "where": copy.where},
                    identity=plain,
                )


def _place(message: Message, header: Header, start: int, end: int) -> Place:
    return Place.in_header(message, "From", header)
