"""Enhanced status codes of mail servers, in words (RFC 3463)."""

from __future__ import annotations

import re

from jetwind.core.facts import table
from jetwind.core.facts.tables import StatusCodes

#: Class, subject and detail (§2), in a reply or in a field of its own; the digits before it are those of the reply (RFC 5321 §4.2).
_CODE = re.compile(r"(?:[245]\d\d[ -])?\s{0,4}([245])\.(\d{1,3})\.(\d{1,3})(?![\d.])")


def status_in(reply: str) -> str:
    """The enhanced status code with which a reply or a field begins, such as ``5.1.1``; empty where there is none."""
    found = _CODE.match(reply)
    return ".".join(found.groups()) if found else ""


def said_of(status: str) -> str:
    """The meaning of a status code in words, without its class; a detail that is not known is told by its subject. Empty where neither is known."""
    words = table("status_codes", StatusCodes)["words"]
    _, _, rest = status.partition(".")
    subject, _, _ = rest.partition(".")
    return words.get(rest) or words.get(f"{subject}.0", "")
