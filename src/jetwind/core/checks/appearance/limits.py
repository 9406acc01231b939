"""A message that goes beyond the limits of what is looked at is told of, so that silence about the rest is not taken for clear."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.links import has_more_links
from jetwind.core.message import Message
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import LIMITS, Reached

_HEAD = "From: a@kiln.org\nSubject: x\n"


@check(
    id="appearance.limits",
    name="Too large to be looked at whole",
    level=Level.FIX,
    why="What stands beyond the limit has not been checked, and no reader scrolls so far.",
    fix="Make the message smaller, or split it.",
    basis="House: the limits of what is looked at (core/source/limits.py)",
    samples=[
        clear("<p>Twelve glazes</p>"),
        clear("<style>p { color: red }</style><table><tr><td>x</td></tr></table>"),
        clear(f"{_HEAD}\nTwelve glazes\n"),
        clear("<br>" * 19_000),
        finds("<br>" * 21_000),
        finds(f"<p>{'word ' * 3_000}</p>"),
        finds(f"{_HEAD}\n{'word ' * 110_000}\n"),
        finds(f"{_HEAD}X-Long: {'a' * 70_000}\n\nx\n"),
    ],
)
def find_limits(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Everything in the message lies within the limits of what is looked at."""
    reached = list(_reached(message))
    if reached:
        said = ", ".join(f"{one.limit:,} {one.what}" for one in reached)
        yield Hit("Only the first {said} were looked at.", Place("message"), {"said": said}, identity="limits")


def _reached(message: Message) -> Iterator[Reached]:
    if message.document is not None:
        yield from message.document.limits
        if any(passage.is_cut for passage in reading_of(message).passages):
            yield Reached("characters of a passage", LIMITS.passage_characters)
        elif sum(len(passage.text) for passage in reading_of(message).passages) > LIMITS.copy_characters:
            yield Reached("characters of copy", LIMITS.copy_characters)
    if message.text is not None and len(message.text.text) > LIMITS.text_characters:
        yield Reached("characters of plain text", LIMITS.text_characters)
    elif any(len(copy.written) >= LIMITS.passage_characters for copy in copies.plain_text(message)):
        yield Reached("characters of a paragraph of the plain text", LIMITS.passage_characters)
    if has_more_links(message):
        yield Reached("links", LIMITS.links)
    if any(len(header.octets) > LIMITS.header_octets for header in message.headers):
        yield Reached("octets of a header", LIMITS.header_octets)
