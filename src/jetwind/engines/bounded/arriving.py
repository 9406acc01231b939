"""An arrival held against its copy, in a helper: a stranger's server wrote what is read."""

from __future__ import annotations

import re
from dataclasses import replace

from jetwind.core.arrivals import Compared, Journey, judge
from jetwind.core.message import UnusableInput, read_bytes
from jetwind.engines.bounded.helper import Budget, Helper, Start
from jetwind.engines.names import Resolver, verified

#: Two mails of 100 KB take a tenth of a second; pictures that changed are unpacked, up to forty million pixels each.
_COMPARING = Budget(answer_seconds=20.0, all_seconds=25.0, memory=900_000_000)


def judged_bounded(copy: bytes, arrival: bytes, journey: Journey, records: Resolver | None = None, *, start: Start) -> Compared:
    """The comparison of a copy, as it was handed over, and the mail that arrived. By ``records`` the signatures of both are verified.

    Raises:
        PastBudget: it takes more than it may.
        UnusableInput: one of the two is no mail.
    """
    with Helper((copy, arrival, journey, records), _COMPARING, start) as helper:
        return helper.ask(_judged)


#: The share of the words of a copy that a mail has to have to be taken for it.
_LIKELY = 0.6


def is_likely_copy(copy: bytes, arrival: bytes) -> bool:
    """Whether a mail has most of the words of a copy; of the plain text of both, without building a tree."""
    sides = [frozenset(_WORD.findall(_TAG.sub(" ", _text_of(raw)).casefold())) for raw in (copy, arrival)]
    return bool(sides[0]) and len(sides[0] & sides[1]) >= _LIKELY * len(sides[0])


def looks_like_mail(content: bytes) -> bool:
    """Whether octets begin as a mail does: with header fields, among them one that every mail has."""
    names = {line.partition(b":")[0].strip().lower() for line in content[:20_000].splitlines()[:120] if b":" in line}
    return len(names & {b"from", b"date", b"message-id", b"subject", b"to", b"received"}) >= 2


_WORD = re.compile(r"[^\W\d_]{3,40}")
_TAG = re.compile(r"<[^<>]{0,2000}>")


def _text_of(raw: bytes) -> str:
    """The texts of a mail, as far as they are looked at."""
    try:
        message = read_bytes(raw, "mail.eml")
    except UnusableInput:
        return ""
    return " ".join(part.text[:200_000] for part in (message.html, message.text) if part is not None)


def _judged(given: tuple[bytes, bytes, Journey, Resolver | None]) -> Compared:
    copy, arrival, journey, records = given
    if records is not None and (signed := verified(copy, records)):
        journey = replace(journey, signed=signed, holds=verified(arrival, records))
    return judge(read_bytes(copy, "copy.eml"), read_bytes(arrival, "arrival.eml"), journey)
