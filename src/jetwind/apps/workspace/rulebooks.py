"""The house's own rulebooks, and what signs and sends its mail."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from datetime import date
from typing import Any

from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.ui.merging import Overtaken, merged_fields, merged_table
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.services import tell_of_settings
from jetwind.core.checking import Rulebook, UnusableRulebook, house_rulebook

#: Rulebooks of one house.
MOST = 20
#: What a house says of its sending, and what screens call it.
SIGNING = {"domain": "signing domain", "selector": "selector", "host": "sending host", "return_path": "domain of the return path"}
_NAME = re.compile(r"(?=.{1,253}\Z)[a-z0-9_](?:[a-z0-9_-]*[a-z0-9_])?(?:\.[a-z0-9_](?:[a-z0-9_-]*[a-z0-9_])?)*\Z")


def as_table(book: Rulebook) -> dict[str, Any]:
    """A rulebook as it is kept."""
    return {
        "id": book.id,
        "name": book.name,
        "demands": [demand.check for demand in book.demands],
        "words": list(book.words),
        "kinds": sorted(book.kinds),
        "countries": sorted(book.countries),
        "since": book.since.isoformat() if book.since else None,
        "until": book.until.isoformat() if book.until else None,
    }


def of_table(kept: Mapping[str, Any]) -> Rulebook:
    """The rulebook that ``as_table`` gave.

    Raises:
        UnusableRulebook: an entry is none.
    """
    since, until = (date.fromisoformat(kept[name]) if kept.get(name) else None for name in ("since", "until"))
    return house_rulebook(
        kept["name"],
        kept["demands"],
        words=kept["words"],
        kinds=kept["kinds"],
        countries=kept["countries"],
        since=since,
        until=until,
        id=kept["id"],
    )


def rulebooks_of(workspace: Workspace) -> tuple[Rulebook, ...]:
    """The house's own rulebooks, in the order in which they were written."""
    return tuple(of_table(kept) for kept in workspace.house_rulebooks)


def rulebooks_for(workspace: Workspace, kind: str, countries: Iterable[str], on: date | None) -> tuple[Rulebook, ...]:
    """Those that hold for a kind of message, an audience and a day."""
    return tuple(book for book in rulebooks_of(workspace) if book.holds(kind, tuple(countries), on))


@transaction.atomic
def keep_rulebook(
    user: User, workspace: Workspace, given: Mapping[str, Any], book_id: str = "", shown: Mapping[str, Any] | None = None
) -> Rulebook:
    """Write a rulebook, or change one that is there; ``shown`` is what the person saw of it.

    Raises:
        NotAllowed, Refused: not permitted; it demands nothing usable; its name is taken; somebody changed or removed it meanwhile.
    """
    permit(user, "workspace:configure", workspace)
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    kept = {one["id"]: one for one in locked.house_rulebooks}
    if book_id and book_id not in kept:
        raise Refused("Somebody removed this rulebook meanwhile; write it as a new one.")
    if not book_id and len(kept) >= MOST:
        raise Refused(f"A workspace has at most {MOST} rulebooks of its own.")
    number = 1 + max((int(one.rpartition(":")[2]) for one in kept), default=0)
    try:
        book = house_rulebook(**given, id=book_id or f"house:{number}")
        if book_id and shown is not None:
            book = of_table(merged_fields(shown, as_table(book), kept[book_id]))
    except UnusableRulebook as unusable:
        raise Refused(f"This cannot be used as a rulebook: {unusable}.") from unusable
    if any(one["name"].casefold() == book.name.casefold() and one["id"] != book.id for one in kept.values()):
        raise Refused(f"There is a rulebook “{book.name}” already; choose another name.")
    kept[book.id] = as_table(book)
    _keep(user, locked, list(kept.values()), f"the rulebook {book.name}")
    workspace.house_rulebooks = locked.house_rulebooks
    return book


@transaction.atomic
def remove_rulebook(user: User, workspace: Workspace, book_id: str) -> str:
    """Take a rulebook out of the house; its name comes back, empty where it was gone already.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:configure", workspace)
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    gone = next((one["name"] for one in locked.house_rulebooks if one["id"] == book_id), "")
    if gone:
        _keep(user, locked, [one for one in locked.house_rulebooks if one["id"] != book_id], f"the rulebooks: {gone} was removed")
    return str(gone)


def _keep(user: User, locked: Workspace, books: list[dict[str, Any]], what: str) -> None:
    locked.house_rulebooks = books
    locked.save(update_fields=["house_rulebooks"])
    record("workspace.changed", actor=user, what=what, house=locked.pk)
    tell_of_settings(locked)


@transaction.atomic
def say_what_signs(user: User, workspace: Workspace, given: Mapping[str, str], shown: Mapping[str, str]) -> None:
    """Say which domain and selector sign the house's mail, which host sends it and where bounces go.

    Raises:
        NotAllowed, Refused: not permitted; a name or address that is none; somebody set one of them otherwise meanwhile.
    """
    permit(user, "workspace:configure", workspace)
    mine = {name: given.get(name, "").strip().lower() for name in SIGNING}
    for name in ("domain", "selector", "return_path"):
        if mine[name] and not _NAME.match(mine[name]):
            raise Refused(f"“{mine[name][:80]}” cannot be a {SIGNING[name]}.")
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    now = {name: locked.signing.get(name, "") for name in SIGNING}
    try:
        locked.signing = merged_table({name: shown.get(name, "") for name in SIGNING}, mine, now)
    except Overtaken as overtaken:
        raise Refused(
            f"Somebody set the {SIGNING[overtaken.key]} to “{now[overtaken.key]}” meanwhile. Nothing was changed; keep again to have yours."
        ) from None
    locked.save(update_fields=["signing"])
    record("workspace.changed", actor=user, what="what signs and sends", house=locked.pk)
    tell_of_settings(locked)
    workspace.signing = locked.signing
