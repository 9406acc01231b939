"""How a workspace goes out: what it opens, by which resolver, with which patience; and changing it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace
from functools import lru_cache
from ipaddress import IPv6Network
from typing import Any

from django.conf import settings
from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Revision
from jetwind.apps.links.known import LET_OPEN, WIRE
from jetwind.apps.links.models import LISTS, SINGLE, When, Wire
from jetwind.apps.ui.merging import Overtaken, merged_list, merged_value
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace
from jetwind.core.links.addresses import parsed
from jetwind.core.links.opening import DoorKeeping
from jetwind.engines.browser import LandingBrowser
from jetwind.engines.fetch import Fetcher, Patience, Policy
from jetwind.engines.fetch.policy import DEFAULT_PORTS, host_and_ports
from jetwind.engines.names import Loads, loading
from jetwind.engines.practice import DOMAIN, OTHER_DOMAIN, Directory

_HOST = re.compile(r"(?=.{1,253}\Z)[a-z0-9_](?:[a-z0-9_-]*[a-z0-9])?(?:\.[a-z0-9_](?:[a-z0-9_-]*[a-z0-9])?)*\Z")
_MOST_ENTRIES = 200


def wire_of(workspace: Workspace) -> Wire:
    """The addresses that a workspace opens; where nobody has said, everything that may be opened."""
    return Wire.objects.filter(workspace=workspace).first() or Wire(workspace=workspace)


def known_wire(revision: Revision) -> Wire:
    """The workspace's settings for opening links, read from the facts of a revision. Nobody saves the row."""
    return Wire(workspace=revision.mailing.workspace, **(WIRE.of(revision) or {}))


def keeping_of(revision: Revision) -> DoorKeeping:
    """The rule that says which links of a message Jetwind opens."""
    wire = known_wire(revision)
    practice = frozenset(revision.mailing.workspace.practice_domains) & inward_of(wire)
    return DoorKeeping(tuple(wire.shut), practice, frozenset(LET_OPEN.of(revision)))


def inward_of(wire: Wire) -> frozenset[str]:
    """The hosts inside the network that are opened: those that the workspace names and the administrator allows."""
    return frozenset(entry for entry in wire.inward_hosts if _is_allowed(entry))


def _is_allowed(entry: str) -> bool:
    """Whether the administrator of the installation lets workspaces name a host inside; the practice field is for all."""
    host, ports = host_and_ports(entry)
    if host in _PRACTICE:
        return ports == frozenset(DEFAULT_PORTS.values())
    return all(_ALLOWED(settings.INWARD_HOSTS).is_inward(host, port) for port in ports)


_PRACTICE = (DOMAIN, OTHER_DOMAIN)
_ALLOWED = lru_cache(maxsize=1)(Policy)


def policy_of(wire: Wire) -> Policy:
    """Where a workspace may go, as the fetcher and the browser of landing pages judge it."""
    return Policy(inward_of(wire), frozenset({80, 443, *map(int, wire.ports)}), _translations(settings.TRANSLATIONS))


@lru_cache(maxsize=1)
def _translations(prefixes: tuple[str, ...]) -> tuple[IPv6Network, ...]:
    return tuple(IPv6Network(prefix) for prefix in prefixes)


def fetcher_of(wire: Wire) -> Fetcher:
    """A fetcher that goes where a workspace lets it. The practice field's names are found where it stands now."""
    policy = policy_of(wire)
    patience = replace(Patience(), **settings.FETCH_PATIENCE)
    directory = Directory.read(settings.PRACTICE_DIRECTORY) if settings.PRACTICE_DIRECTORY else None
    if directory is None:
        return Fetcher(policy, patience=patience)
    return Fetcher(policy, directory.resolver(), patience=patience, authorities=directory.authorities)


def mark_of(revision: Revision) -> Loads | None:
    """The function that tries the picture of a sender's BIMI record; None where pictures are not fetched by themselves."""
    wire = known_wire(revision)
    return loading(lambda: fetcher_of(wire)) if wire.pictures == When.ALWAYS else None


def landing_browser_of(wire: Wire) -> LandingBrowser:
    """A browser for landing pages that goes where a workspace lets it."""
    policy = policy_of(wire)
    directory = Directory.read(settings.PRACTICE_DIRECTORY) if settings.PRACTICE_DIRECTORY else None
    if directory is None:
        return LandingBrowser(policy)
    return LandingBrowser(policy, directory.resolver(), trusted_key=directory.trusted_key)


def shown_wire(wire: Wire) -> dict[str, Any]:
    """The settings as a page shows them: what :func:`set_wire` merges against."""
    return {**{name: sorted(getattr(wire, name)) for name in LISTS}, **{name: getattr(wire, name) for name in SINGLE}}


@transaction.atomic
def set_wire(
    user: User,
    workspace: Workspace,
    *,
    links: str,
    pictures: str,
    inward_hosts: str,
    ports: str,
    shut: str,
    shown: Mapping[str, Any] | None = None,
) -> Wire:
    """Set what a workspace opens; lists are words parted by blanks or commas. What changed against ``shown`` is merged into what holds now.

    Raises:
        NotAllowed, Refused: not permitted; no host, no port, no address; a choice that somebody else changed meanwhile.
    """
    permit(user, "workspace:configure", workspace)
    mine = {"inward_hosts": _hosts(inward_hosts), "ports": _ports(ports), "shut": _shut(shut)}
    wire = wire_of(workspace)
    if strange := [entry for entry in mine["inward_hosts"] if entry not in wire.inward_hosts and not _is_allowed(entry)]:
        raise Refused(
            f"“{strange[0][:60]}” may lie inside the network of this installation, so its administrator has to allow it first: JETWIND_INWARD_HOSTS={strange[0][:60]}."
        )
    for name, value in (("links", links), ("pictures", pictures)):
        if value not in When.values:
            raise Refused(f"“{value[:20]}” is none of the choices for the {SINGLE[name]}.")
    Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    wire = wire_of(workspace)
    before = shown if shown is not None else shown_wire(wire)
    for name, wanted in mine.items():
        setattr(wire, name, merged_list(before.get(name, ()), wanted, getattr(wire, name)))
    for name, value in (("links", links), ("pictures", pictures)):
        now = getattr(wire, name)
        try:
            setattr(wire, name, merged_value(name, before.get(name, now), value, now))
        except Overtaken:
            raise Refused(f"Somebody set the {SINGLE[name]} to “{now}” meanwhile. Nothing was changed; keep again to have yours.") from None
    wire.save()
    record("workspace.changed", actor=user, what="what links are opened and what pictures are fetched", house=workspace.pk)
    return wire


def _words(text: str) -> list[str]:
    found = sorted(set(re.split(r"[\s,]+", text.strip())) - {""})
    if len(found) > _MOST_ENTRIES:
        raise Refused(f"A list has up to {_MOST_ENTRIES} entries; this one has {len(found)}.")
    return found


def _hosts(text: str) -> list[str]:
    kept = set()
    for entry in _words(text.lower()):
        host, ports = host_and_ports(entry)
        if not _HOST.match(host.rstrip(".")) or not all(0 < port < 65_536 for port in ports):
            raise Refused(f"“{entry[:60]}” is not a host with its port such as intranet.saltmarsh-kiln.example:8080.")
        kept.add(host.rstrip(".") + (f":{min(ports)}" if host != entry else ""))
    return sorted(kept)


def _ports(text: str) -> list[str]:
    for port in (found := _words(text)):
        if not port.isdecimal() or not 0 < int(port[:6]) < 65_536:
            raise Refused(f"“{port[:20]}” is no port: a number from 1 to 65535.")
    return sorted({str(int(port)) for port in found})


def _shut(text: str) -> list[str]:
    kept = set()
    for entry in _words(text):
        address = parsed(entry) if "/" in entry else None
        if "/" in entry and (address is None or not address.host):
            raise Refused(
                f"“{entry[:60]}” is neither a host nor the beginning of an address such as https://www.saltmarsh-kiln.example/leave."
            )
        if "/" not in entry and not _HOST.match(entry.lower()):
            raise Refused(
                f"“{entry[:60]}” is neither a host nor the beginning of an address such as https://www.saltmarsh-kiln.example/leave."
            )
        kept.add(address.href if address is not None else entry.lower())
    return sorted(kept)
