"""The short mail beside a test copy, with the link by which its recipient answers."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime

from jetwind.core.message.write import one_line


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
    mail = EmailMessage(policy=SMTP)
    mail["Subject"] = one_line(f"{'Still open: how' if note.is_reminder else 'How'} does “{note.title}” look to you?")
    mail["From"], mail["To"], mail["Date"], mail["Message-ID"] = sender_address, to, format_datetime(date), message_id
    mail["Auto-Submitted"] = "auto-generated"
    began = f"{note.asked_by} sent you a test of “{note.title}”" + (", and has no answer of yours yet." if note.is_reminder else ".")
    words = (
        f"Hello {note.person},",
        f"{began} Look at the test on the device on which you read mail, then say here how it looks:",
        note.link,
        f"The link is yours alone. It works until {note.works_until}.",
    )
    mail.set_content("\n\n".join(" ".join(one.split()) for one in words) + "\n", charset="utf-8", cte="quoted-printable")
    return mail.as_bytes()
