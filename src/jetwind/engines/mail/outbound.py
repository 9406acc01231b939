"""Handing a message over to a mail server, one recipient a transaction."""

from __future__ import annotations

import smtplib
from dataclasses import dataclass
from email.errors import HeaderParseError


@dataclass(frozen=True, slots=True)
class MailServer:
    """Where test sends are handed over. ``timeout`` in seconds."""

    host: str
    port: int
    timeout: float = 15.0


@dataclass(frozen=True, slots=True)
class Handover:
    """What the server answered: taken or not, and its words or the reason it could not be reached."""

    taken: bool
    answer: str


def hand_over(server: MailServer, sender: str, recipient: str, content: bytes) -> Handover:
    """Send one message to one recipient. Never raises for what a network or a server does.

    Raises:
        ValueError: an address holds a line break or more than one address.
    """
    for address in (sender, recipient):
        if any(char in address for char in "\r\n,;<> ") or address.count("@") != 1:
            raise ValueError(f"not a single address: {address!r}")
    try:
        with smtplib.SMTP(server.host, server.port, timeout=server.timeout) as connection:
            connection.ehlo_or_helo_if_needed()
            words: bytes | str
            code, words = connection.mail(sender)
            if code == 250:
                code, words = connection.rcpt(recipient)
            if code in (250, 251):
                code, words = connection.data(content)
            return Handover(code == 250, f"{code} {words.decode('utf-8', 'replace')}")
    except smtplib.SMTPResponseException as refused:
        return Handover(False, f"{refused.smtp_code} {_text(refused.smtp_error)}")
    except (OSError, smtplib.SMTPException, HeaderParseError) as failure:
        return Handover(False, f"The mail server {server.host}:{server.port} could not be used: {failure}")


def _text(words: bytes | str) -> str:
    return words.decode("utf-8", "replace") if isinstance(words, bytes) else words
