"""Readers without HTML get the message too."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.message import Envelope, Message

_BOTH = (
    "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary=b\n\n--b\nContent-Type: text/plain\n\n"
    "{}\n--b\nContent-Type: text/html\n\n<p>Hello</p>\n--b--\n"
)


@check(
    id="text.missing",
    name="No plain-text part",
    level=Level.FIX,
    why="Watches, readers for the blind and cautious mail programs show nothing, and filters hold it against you.",
    fix="Add a plain-text part that says the same as the HTML.",
    basis="RFC 2046 §5.1.4 (from memory)",
    samples=[
        clear(_BOTH.format("Hello")),
        clear("From: a@kiln.org\nSubject: x\n\nHello\n"),
        clear("<p>HTML alone has no parts</p>"),
        finds("From: a@kiln.org\nSubject: x\nContent-Type: text/html\n\n<p>Hello</p>\n"),
        finds(_BOTH.format(" ")),
        finds("<p>Hello</p>", envelope=Envelope(subject="x", sender_address="a@kiln.org")),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A message with HTML has a plain-text alternative that is not empty."""
    if message.html is None:
        raise DoesNotApply("the message has no HTML part")
    if not message.envelope_known and message.text is None:
        raise CannotTell("HTML that came alone cannot carry a plain-text part")
    if message.text is None:
        yield Hit("The message has HTML but no plain-text part.", Place("message"), identity="missing")
    elif not message.text.text.strip():
        yield Hit("The plain-text part is empty.", Place("text"), identity="empty")
