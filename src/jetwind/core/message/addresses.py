"""Address headers: mailboxes out of a list, whatever state it is in."""

from __future__ import annotations

import re
from dataclasses import dataclass
from email.utils import getaddresses

from jetwind.core.message.words import decode_words
from jetwind.core.source import LIMITS

_ONE_MAILBOX = re.compile(r"(?P<name>[^<>]*)<(?P<address>[^<>\s@]*@[^<>]*)>\Z|(?P<bare>[^\s<>,;:\"@]+@[^\s<>,;\"]+)\Z")


@dataclass(frozen=True, slots=True)
class Mailbox:
    """A display name and an address (RFC 5322 §3.4)."""

    name: str
    address: str


def mailboxes(raw: str) -> tuple[Mailbox, ...]:
    """The mailboxes of an address list (RFC 5322 §3.4); an empty group gives none.

    The standard library's versions differ in what they give up on (a domain literal, two @): one mailbox alone is then read as it stands.
    """
    raw = _flat_comments(raw[: LIMITS.header_octets])
    try:
        pairs = getaddresses([raw])
    except (IndexError, ValueError, TypeError, RecursionError):
        pairs = []
    found = [(name, address) for name, address in pairs if address]
    if (len(found) != len(pairs) or not found) and (match := _ONE_MAILBOX.match(raw.strip())):
        found = [((match["name"] or "").strip(' "'), match["address"] or match["bare"])]
    return tuple(Mailbox(decode_words(name), address) for name, address in found)


def _flat_comments(raw: str) -> str:
    """Comments inside comments, and brackets without a partner, as spaces: the standard library goes down once for each."""
    if raw.count("(") < 2 and raw.count("(") == raw.count(")"):
        return raw
    out = list(raw)
    open_ones: list[int] = []
    in_quotes, at = False, 0
    while at < len(raw):
        char = raw[at]
        if char == "\\":
            at += 1
        elif char == '"' and not open_ones:
            in_quotes = not in_quotes
        elif char == "(" and not in_quotes:
            open_ones.append(at)
        elif char == ")" and not in_quotes:
            if not open_ones:
                out[at] = " "
            elif len(open_ones) > 1:
                out[open_ones.pop()] = out[at] = " "
            else:
                open_ones.pop()
        at += 1
    for place in open_ones:
        out[place] = " "
    return "".join(out)
