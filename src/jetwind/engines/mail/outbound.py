"""Handing a message over to a mail server, one recipient a transaction."""

from __future__ import annotations

import smtplib
from dataclasses import dataclass
from email.errors import HeaderParseError
from enum import StrEnum


@dataclass(frozen=True, slots=True)
class MailServer:
    """Where test sends are handed over. ``timeout`` in seconds."""

    host: str
    port: int
    timeout: float = 15.0


class HandoverOutcome(StrEnum):
    """The outcome of a hand-over (RFC 5321 §4.2.1: replies of 2yz, 5yz and 4yz; §4.5.4.1: connections that fail)."""

    TAKEN = "taken"
    REFUSED = "refused"
    #: A temporary refusal.
    PUT_OFF = "put off"
    #: No connection, or one that was lost before the message had been handed over whole.
    LOST = "lost"
    #: The connection was lost once the message was on its way: it may have been taken.
    UNSURE = "unsure"


@dataclass(frozen=True, slots=True)
class Handover:
    """The answer of the server, in its words, or why it could not be reached."""

    outcome: HandoverOutcome
    answer: str


def hand_over(server: MailServer, sender: str, recipient: str, content: bytes) -> Handover:
    """Send one message to one recipient. Never raises for what a network or a server does.

    Raises:
        ValueError: an address holds a line break or more than one address.
    """
    for address in (sender, recipient):
        if any(char in address for char in "\r\n,;<> ") or address.count("@") != 1:
            raise ValueError(f"not a single address: {address!r}")
    failed = HandoverOutcome.LOST
    try:
        with smtplib.SMTP(server.host, server.port, timeout=server.timeout) as connection:
            connection.ehlo_or_helo_if_needed()
            words: bytes | str
            code, words = connection.mail(sender)
            if code == 250:
                code, words = connection.rcpt(recipient)
            if code in (250, 251):
                # From here on the server may have the message, whatever becomes of the connection.
                failed = HandoverOutcome.UNSURE
                code, words = connection.data(content)
            return _answered(code, words)
    except smtplib.SMTPResponseException as refused:
        return _answered(refused.smtp_code, refused.smtp_error)
    except (OSError, smtplib.SMTPException, HeaderParseError) as failure:
        return Handover(failed, f"The mail server {server.host}:{server.port} could not be used: {failure}")


def _answered(code: int, words: bytes | str) -> Handover:
    said = f"{code} {_text(words)}"
    if code == 250:
        return Handover(HandoverOutcome.TAKEN, said)
    return Handover(HandoverOutcome.PUT_OFF if 400 <= code < 500 else HandoverOutcome.REFUSED, said)


def _text(words: bytes | str) -> str:
    return words.decode("utf-8", "replace") if isinstance(words, bytes) else words
