"""The papers of one message's sender: SPF, DKIM, DMARC and BIMI, asked of one resolver."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace

from jetwind.core.links.addresses import organisational_domain
from jetwind.core.message import Message
from jetwind.core.papers import Bimi, Dkim, Dmarc, Papers, Signing, Spf, aligned, dmarc_record, sender_domain, sender_domains
from jetwind.core.papers.dmarc import DmarcFault, is_dmarc, strictness
from jetwind.engines.names import dkim, spf
from jetwind.engines.names.asking import NoAnswer, NotingResolver, Resolver

#: Says why a picture does not load; empty where it does.
Loads = Callable[[str], str]
#: Domains of From that are asked for.
MOST_FROM = 8
_SAYS_NOTHING = Signing()
_RETURN_PATH = re.compile(r"<(?P<address>[^<>\s]*@(?P<domain>[^<>\s@]+))>")


def papers_of(message: Message, resolver: Resolver, signing: Signing = _SAYS_NOTHING, loads: Loads | None = None) -> Papers:
    """The papers of a message's sender, by its name records. ``loads`` tries to load the picture of BIMI; without it nobody tries."""
    domain = sender_domain(message)
    asked = NotingResolver(resolver)
    if not domain:
        return Papers("", resolver.name)
    signatures = list(message.header_fields("DKIM-Signature"))
    is_planned = not signatures and bool(signing.selector)
    if signatures and message.root is not None:
        signed = dkim.verify(asked, message.root.to_bytes(), len(signatures))
    elif is_planned:
        signed = (dkim.planned(asked, signing.domain or domain, signing.selector),)
    else:
        signed = ()
    sent_for, address, identity = _return_path(message, signing, domain)
    checked = spf.evaluate(asked, sent_for, signing.host if spf.is_ip(signing.host) else "", sender=address, identity=identity)
    dmarc = _strictest([_dmarc(asked, one, checked, signed) for one in sender_domains(message)[:MOST_FROM]])
    return Papers(domain, resolver.name, spf=checked, dkim=signed, dmarc=dmarc, bimi=_bimi(asked, domain, loads), is_planned=is_planned)


def _return_path(message: Message, signing: Signing, domain: str) -> tuple[str, str, str]:
    """The domain whose SPF record counts, the address where one is known, and the identity that they are taken from (RFC 7208 §2.4)."""
    header = message.header("Return-Path")
    match = _RETURN_PATH.search(header.value) if header is not None else None
    if match is not None and not message.holds_field(match["address"]):
        return match["domain"].rstrip(".").lower(), match["address"], "return path"
    if signing.return_path:
        return signing.return_path.lower(), "", "return path"
    box = next(iter(message.mailboxes("From")), None)
    return domain, box.address if box is not None and box.address.isascii() else "", "From"


def _strictest(found: list[Dmarc]) -> Dmarc:
    """The policy that counts of several domains in From: the strictest policy among those whose check fails (RFC 7489 §6.6.1), with all look-ups."""
    lookups = tuple(lookup for one in found for lookup in one.lookups)
    unknown = [one for one in found if one.failed]
    failing = sorted((one for one in found if not one.aligned), key=lambda one: -strictness(one.policy))
    return replace((unknown or failing or found)[0], lookups=lookups)


def _dmarc(asked: NotingResolver, domain: str, checked: Spf, signed: tuple[Dkim, ...]) -> Dmarc:
    """The record of From's domain or of its organisation (RFC 7489 §6.6.3), and what is aligned under it (§3.1)."""
    organisation = organisational_domain(domain)
    with asked.listing() as lookups:
        for owner in dict.fromkeys((domain, organisation)):
            name = f"_dmarc.{owner}"
            try:
                texts = [text for text in asked.texts(name) if is_dmarc(text)]
            except NoAnswer as failed:
                return Dmarc(domain, organisation, why=str(failed), failed=True, lookups=tuple(lookups))
            if len(texts) > 1:
                return Dmarc(
                    domain, organisation, name, texts[0], why="there is more than one record, so receivers use none", lookups=tuple(lookups)
                )
            if texts:
                return _judged(domain, organisation, name=name, text=texts[0], checked=checked, signed=signed, lookups=tuple(lookups))
        passing = _aligned(domain, checked, signed, strict_spf=False, strict_dkim=False)
        return Dmarc(domain, organisation, aligned=passing, lookups=tuple(lookups))


def _judged(domain: str, organisation: str, name: str, text: str, checked: Spf, signed: tuple[Dkim, ...], lookups: tuple) -> Dmarc:  # type: ignore[type-arg]
    try:
        record = dmarc_record(text)
    except DmarcFault as wrong:
        return Dmarc(domain, organisation, name, text, why=str(wrong), lookups=lookups)
    passing = _aligned(domain, checked, signed, strict_spf=record.strict_spf, strict_dkim=record.strict_dkim)
    policy = record.policy if name == f"_dmarc.{domain}" else record.subdomain_policy
    return Dmarc(domain, organisation, found_at=name, record=text, policy=policy, share=record.share, aligned=passing, lookups=lookups)


def _aligned(domain: str, checked: Spf, signed: tuple[Dkim, ...], *, strict_spf: bool, strict_dkim: bool) -> tuple[str, ...]:
    by_spf = checked.result == "pass" and aligned(checked.domain, domain, strict=strict_spf)
    by_dkim = any(one.result in ("pass", "planned") and aligned(one.domain, domain, strict=strict_dkim) for one in signed)
    return tuple(name for name, holds in (("SPF", by_spf), ("DKIM", by_dkim)) if holds)


def _bimi(asked: NotingResolver, domain: str, loads: Loads | None) -> Bimi:
    """The default record of From's domain or of its organisation."""
    with asked.listing() as lookups:
        for owner in dict.fromkeys((domain, organisational_domain(domain))):
            try:
                texts = [text for text in asked.texts(f"default._bimi.{owner}") if re.match(r"v\s*=\s*BIMI1\b", text)]
            except NoAnswer as failed:
                return Bimi(domain, why=str(failed), failed=True, lookups=tuple(lookups))
            if texts:
                tags = {name.strip().lower(): value.strip() for part in texts[0].split(";") for name, _, value in [part.partition("=")]}
                picture = tags.get("l", "")
                why = _picture_fault(picture, loads)
                return Bimi(domain, texts[0], picture, why, lookups=tuple(lookups))
        return Bimi(domain, lookups=tuple(lookups))


def _picture_fault(picture: str, loads: Loads | None) -> str:
    if not picture:
        return "it names no picture, which says that there is none"
    if not picture.lower().startswith("https://"):
        return "its picture is not at an https address"
    return loads(picture) if loads is not None else ""
