"""What machines write about a copy after it was handed over: bounces (RFC 3464), complaints (RFC 5965) and answers by themselves (RFC 3834).

Only the first octets of a mail are read, since the report stands before the mail that it returns.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from email.message import Message as Fields
from email.parser import HeaderParser
from typing import Literal

from jetwind.core.arrivals.status import said_of, status_in
from jetwind.core.message.parts import MimePart, read_parts
from jetwind.core.message.words import decode_words

#: Octets of a mail that are read, groups of recipients in a bounce, identities that are followed, and characters that are quoted.
_READ, _GROUPS, _IDENTITIES, _QUOTED = 200_000, 100, 20, 300

ReportKind = Literal["bounced", "delayed", "complained", "answered"]

_STATUS_TYPES = frozenset({"message/delivery-status", "message/global-delivery-status"})
_RETURNED_TYPES = frozenset({"message/rfc822", "message/global", "text/rfc822-headers", "message/rfc822-headers", "message/global-headers"})
#: Reports of these types say that a reader, or a program in the reader's name, objects (RFC 5965 §7.3).
_OBJECTIONS = frozenset({"abuse", "fraud", "virus", "other"})
#: What became of one recipient (RFC 3464 §2.3.3), the worst first; mail that was delivered or passed on is no report here.
_ACTIONS: dict[str, ReportKind] = {"failed": "bounced", "delayed": "delayed"}
_IDENTITY = re.compile(r"<[^<>\s\x00-\x1f\x7f]{1,250}>")
_NOT_SHOWN = re.compile(r"[\x00-\x1f\x7f\s]+")


@dataclass(frozen=True, slots=True)
class Report:
    """One report: its kind, the Message-IDs that it may be about, the likeliest first, the status code, and its words.

    ``status`` is such as ``5.1.1``, and empty where none is given. ``words`` are the server's own, at most 300 characters.
    """

    kind: ReportKind
    message_ids: tuple[str, ...]
    status: str = ""
    words: str = ""

    @property
    def reason(self) -> str:
        """The status code in words; empty where there is none that is known."""
        return said_of(self.status)


def report_in(raw: bytes) -> Report | None:
    """The report that a mail is; None for any other mail, and for news of a mail that was delivered.

    Args:
        raw: a mail as octets.
    """
    mail = read_parts(raw[:_READ])
    if mail.content_type == "multipart/report":
        return _of_report(mail)
    automatic = re.match(r"[\w-]*", mail.field_body("Auto-Submitted"))
    if automatic is not None and automatic[0].lower() == "auto-replied" and (about := _identities(mail, "In-Reply-To", "References")):
        return Report("answered", about, words=_words(mail))
    return None


def _of_report(mail: MimePart) -> Report | None:
    about = tuple(_returned(mail))[:_IDENTITIES] + _identities(mail, "In-Reply-To", "References")
    for part in mail.leaves:
        if part.content_type in _STATUS_TYPES:
            return _bounce(part, about)
        if part.content_type == "message/feedback-report":
            fields = _fields(part.data.decode("utf-8", "replace"))
            kind = _value(fields, "Feedback-Type").lower()
            return Report("complained", about, words=f"Feedback-Type: {kind}") if kind in _OBJECTIONS else None
    return None


def _bounce(part: MimePart, about: tuple[str, ...]) -> Report | None:
    """The worst that became of a recipient. The first group of fields is about the whole mail (RFC 3464 §2.1)."""
    lines = part.data.replace(b"\r\n", b"\n").decode("utf-8", "replace")
    groups = [_fields(group) for group in re.split(r"\n[ \t]*\n", lines)[:_GROUPS]]
    for action, kind in _ACTIONS.items():
        for fields in groups:
            if _value(fields, "Action").partition(" ")[0].lower() == action:
                _, _, said = _value(fields, "Diagnostic-Code").rpartition(";")
                return Report(kind, about, status_in(_value(fields, "Status")) or status_in(said.strip()), said.strip()[:_QUOTED])
    return None


def _returned(mail: MimePart) -> Iterator[str]:
    """The Message-ID of the mail that a report returns, in whole or its header alone."""
    for part in mail.leaves:
        if part.content_type in _RETURNED_TYPES:
            # As far as its header goes: the mail itself may hold others.
            head = re.split(rb"\r?\n\r?\n", part.data.lstrip(b"\r\n"), maxsplit=1)[0]
            given = _value(_fields(head.decode("utf-8", "replace")), "Message-ID")
            yield from _IDENTITY.findall(given)[:1]


def _identities(mail: MimePart, *names: str) -> tuple[str, ...]:
    """The Message-IDs of header fields, the last of each field first: it names the mail that is answered (RFC 5322 §3.6.4)."""
    found = [identity for name in names for identity in reversed(_IDENTITY.findall(mail.field_body(name)))]
    return tuple(dict.fromkeys(found))[:_IDENTITIES]


def _words(mail: MimePart) -> str:
    """The subject and the first words of the text."""
    subject = decode_words(mail.field_body("Subject"))
    text = next((part for part in mail.leaves if part.content_type == "text/plain"), None)
    body = text.data[: 4 * _QUOTED].decode("utf-8", "replace") if text is not None else ""
    return _NOT_SHOWN.sub(" ", f"{subject}: {body}" if subject and body.strip() else subject or body).strip()[:_QUOTED]


def _fields(text: str) -> Fields:
    return HeaderParser().parsestr(text.lstrip("\r\n"), headersonly=True)


def _value(fields: Fields, name: str) -> str:
    return _NOT_SHOWN.sub(" ", str(fields.get(name) or "")).strip()
