"""Planned sends as calendars: a file for one message, and one address for all messages of a workspace, to which a program subscribes."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Callable
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from django.core.signing import BadSignature, Signer
from django.db import transaction
from django.db.models import Count, Max, QuerySet
from django.urls import reverse
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.audit.services import record
from jetwind.apps.departures.selectors import leaving
from jetwind.apps.intake.models import Mailing
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace
from jetwind.core.reports.calendar import PlannedSend, PlanStatus, as_calendar

#: How long a message stays in the calendar after it left, and how many messages a calendar has.
KEPT, MOST_SENDS = timedelta(days=90), 1_000
_SIGNER = Signer(salt="jetwind.calendar")


def token_of(workspace: Workspace) -> str:
    """The token in the address of a workspace's calendar; empty where nobody made one, or somebody withdrew it."""
    return _SIGNER.sign(f"{workspace.pk}.{workspace.calendar_nonce}").replace(":", ".") if workspace.calendar_nonce else ""


def workspace_of(token: str) -> Workspace | None:
    """The workspace of a token; None for one that is nobody's, or withdrawn."""
    value, _, signature = token.rpartition(".")
    try:
        number, _, nonce = _SIGNER.unsign(f"{value}:{signature}").partition(".")
    except BadSignature:
        return None
    return Workspace.objects.filter(pk=int(number), calendar_nonce=nonce).exclude(calendar_nonce="").first()


@transaction.atomic
def open_calendar(user: User, workspace: Workspace, *, again: bool = False) -> None:
    """Make the address of a workspace's calendar, or with ``again`` another one, so that the old one shows nothing any more.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:configure", workspace)
    found = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    if found.calendar_nonce and not again:
        return
    found.calendar_nonce = secrets.token_hex(12)
    found.save(update_fields=["calendar_nonce"])
    record("workspace.changed", actor=user, what="the address of the calendar", house=workspace.pk)


@transaction.atomic
def withdraw_calendar(user: User, workspace: Workspace) -> None:
    """Withdraw the address of a workspace's calendar.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:configure", workspace)
    found = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    if not found.calendar_nonce:
        return
    found.calendar_nonce = ""
    found.save(update_fields=["calendar_nonce"])
    record("workspace.changed", actor=user, what="the address of the calendar, which is withdrawn", house=workspace.pk)


def of_workspace(workspace: Workspace, whole: Callable[[str], str]) -> bytes:
    """The planned sends of a workspace, the last ninety days and all that come. ``whole`` makes a path of ours a whole address."""
    since = timezone.now() - KEPT
    found = Mailing.objects.filter(workspace=workspace, planned_at__gte=since).order_by("planned_at", "pk")[:MOST_SENDS]
    return as_calendar(f"{workspace.name}: departures", _sends(found, whole), timezone.now())


def of_message(mailing: Mailing, whole: Callable[[str], str]) -> bytes:
    """The planned send of one message.

    Raises:
        Refused: the message has no planned time.
    """
    if mailing.planned_at is None:
        raise Refused(f"“{mailing.title}” has no planned time yet.")
    return as_calendar(mailing.title, _sends(Mailing.objects.filter(pk=mailing.pk), whole), timezone.now())


def _sends(found: QuerySet[Mailing], whole: Callable[[str], str]) -> list[PlannedSend]:
    numbers = list(found.values_list("pk", flat=True))
    counted = LogEntry.objects.filter(mailing_id__in=numbers).order_by().values("mailing_id")
    # The log only grows, so that the number of its entries tells a later calendar from an earlier one.
    changes = {row["mailing_id"]: row for row in counted.annotate(times=Count("pk"), last=Max("at"))}
    sends = []
    for row in leaving(numbers):
        mailing = row.mailing
        last = changes.get(mailing.pk)
        held = f"{mailing.get_stage_display()}. {row.readiness.holding}"
        words = [row.revision.subject, mailing.audience, held]
        sends.append(
            PlannedSend(
                identity_of(mailing),
                mailing.title,
                _time_of(mailing),
                words="\n".join(filter(None, words)),
                address=whole(reverse("newest", args=[mailing.pk])),
                status=_status_of(mailing),
                sequence=last["times"] if last is not None else 0,
                changed_at=last["last"] if last is not None else mailing.created_at,
            )
        )
    return sends


def identity_of(mailing: Mailing) -> str:
    """A name for a message that no other message has, here or elsewhere (RFC 5545 §3.8.4.7), and that says nothing of it."""
    told = f"{mailing.workspace_id} {mailing.pk} {mailing.created_at.isoformat()}"
    return f"{hashlib.sha256(told.encode()).hexdigest()[:32]}@departures.jetwind.invalid"


def _time_of(mailing: Mailing) -> datetime:
    """The planned time; without a zone where the message leaves at that hour of each reader's own zone."""
    assert mailing.planned_at is not None
    if not mailing.local_time:
        return mailing.planned_at
    return mailing.planned_at.astimezone(ZoneInfo(mailing.planned_zone)).replace(tzinfo=None)


def _status_of(mailing: Mailing) -> PlanStatus:
    return "CONFIRMED" if mailing.stage in (Mailing.Stage.CLEARED, Mailing.Stage.RELEASED) else "TENTATIVE"
