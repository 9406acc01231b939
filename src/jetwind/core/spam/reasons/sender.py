"""Reasons in who sends it."""

from __future__ import annotations

import re

from jetwind.core.checking import Context, Place, clear, finds
from jetwind.core.message import Message
from jetwind.core.spam.declaring import Evidence, found_by, reason
from jetwind.core.spam.phrases import told

_SUBJECT = "Subject: Twelve glazes\n\nThe big kiln is fired on Monday.\n"
_CLEAN = clear(f"From: Kiln Works <hello@kiln.org>\n{_SUBJECT}")
_ADDRESS = re.compile(r"[\w.+-]{1,64}@(?P<host>[\w-]{1,63}(?:\.[\w-]{1,63}){1,5})")


def _at(message: Message, name: str = "From") -> Place:
    return Place.in_header(message, name, message.header(name))


@reason(
    id="sender-missing",
    name="No sender",
    group="sender",
    weight=1.5,
    by_hand=True,
    why="Servers refuse or put aside what nobody signs.",
    fix="Give the message a From address.",
    samples=[_CLEAN, clear("<p>HTML that came without any headers</p>"), clear(f"From: {{{{ sender }}}}\n{_SUBJECT}"), finds(_SUBJECT)],
)
def sender_missing(message: Message, context: Context) -> Evidence | None:
    """From is missing or holds no mailbox."""
    return found_by("envelope.sender-missing", message, context)


@reason(
    id="sender-name-missing",
    name="No name beside the sender’s address",
    group="sender",
    weight=0.3,
    why="Most organisations send under their name; machines that send to millions often do not.",
    fix="Put the organisation’s name before the address.",
    samples=[_CLEAN, finds(f"From: hello@kiln.org\n{_SUBJECT}")],
)
def sender_name_missing(message: Message, context: Context) -> Evidence | None:
    """From holds a bare address."""
    return found_by("envelope.sender-name-missing", message, context)


@reason(
    id="sender-name-address",
    name="Another address in the sender’s name",
    group="sender",
    weight=1.2,
    by_hand=True,
    why="The inbox shows the name alone, so the message seems to come from somebody else.",
    fix="Write the organisation’s name where its name belongs.",
    samples=[
        _CLEAN,
        clear(f'From: "hello@kiln.org" <hello@kiln.org>\n{_SUBJECT}'),
        clear(f'From: "Maeve via pots@kiln.org" <news@mail.kiln.org>\n{_SUBJECT}'),
        finds(f'From: "service@bank.org" <x7@other-host.net>\n{_SUBJECT}'),
    ],
)
def sender_name_address(message: Message, context: Context) -> Evidence | None:
    """The display name holds a mail address of another domain than the sender's own."""
    for box in message.mailboxes("From"):
        shown = _ADDRESS.search(box.name)
        own = box.address.rpartition("@")[2].lower()
        if shown and own and not own.endswith(shown["host"].lower()) and not shown["host"].lower().endswith(own):
            return Evidence(f"the name says {shown[0]}, the address is {box.address}", _at(message))
    return None


@reason(
    id="sender-name-loud",
    name="Sender’s name that advertises",
    group="sender",
    weight=0.8,
    why="A name is who sends it; offers and marks in its place are a habit of unwanted mail.",
    fix="Write the organisation’s name, and nothing else.",
    samples=[
        _CLEAN,
        clear(f'From: "KILN WORKS" <hello@kiln.org>\n{_SUBJECT}'),
        finds(f'From: "FREE kilns!!!" <hello@kiln.org>\n{_SUBJECT}'),
        finds(f'From: "Act now" <hello@kiln.org>\n{_SUBJECT}'),
    ],
)
def sender_name_loud(message: Message, context: Context) -> Evidence | None:
    """The display name holds rows of marks, currency signs or a turn of phrase of pressure."""
    for box in message.mailboxes("From"):
        if re.search(r"[!?]{2}|[$€£]", box.name) or any(
            told(key, box.name) for key in ("pressure", "winnings", "earning", "loans", "health")
        ):
            return Evidence(f"“{box.name[:40]}”", _at(message))
    return None


_DRAWN = re.compile(r"(?=(?:[a-z._-]*\d){4})(?=(?:[\d._-]*[a-z]){2})[a-z\d._-]+\Z", re.IGNORECASE)


@reason(
    id="sender-digits",
    name="Sender’s address that looks drawn by lot",
    group="sender",
    weight=0.9,
    why="Addresses with many figures are made by the thousand and thrown away.",
    fix="Send from an address with a word in it.",
    samples=[
        _CLEAN,
        clear(f"From: Kiln <spring2027@kiln.org>\n{_SUBJECT}"),
        clear(f"From: Kiln <kiln365@kiln.org>\n{_SUBJECT}"),
        finds(f"From: Kiln <jx83k4410@kiln.org>\n{_SUBJECT}"),
    ],
)
def sender_digits(message: Message, context: Context) -> Evidence | None:
    """The part before the @ holds four figures and more beside letters, and no four-figure year."""
    for box in message.mailboxes("From"):
        local = re.sub(r"(?<!\d)(?:19|20)\d\d(?!\d)", "", box.address.rpartition("@")[0])
        if _DRAWN.match(local[:64]) and not message.holds_field(box.address):
            return Evidence(box.address, _at(message))
    return None


@reason(
    id="reply-elsewhere",
    name="Replies go to another domain",
    group="sender",
    weight=0.4,
    by_hand=True,
    why="Senders who hide let answers go to a mailbox somewhere else.",
    fix="Let Reply-To be an address of the sender’s own domain.",
    samples=[
        _CLEAN,
        clear(f"From: a@kiln.org\nReply-To: help@mail.kiln.org\n{_SUBJECT}"),
        finds(f"From: a@kiln.org\nReply-To: x@elsewhere.net\n{_SUBJECT}"),
    ],
)
def reply_elsewhere(message: Message, context: Context) -> Evidence | None:
    """Reply-To belongs to another organisation than From."""
    return found_by("envelope.reply-domain", message, context)


@reason(
    id="sender-invisible",
    name="Invisible characters in subject or sender",
    group="sender",
    weight=1.5,
    by_hand=True,
    why="They make a name look like another one, and part words so that filters do not know them.",
    fix="Type the text anew, without what cannot be seen.",
    samples=[_CLEAN, finds("From: Ki\u200bln <hello@kiln.org>\nSubject: Twelve gla\u200bzes\n\nThe big kiln is fired on Monday.\n")],
)
def sender_invisible(message: Message, context: Context) -> Evidence | None:
    """Control characters, changes of direction or invisible characters."""
    return found_by("envelope.header-control", message, context)
