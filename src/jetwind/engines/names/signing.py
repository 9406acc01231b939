"""Signing a copy as the practice field's sending system does: DKIM (RFC 6376) with Ed25519 (RFC 8463)."""

from __future__ import annotations

import re

import dkim

#: The house whose key is published in the practice field's name records, its selector, and the key: that of RFC 8463, Appendix A.2.
DOMAIN, SELECTOR = "saltmarsh-kiln.example", "spring"
_KEY = b"nWGxne/9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A="
#: The fields that a signature covers where a copy has them (RFC 6376 §5.4.1), with both of one press (RFC 8058 §4).
_COVERED = frozenset(
    name.encode()
    for name in ("from", "to", "reply-to", "subject", "date", "message-id", "list-unsubscribe", "list-unsubscribe-post", "list-id")
)
#: Octets of a copy that is signed, and of a mail whose signatures a server verifies: the library holds a mail several times in memory.
MOST_SIGNED = 4_000_000
_FIELD = re.compile(rb"^([!-9;-~]{1,100}):", re.MULTILINE)


def signed(content: bytes, sender: str) -> bytes:
    """A copy with a signature above it. A copy of another sender, one of more than ``MOST_SIGNED`` octets, and one that the library cannot sign stay as they are.

    ``sender`` is the address in From.
    """
    if sender.rpartition("@")[2].lower() != DOMAIN or len(content) > MOST_SIGNED:
        return content
    head = content.partition(b"\r\n\r\n")[0]
    covered = [name for name in dict.fromkeys(found.lower() for found in _FIELD.findall(head)) if name in _COVERED]
    try:
        field = dkim.sign(
            content,
            SELECTOR.encode(),
            DOMAIN.encode(),
            _KEY,
            canonicalize=(b"relaxed", b"relaxed"),
            signature_algorithm=b"ed25519-sha256",
            include_headers=covered,
        )
    except (dkim.DKIMException, ValueError, TypeError, LookupError):
        return content
    return bytes(field) + content
