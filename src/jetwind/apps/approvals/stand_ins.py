"""Who signs in whose place while a colleague is away."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import Role, roles_for
from jetwind.apps.approvals.models import StandIn
from jetwind.apps.audit.services import record
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.access import may, permit, roles_of
from jetwind.apps.workspace.models import Membership, Workspace
from jetwind.core import clearing
from jetwind.core.clearing import Absence

#: Days that one absence lasts at most.
LONGEST = 366
_SIGNING = frozenset(role.value for role in roles_for("approval:sign"))


@dataclass(frozen=True, slots=True)
class SigningRoles:
    """The roles under which a person signs now: their own, and those of a colleague whom they stand in for; who that is, if the roles need it."""

    roles: frozenset[str]
    in_place_of: User | None


def signing_roles(user: User, workspace: Workspace, now: datetime | None = None) -> SigningRoles:
    """Under which roles a person signs now. Standing in is not handed further: a colleague's own stand-ins count only for the colleague."""
    at = now or timezone.now()
    rows = list(in_force(workspace, now).filter(stands_in=user))
    members = workspace.memberships.filter(user__in=[user.pk, *(one.away_id for one in rows)], deactivated_at=None)
    roles = {one.user_id: frozenset(one.roles) & _SIGNING for one in members}
    absences = [Absence(one.away_id, one.stands_in_id, one.since, one.until) for one in rows]
    found, whom = clearing.signing_roles(user.pk, roles, absences, {one.away_id: _day(one, at) for one in rows})
    return SigningRoles(found, next((one.away for one in rows if one.away_id == whom), None))


def in_force(workspace: Workspace, now: datetime | None = None) -> QuerySet[StandIn]:
    """The stand-ins of a workspace whose last day has not gone by anywhere on earth, the first to begin first."""
    day = (now or timezone.now()).date()
    return StandIn.objects.select_related("away", "stands_in").filter(
        workspace=workspace, ended_at=None, until__gte=day - timedelta(days=1)
    )


def stand_ins_of(people: Iterable[User], workspace: Workspace) -> list[User]:
    """The people who stand in now for any of these."""
    away = {one.pk for one in people}
    now = timezone.now()
    return [one.stands_in for one in in_force(workspace) if one.away_id in away and _is_away(one, now)]


def _is_away(one: StandIn, now: datetime) -> bool:
    return one.since <= _day(one, now) <= one.until


def _day(one: StandIn, now: datetime) -> date:
    """The day where the person lives who is away."""
    return now.astimezone(ZoneInfo(one.away.time_zone or "UTC")).date()


@transaction.atomic
def stand_in(user: User, workspace: Workspace, away: User, stands_in: User, since: date, until: date) -> StandIn:
    """Have somebody sign in the place of a person who is away. A person says so of themselves; an owner says so of anybody.

    Raises:
        NotAllowed, Refused: not permitted; a person who does not sign; the same person; days in the wrong order, or past, or too many; said already.
    """
    if user.pk != away.pk and not may(user, "people:manage", workspace):
        raise NotAllowed("An owner says who stands in for somebody else.")
    permit(user, "approval:sign" if user.pk == away.pk else "people:manage", workspace)
    # Two people who say it of the same person wait for one another.
    Membership.objects.select_for_update(no_key=True).filter(workspace=workspace, user=away).first()
    if away.pk == stands_in.pk:
        raise Refused("Choose somebody else to stand in.")
    for person in (away, stands_in):
        if not roles_of(person, workspace) & _SIGNING:
            raise Refused(f"{person.shown_name} does not sign here; only {Role.REVIEWER} and {Role.APPROVER} do.")
    if until < since:
        raise Refused("The last day comes before the first.")
    if until < timezone.now().date() - timedelta(days=1):
        raise Refused("The last day has gone by.")
    if (until - since).days > LONGEST:
        raise Refused(f"An absence has at most {LONGEST} days.")
    if in_force(workspace).filter(away=away, stands_in=stands_in, since__lte=until, until__gte=since).exists():
        raise Refused(f"{stands_in.shown_name} stands in for {away.shown_name} on some of these days already.")
    made = StandIn.objects.create(workspace=workspace, away=away, stands_in=stands_in, since=since, until=until)
    record(
        "approval.stood-in",
        actor=user,
        house=workspace.pk,
        who=away.shown_name,
        stand_in=stands_in.shown_name,
        since=since.isoformat(),
        until=until.isoformat(),
    )
    return made


@transaction.atomic
def end_stand_in(user: User, one: StandIn) -> None:
    """Say that somebody no longer stands in. Signatures that were given stay; a second press changes nothing.

    Raises:
        Refused: neither the person who was away, nor an owner.
    """
    if user.pk != one.away_id and not may(user, "people:manage", one.workspace):
        raise Refused("The person who is away ends this, or an owner.")
    if StandIn.objects.filter(pk=one.pk, ended_at=None).update(ended_at=timezone.now()):
        record("approval.stand-in-ended", actor=user, house=one.workspace_id, who=one.away.shown_name, stand_in=one.stands_in.shown_name)
