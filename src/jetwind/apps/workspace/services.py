"""Changing the house."""

from __future__ import annotations

import csv
import dataclasses
import math
import re
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Any

from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.merging import Overtaken, merged_list, merged_table, merged_value
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking import UnusableSetting, check_settings, registry
from jetwind.core.profiles import profiles

#: A domain name, of two labels or more.
DOMAIN = re.compile(r"(?=.{1,120}\Z)[a-z0-9](?:[a-z0-9-]*[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9-]*[a-z0-9])?)+\Z")
_FIELD = re.compile(r"[A-Za-z_][\w-]*(?:\.[\w-]+)*\Z")


#: Lists of the house that have no order, and what screens call them.
LISTS = ("field_list", "practice_domains", "test_domains", "word_list", "rulebooks")
#: Settings that are one value, and what screens call them.
SINGLE = {
    "escapes_values": "escaping of values",
    "readers_of_a_file": "readers of a file",
}


def shown_settings(workspace: Workspace) -> dict[str, Any]:
    """The settings as a page shows them: what :func:`configure` merges against."""
    return {**{name: list(getattr(workspace, name)) for name in LISTS}, **{name: getattr(workspace, name) for name in SINGLE}}


@transaction.atomic
def configure(
    user: User,
    workspace: Workspace,
    *,
    field_list: str,
    practice_domains: str,
    test_domains: str,
    word_list: str = "",
    rulebooks: Sequence[str] = (),
    escapes_values: bool = False,
    readers_of_a_file: int | None = None,
    shown: Mapping[str, Any] | None = None,
) -> None:
    """Set the house's lists, given as words parted by spaces or commas. What changed against ``shown`` is merged into what holds now.

    Raises:
        NotAllowed, Refused: not permitted; a domain, field name or word that is none; a number that somebody else changed meanwhile.
    """
    permit(user, "workspace:configure", workspace)
    mine = {
        "field_list": _words(field_list),
        "practice_domains": _words(practice_domains.lower()),
        "test_domains": _words(test_domains.lower()),
        "word_list": _words(word_list),
        "rulebooks": list(rulebooks),
    }
    for name in mine["field_list"]:
        if not _FIELD.match(name) or len(name) > 60:
            raise Refused(f"“{name[:60]}” cannot be a field name: up to 60 letters, digits, “_” and “.” only.")
    for domain in (*mine["practice_domains"], *mine["test_domains"]):
        if not DOMAIN.match(domain):
            raise Refused(f"“{domain[:60]}” is not a domain such as saltmarsh-kiln.example.")
    for word in mine["word_list"]:
        if len(word) > 60:
            raise Refused(f"“{word[:60]}…” has {len(word)} characters; a word of the word list has up to 60.")
    with _changing(workspace) as locked:
        before = shown if shown is not None else shown_settings(locked)
        for name, wanted in mine.items():
            setattr(locked, name, merged_list(before.get(name, ()), wanted, getattr(locked, name)))
        given = {
            "escapes_values": escapes_values,
            "readers_of_a_file": readers_of_a_file,
        }
        _set_single(locked, before, given)
        locked.full_clean()
        locked.save(update_fields=[*LISTS, *SINGLE])
        record("workspace.changed", actor=user, what="the settings of the workspace", house=locked.pk)
        tell_of_settings(locked)


def _set_single(workspace: Workspace, before: Mapping[str, Any], given: Mapping[str, Any]) -> None:
    """Set the settings that are one value; None leaves one as it is.

    Raises:
        Refused: somebody else changed one meanwhile.
    """
    for name, value in given.items():
        now = getattr(workspace, name)
        try:
            setattr(workspace, name, merged_value(name, before.get(name, now), now if value is None else value, now))
        except Overtaken:
            raise Refused(f"Somebody set the {SINGLE[name]} to {now} meanwhile. Nothing was changed; keep again to have yours.") from None


def _words(text: str) -> list[str]:
    return sorted(set(re.split(r"[\s,]+", text.strip())) - {""})


@contextmanager
def _changing(workspace: Workspace) -> Iterator[Workspace]:
    """The workspace as it stands now, held against anybody else until the transaction ends; the caller's copy is brought up to date."""
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    yield locked
    workspace.refresh_from_db()


def tell_of_settings(workspace: Workspace) -> None:
    """Have apps above follow a change of settings or readers, in the same transaction."""
    follows().settings_changed(workspace)


@transaction.atomic
def add_word(user: User, workspace: Workspace, word: str) -> None:
    """Add a word to the word list.

    Raises:
        NotAllowed, Refused: not permitted; not one word.
    """
    permit(user, "workspace:configure", workspace)
    if not re.fullmatch(r"[\w'’-]{2,60}", word):
        raise Refused(f"“{word}” is not one word.")
    with _changing(workspace) as locked:
        if word not in locked.word_list:
            locked.word_list = sorted({*locked.word_list, word})
            locked.save(update_fields=["word_list"])
            record("workspace.changed", actor=user, what=f"the word list: “{word}” was added", house=locked.pk)
            tell_of_settings(locked)


@transaction.atomic
def set_checks(
    user: User, workspace: Workspace, settings: dict[str, dict[str, Any]], shown: Mapping[str, dict[str, Any]] | None = None
) -> None:
    """Set the levels and thresholds of the checks; what equals a check's own default is not kept.

    What changed against ``shown`` is merged into what holds now.

    Raises:
        NotAllowed, Refused: not permitted; a level or threshold that a check cannot use; a check that somebody else changed meanwhile.
    """
    permit(user, "workspace:configure", workspace)
    kept: dict[str, dict[str, Any]] = {}
    for check_id, own in settings.items():
        declared = registry().get(check_id)
        if declared is None:
            raise Refused(f"There is no check “{check_id}”.")
        defaults = dataclasses.asdict(declared.options())
        changed = {name: value for name, value in own.items() if value != (declared.level.value if name == "level" else defaults.get(name))}
        try:
            check_settings(declared, {check_id: changed})
        except UnusableSetting as wrong:
            raise Refused(str(wrong)) from wrong
        if changed:
            kept[check_id] = changed
    with _changing(workspace) as locked:
        flat = _merged(_flat(shown) if shown is not None else None, _flat(kept), _flat(locked.check_settings))
        kept = {}
        for key, value in flat.items():
            check_id, _, name = key.partition(_BELOW)
            kept.setdefault(check_id, {})[name] = value
        if kept == locked.check_settings:
            return
        for check_id in kept:
            try:
                check_settings(registry()[check_id], kept)
            except (UnusableSetting, KeyError) as wrong:
                raise Refused(f"Together with what somebody else changed meanwhile: {wrong}") from wrong
        locked.check_settings = kept
        locked.save(update_fields=["check_settings"])
        record("workspace.changed", actor=user, what="levels and thresholds of checks", house=locked.pk)
        tell_of_settings(locked)


#: Between a check and the name of a setting of it.
_BELOW = "|"


def _flat(settings: Mapping[str, Mapping[str, Any]]) -> dict[str, Any]:
    """Settings of checks as one table: two people may set the level and a threshold of one check."""
    return {f"{check_id}{_BELOW}{name}": value for check_id, own in settings.items() for name, value in own.items()}


def _merged(shown: Mapping[str, Any] | None, mine: dict[str, Any], now: dict[str, Any]) -> dict[str, Any]:
    try:
        return merged_table(shown if shown is not None else now, mine, now)
    except Overtaken as both:
        known = registry().get(both.key.partition(_BELOW)[0])
        name = known.name if known is not None else profiles()[both.key].name if both.key in profiles() else both.key
        raise Refused(f"Somebody changed “{name}” meanwhile. Nothing was changed; keep again to have yours.") from None


@transaction.atomic
def set_audience(user: User, workspace: Workspace, shares: Mapping[str, float], shown: Mapping[str, float] | None = None) -> None:
    """Set which per cent of the audience reads in which client profile; with none at all, the profiles of most readers are taken.

    What changed against ``shown`` is merged into what holds now.

    Raises:
        NotAllowed, Refused: not permitted; an unknown profile, a share outside 0 to 100, or more than 100 in all; a share that
            somebody else changed meanwhile.
    """
    permit(user, "workspace:configure", workspace)
    kept: dict[str, float] = {}
    for name, share in shares.items():
        if name not in profiles():
            raise Refused(f"There is no client profile “{name}”.")
        if not 0 <= share <= 100:
            raise Refused(f"{profiles()[name].name}: a share is between 0 and 100 per cent, not {share:g}.")
        if share > 0:
            kept[name] = round(share, 2)
    with _changing(workspace) as locked:
        kept = _merged(shown, kept, locked.audience)
        total = round(sum(kept.values()), 2)
        if total > 100.05:
            raise Refused(f"The shares add up to {total:g} per cent; they may be 100 at most.")
        if kept == locked.audience:
            return
        locked.audience = kept
        locked.save(update_fields=["audience"])
        record("workspace.changed", actor=user, what="the audience by client profile", house=locked.pk)
        follows().audience_changed(locked)


def audience_from_csv(data: bytes) -> dict[str, float]:
    """Shares from a CSV with a profile (its name or its id) and a percentage in each row; a heading row is left out.

    Raises:
        Refused: not text, a row without two columns, an unknown profile, a share that is no number; the text names the row.
    """
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise Refused("The file is not a CSV in UTF-8.") from None
    names = {profile.name.casefold(): profile.id for profile in profiles().values()} | {name: name for name in profiles()}
    shares: dict[str, float] = {}
    separator = ";" if text.count(";") > text.count(",") else ","
    for number, row in enumerate(csv.reader(text.splitlines(), delimiter=separator), 1):
        cells = [cell.strip() for cell in row]
        if not any(cells):
            continue
        if len(cells) < 2:
            raise Refused(f"Row {number} has one column; it needs a profile and a percentage.")
        # A name may hold a comma of its own: the percentage is the last column.
        name, share = ", ".join(cells[:-1]), cells[-1].rstrip("% ").replace(",", ".")
        known = names.get(name.casefold())
        try:
            value = float(share)
        except ValueError:
            if number == 1 and known is None:
                continue
            raise Refused(f"Row {number}: “{cells[-1]}” is not a percentage.") from None
        if known is None:
            raise Refused(f"Row {number}: there is no client profile “{name}”.")
        if not math.isfinite(value):
            raise Refused(f"Row {number}: “{cells[-1]}” is not a percentage.")
        shares[known] = shares.get(known, 0.0) + value
    if not shares:
        raise Refused("The file has no row with a profile and a percentage.")
    return shares
