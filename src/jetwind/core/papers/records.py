"""Records that one could publish, as text."""

from __future__ import annotations

import re

from jetwind.core.papers.values import Dkim, Dmarc, Spf


def spf_to_publish(spf: Spf) -> str:
    """The domain's record with the sending host put in, or a first one (RFC 7208 §4.5, §5.6)."""
    host = f"ip{'6' if ':' in spf.host else '4'}:{spf.host}" if spf.host else "ip4:<address of the sending host>"
    if not spf.record:
        return f"v=spf1 {host} -all"
    version, _, terms = spf.record.partition(" ")
    return f"{version} {host} {terms}".strip() if spf.host else spf.record


def dmarc_to_publish(dmarc: Dmarc) -> str:
    """A first record, which asks for reports and lets everything through (RFC 7489 §6.3)."""
    return f"v=DMARC1; p=none; rua=mailto:dmarc@{dmarc.organisation}"


def dkim_to_publish(one: Dkim) -> str:
    """Where the key's record belongs (RFC 6376 §3.6.2.1)."""
    kind = "ed25519" if "ed25519" in one.algorithm else "rsa"
    selector = re.sub(r"[^\w.-]", "", one.selector) or "<selector>"
    return f"Publish as TXT at {selector}._domainkey.{one.domain}: v=DKIM1; k={kind}; p=<public key in base64>"
