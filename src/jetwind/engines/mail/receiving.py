"""Lines that a receiving server writes above a mail: that it took the mail, and how far the signatures hold."""

from __future__ import annotations

import re
from datetime import UTC, datetime
from email.utils import format_datetime
from typing import Any

from jetwind.engines.names import MOST_SIGNED, practice_zone, verified


def trace_of(session: Any, hostname: str, *, is_encrypted: bool = False) -> bytes:
    """The line that a server writes above a mail that it takes (RFC 5321 §4.4; RFC 3848 for the kind of session)."""
    greeted = re.sub(r"[^\w.:\[\]-]", "", session.host_name or "") or "unknown"
    kind = "SMTP" if not session.extended_smtp else f"ESMTP{'S' if is_encrypted else ''}{'A' if session.authenticated else ''}"
    return trace_line(greeted, hostname, kind, datetime.now(UTC))


def trace_line(greeted: str, hostname: str, kind: str, at: datetime) -> bytes:
    """The same line from its parts: the host that greeted, the host that takes the mail, the kind of session, the time."""
    return f"Received: from {greeted} by {hostname} with {kind}; {format_datetime(at)}\r\n".encode("ascii")


def results_of(content: bytes, hostname: str) -> bytes:
    """The Authentication-Results field of a server that verifies signatures by the practice field's name records (RFC 8601 §2.2, §2.7.1)."""
    said = _said(content) if len(content) <= MOST_SIGNED else 'dkim=neutral reason="too large to verify"'
    return f"Authentication-Results: {hostname}; {said}\r\n".encode("ascii")


def _said(content: bytes) -> str:
    found = []
    for one in verified(content, practice_zone()):
        reason = re.sub(r"[^ -!#-\[\]-~]", " ", one.why)[:100]
        domain = re.sub(r"[^a-z0-9.-]", "", one.domain.lower())[:100]
        found.append(f"dkim={one.result}" + (f' reason="{reason}"' if reason else "") + (f" header.d={domain}" if domain else ""))
    return ";\r\n ".join(found) or "dkim=none"
