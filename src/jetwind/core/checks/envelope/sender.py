"""The message says who sends it."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.message import Envelope, Message


@check(
    id="envelope.sender-missing",
    name="No sender address",
    level=Level.STOP,
    why="Without a From address the message cannot be sent, and nobody would know whom it is from.",
    fix="Enter the sender's name and address.",
    basis="RFC 5322 §3.6.2 (from memory)",
    samples=[
        clear("From: Kiln <hello@kiln.example>\nSubject: x\n\ny\n"),
        clear("From: hello@kiln.example\nSubject: x\n\ny\n"),
        clear("From: {{ sender_name }} <{{ sender_address }}>\nSubject: x\n\ny\n"),
        clear("<p>HTML without any headers</p>"),
        clear("<p>x</p>", envelope=Envelope(subject="x", sender_address="hello@kiln.example")),
        finds("Subject: x\n\ny\n"),
        finds("From: Kiln\nSubject: x\n\ny\n", at="From: Kiln"),
        finds("From: Kiln <>\nSubject: x\n\ny\n"),
        finds("<p>x</p>", envelope=Envelope(subject="x")),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """From names at least one mailbox."""
    if not message.envelope_known:
        raise CannotTell("the input has no headers")
    header = message.header("From")
    if header is None:
        yield Hit("The message has no From header.", Place.in_header(message, "From"), identity="missing")
        return
    if any(True for _ in message.syntax.tokens(header.value)):
        return
    if not any("@" in box.address for box in message.mailboxes("From")):
        yield Hit("From has no address: {value}", Place.in_header(message, "From", header), {"value": header.value or "empty"})
