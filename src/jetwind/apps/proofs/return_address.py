"""The envelope sender of each copy: an address of its own, so that whatever comes back leads to its copy."""

from __future__ import annotations

import re
import secrets

from jetwind.apps.proofs.models import TestCopy

#: The right side of the Message-IDs of copies.
IDENTITIES = "test.jetwind.invalid"
_IDENTITY = re.compile(rf"<([0-9a-f]{{24}}\.\d{{1,18}})@{re.escape(IDENTITIES)}>")
_RETURN = re.compile(r"[^@]*\+([0-9a-f]{24}\.\d{1,18})@[^@]*")
#: Octets of the part before the @ (RFC 5321 §4.5.3.1.1).
_LONGEST = 64


def new_identity(send_id: int) -> str:
    """A Message-ID for a new copy of a send."""
    return f"<{secrets.token_hex(12)}.{send_id}@{IDENTITIES}>"


def return_address(sender: str, copy: TestCopy) -> str:
    """The sender's address with the copy's identity after a plus; the sender's address alone where there is no room.

    Most mail servers deliver such an address to the mailbox before the plus (RFC 5233 calls the rest the detail).
    """
    name, _, domain = sender.rpartition("@")
    found = _IDENTITY.fullmatch(copy.message_id)
    if found is None or len(name) + 1 + len(found[1]) > _LONGEST:
        return sender
    return f"{name}+{found[1]}@{domain}"


def identity_of(recipient: str) -> str:
    """The Message-ID of the copy whose return address this is; empty for any other address."""
    found = _RETURN.fullmatch(recipient.strip().lower())
    return f"<{found[1]}@{IDENTITIES}>" if found else ""
