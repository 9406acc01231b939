"""Short mails that Jetwind writes itself: beside a test copy with the link by which its recipient answers, and about what waits for a person."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime

from jetwind.core.message.write import one_line


@dataclass(frozen=True, slots=True)
class MailHead:
    """From whom a mail goes to whom, with which Message-ID, and when."""

    to: str
    sender_address: str
    message_id: str
    date: datetime


def machine_mail(head: MailHead, subject: str) -> EmailMessage:
    """A mail without a body yet, marked as written by a machine (RFC 3834 §5).

    Raises:
        ValueError: an address or the Message-ID holds a line break.
    """
    mail = EmailMessage(policy=SMTP)
    mail["Subject"] = one_line(subject)
    mail["From"], mail["To"], mail["Date"], mail["Message-ID"] = head.sender_address, head.to, format_datetime(head.date), head.message_id
    mail["Auto-Submitted"] = "auto-generated"
    return mail


def put_text(mail: EmailMessage, lines: Iterable[str]) -> None:
    """Give a mail a body of plain text. What cannot be printed is left blank."""
    shown = ("".join(char if char.isprintable() else " " for char in line) for text in lines for line in text.split("\n"))
    mail.set_content("\n".join(shown) + "\n", charset="utf-8", cte="quoted-printable")


@dataclass(frozen=True, slots=True)
class Waiting:
    """A thing that waits for a person: its kind in words, the message that it belongs to, what is said, and the address of its page."""

    kind: str
    title: str
    words: str
    address: str


def compose_waiting(head: MailHead, person: str, waiting: Sequence[Waiting]) -> bytes:
    """A mail that tells a person what waits at Jetwind.

    Raises:
        ValueError: an address or the Message-ID holds a line break.
    """
    first = waiting[0]
    mail = machine_mail(head, f"{first.kind}: {first.title}" if len(waiting) == 1 else f"{len(waiting)} things wait for you at Jetwind")
    lines = [f"Hello {person},", ""]
    for one in waiting:
        lines += [f"{one.kind}: {' '.join(one.title.split())}", *(f"  {line}" for line in one.words.splitlines()), f"  {one.address}", ""]
    put_text(mail, [*lines, "Your own page at Jetwind says how often you get such mail."])
    return mail.as_bytes()


@dataclass(frozen=True, slots=True)
class Note:
    """What a note says: to whom, about which message, from whom, with which link, and until when the link works."""

    person: str
    title: str
    asked_by: str
    link: str
    works_until: str
    is_reminder: bool = False


def compose_note(note: Note, *, to: str, sender_address: str, message_id: str, date: datetime) -> bytes:
    """A note as SMTP carries it: plain text, marked as written by a machine (RFC 3834 §5).

    Raises:
        ValueError: an address or the Message-ID holds a line break.
    """
    mail = machine_mail(
        MailHead(to, sender_address, message_id, date),
        f"{'Still open: how' if note.is_reminder else 'How'} does “{note.title}” look to you?",
    )
    began = f"{note.asked_by} sent you a test of “{note.title}”" + (", and has no answer of yours yet." if note.is_reminder else ".")
    words = (
        f"Hello {note.person},",
        f"{began} Look at the test on the device on which you read mail, then say here how it looks:",
        note.link,
        f"The link is yours alone. It works until {note.works_until}.",
    )
    put_text(mail, ["\n\n".join(" ".join(one.split()) for one in words)])
    return mail.as_bytes()
