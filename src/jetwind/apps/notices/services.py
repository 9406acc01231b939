"""Telling people what waits for them, and taking it off their list."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from zoneinfo import ZoneInfo

from django.db import transaction
from django.db.models import Count, F, OuterRef, QuerySet, Subquery
from django.db.models.functions import Coalesce
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.intake.models import Mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.notices.models import Notice
from jetwind.apps.workspace.models import Workspace

#: Notices that the list shows.
SHOWN = 100
#: The task that mails a person what waits, and the hour of the person's day at which it is asked for once a day.
MAIL_NOTICES, MORNING = "proofs.mail_notices", 7


def tell(people: Iterable[User], kind: Notice.Kind, mailing: Mailing, words: str, path: str) -> None:
    """Put a thing on the lists of people, in the caller's transaction. What waits there already, of its kind and at its path, is one with it.

    A caller that writes to the log does so before: the order in which the database's locks are taken is the same everywhere.
    """
    words = " ".join(words.replace("\0", "").split())[:300]
    for person in sorted({one.pk: one for one in people if one.is_active}.values(), key=lambda one: one.pk):
        with transaction.atomic():
            defaults = {"words": words, "at": timezone.now(), "mailing": mailing}
            _, is_new = Notice.objects.get_or_create(user=person, kind=kind, path=path[:200], read_at=None, defaults=defaults)
            if is_new and person.mailed == User.Mailed.AT_ONCE:
                jobs.defer(MAIL_NOTICES, user_id=person.pk, workspace_id=mailing.workspace_id)
            if not is_new:
                waiting = Notice.objects.filter(user=person, kind=kind, path=path[:200], read_at=None)
                waiting.update(words=words, at=timezone.now(), times=F("times") + 1)


def waiting_for(user: User, workspace: Workspace) -> list[Notice]:
    """What waits for a person in a workspace: the unread ones first, each with its message."""
    found = Notice.objects.filter(user=user, mailing__workspace=workspace).select_related("mailing")
    return list(found.order_by(F("read_at").desc(nulls_first=True), "-at", "-pk")[:SHOWN])


def mark_read(user: User, notice: Notice) -> None:
    """Take a thing for read. A second press changes nothing."""
    Notice.objects.filter(pk=notice.pk, user=user, read_at=None).update(read_at=timezone.now())


def mark_all_read(user: User, workspace: Workspace) -> int:
    """Take everything in a workspace for read; returns how much that was."""
    unread = Notice.objects.filter(user=user, mailing__workspace=workspace, read_at=None)
    return unread.update(read_at=timezone.now())


def settle(mailing: Mailing, *kinds: Notice.Kind, user: User | None = None) -> None:
    """Take things of a message off all lists, or off one person's: they wait for nobody any more."""
    waiting = Notice.objects.filter(mailing=mailing, kind__in=kinds, read_at=None)
    (waiting.filter(user=user) if user is not None else waiting).update(read_at=timezone.now())


def mail_daily(since: datetime, until: datetime) -> None:
    """Have everybody mailed who wants that once a day, whose morning lies between two moments, and for whom something new waits."""
    new = Notice.objects.filter(user__mailed=User.Mailed.DAILY, read_at=None, mailed_at=None)
    for number, zone, workspace in new.values_list("user", "user__time_zone", "mailing__workspace").distinct():
        morning = until.astimezone(ZoneInfo(zone)).replace(hour=MORNING, minute=0, second=0, microsecond=0)
        if since < morning <= until:
            jobs.defer(MAIL_NOTICES, user_id=number, workspace_id=workspace)


def to_mail(user: User, workspace: Workspace) -> list[Notice]:
    """What waits for a person and no mail has told of, taken for told from now on, in the caller's transaction."""
    found = Notice.objects.select_for_update(no_key=True, of=("self",)).select_related("mailing")
    new = list(found.filter(user=user, mailing__workspace=workspace, read_at=None, mailed_at=None).order_by("at", "pk")[:SHOWN])
    Notice.objects.filter(pk__in=[one.pk for one in new]).update(mailed_at=timezone.now())
    return new


def unread_of_membership() -> Coalesce:
    """The number of unread things of a membership's person in its workspace, as a column of a query of memberships."""
    mine = Notice.objects.filter(user=OuterRef("user_id"), mailing__workspace=OuterRef("workspace_id"), read_at=None)
    counted: QuerySet[Notice, int] = mine.order_by().values("user").annotate(number=Count("pk")).values_list("number", flat=True)
    return Coalesce(Subquery(counted), 0)
