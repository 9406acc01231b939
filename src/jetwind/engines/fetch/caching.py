"""The time for which an answer counts as current (RFC 9111 §4.2): at least an hour, at most a day."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import datetime, timedelta
from email.utils import parsedate_to_datetime

LEAST = timedelta(hours=1)
MOST = timedelta(days=1)
_MAX_AGE = re.compile(r"(?:^|,)\s*max-age\s*=\s*\"?(\d{1,9})", re.IGNORECASE)


def fresh_until(headers: Mapping[str, str], asked_at: datetime) -> datetime:
    """The end of an answer's freshness: max-age before Expires, less the age that it came with (RFC 9111 §4.2.1, §4.2.3)."""
    lifetime = LEAST
    control = headers.get("Cache-Control", "")
    if found := _MAX_AGE.search(control):
        lifetime = timedelta(seconds=int(found[1]))
    elif not control and "Expires" in headers:
        try:
            lifetime = parsedate_to_datetime(headers["Expires"]) - parsedate_to_datetime(headers["Date"])
        except (ValueError, TypeError, KeyError, OverflowError):
            lifetime = LEAST
    age = headers.get("Age", "0").strip()
    if age.isdecimal() and len(age) < 10:
        lifetime -= timedelta(seconds=int(age))
    return asked_at + min(max(lifetime, LEAST), MOST)
