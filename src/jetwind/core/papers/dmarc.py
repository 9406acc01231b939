"""DMARC's record, and alignment (RFC 7489)."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from jetwind.core.errors import Unusable
from jetwind.core.links.addresses import organisational_domain

_TAG = re.compile(r"\s*(?P<name>[A-Za-z]{1,10})\s*=\s*(?P<value>[^;]*?)\s*\Z")
_POLICIES = frozenset(["none", "quarantine", "reject"])
_URI = re.compile(r"[a-z][a-z0-9+.-]*:[^\s,!;]+(?:!\d+[kmgt]?)?\Z", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class DmarcRecord:
    """A record in its tags (RFC 7489 §6.3). ``share`` is the percentage that the policy holds for."""

    policy: Literal["none", "quarantine", "reject"]
    subdomain_policy: str
    strict_dkim: bool
    strict_spf: bool
    share: int
    reports: tuple[str, ...] = ()


class DmarcFault(Unusable):
    """A record that receivers ignore; the text says why."""


def is_dmarc(text: str) -> bool:
    """Whether a TXT record is meant for DMARC: it begins with its version (RFC 7489 §6.3, §6.6.3)."""
    return re.match(r"v\s*=\s*DMARC1\s*(?:;|\Z)", text) is not None


def dmarc_record(text: str) -> DmarcRecord:
    """A record as receivers read it (RFC 7489 §6.3, §6.6.3).

    Unknown tags and what is no tag are skipped, and a faulty value takes its default. Without a usable policy, or with a policy for
    subdomains that is none, the record asks for nothing, where it names an address for reports; else it is not used.

    Raises:
        DmarcFault: it is not used; or a tag stands there twice, which voids a list of tags (RFC 6376 §3.2).
    """
    if not is_dmarc(text):
        raise DmarcFault("it does not begin with v=DMARC1")
    tags: dict[str, str] = {}
    for number, part in enumerate(text.split(";")):
        if not part.strip():
            continue
        match = _TAG.match(part)
        if match is None:
            continue
        name = match["name"].lower()
        if name in tags:
            raise DmarcFault(f"the tag {name} stands there twice")
        if name == "p" and number != 1:
            raise DmarcFault("the policy p does not come right after the version")
        tags[name] = match["value"]
    reports = tuple(uri.strip() for uri in tags.get("rua", "").split(",") if uri.strip())
    policy, of_subdomains = tags.get("p", "").lower(), tags.get("sp", tags.get("p", "")).lower()
    if policy not in _POLICIES or of_subdomains not in _POLICIES:
        if not any(_URI.match(uri) for uri in reports):
            if policy in _POLICIES:
                raise DmarcFault(f"its policy for subdomains sp is “{tags['sp'][:20]}”")
            raise DmarcFault(f"its policy p is “{tags['p'][:20]}”" if "p" in tags else "it has no policy p")
        policy = of_subdomains = "none"
    share = tags.get("pct", "100")
    is_share = share.isascii() and share.isdigit() and int(share[:4]) <= 100
    return DmarcRecord(
        policy,  # type: ignore[arg-type]
        of_subdomains,
        strict_dkim=tags.get("adkim", "r").lower() == "s",
        strict_spf=tags.get("aspf", "r").lower() == "s",
        share=int(share) if is_share else 100,
        reports=reports,
    )


def strictness(policy: str) -> int:
    """How strict a policy is: 0 for none and for no policy, 2 for one that has messages refused."""
    return {"quarantine": 1, "reject": 2}.get(policy, 0)


def aligned(domain: str, sender: str, *, strict: bool) -> bool:
    """Whether a domain that SPF or DKIM vouches for is that of From: the very same, or of one organisation unless strict (RFC 7489 §3.1)."""
    one, other = (name.rstrip(".").lower() for name in (domain, sender))
    if not one or not other:
        return False
    return one == other or (not strict and organisational_domain(one) == organisational_domain(other))
