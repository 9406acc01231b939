"""Acts on many messages of the list at once; what one message refuses keeps none of the others."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from django.urls import reverse
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import PERMISSIONS
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.services import Details, change_details, shown_details
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import settle, tell
from jetwind.apps.review.services import recheck
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.ui.templatetags.jetwind import in_zone
from jetwind.apps.workspace.access import permit, roles_of
from jetwind.apps.workspace.models import Workspace

#: Messages of one press; characters of a label; labels of a message.
MOST, LONGEST, MOST_LABELS = 200, 30, 10
#: Days by which messages move.
MOST_DAYS = 366


@dataclass(frozen=True, slots=True)
class Done:
    """How many messages were changed, and a sentence for each that was not."""

    number: int
    refused: list[str]


def recheck_all(user: User, workspace: Workspace, numbers: Collection[int]) -> Done:
    """Have the newest revision of each message checked again.

    Raises:
        NotAllowed, Refused: not permitted; no message, or too many.
    """
    permit(user, "review:look", workspace)

    def again(mailing: Mailing) -> None:
        newest = mailing.revisions.select_related("mailing__workspace").order_by("number").last()
        if newest is not None:
            recheck(user, newest)

    return _each(workspace, numbers, again)


def label_all(user: User, workspace: Workspace, numbers: Collection[int], label: str, *, is_on: bool = True) -> Done:
    """Put a label on messages, or take it off. A message that has it already, or has it not, stays as it is.

    Raises:
        NotAllowed, Refused: not permitted; no label, or a long one; no message, or too many.
    """
    permit(user, "mailing:change", workspace)
    label = " ".join(label.replace("\0", "").split())
    if not label or len(label) > LONGEST:
        raise Refused(f"A label has 1 to {LONGEST} characters.")

    def change(mailing: Mailing) -> None:
        with open_mailing(mailing.pk) as locked:
            if (label in locked.labels) is is_on:
                return
            if is_on and len(locked.labels) >= MOST_LABELS:
                raise Refused(f"“{locked.title}” has {MOST_LABELS} labels; take one off first.")
            locked.labels = sorted({*locked.labels, label}) if is_on else [one for one in locked.labels if one != label]
            locked.save(update_fields=["labels"])
            record("mailing.labelled" if is_on else "mailing.label-taken-off", actor=user, mailing=locked, label=label)

    return _each(workspace, numbers, change)


def give_all(user: User, workspace: Workspace, numbers: Collection[int], to: User | None) -> Done:
    """Give the review of messages to a person, who is told; None takes it from the one who has it.

    Raises:
        NotAllowed, Refused: not permitted; a person who does not review here; no message, or too many.
    """
    permit(user, "mailing:change", workspace)
    if to is not None and "review:look" not in _permissions(to, workspace):
        raise Refused(f"{to.shown_name} does not review messages here; choose a reviewer or an approver.")

    def give(mailing: Mailing) -> None:
        with open_mailing(mailing.pk) as locked:
            before = locked.given_to
            if before == to:
                return
            locked.given_to = to
            locked.save(update_fields=["given_to"])
            if to is not None:
                record("mailing.given", actor=user, mailing=locked, who=to.shown_name)
            elif before is not None:
                record("mailing.given-to-nobody", actor=user, mailing=locked, who=before.shown_name)
            settle(locked, Notice.Kind.GIVEN)
            if to is not None and to != user:
                words = f"{user.shown_name} gave you its review."
                tell([to], Notice.Kind.GIVEN, locked, words, reverse("newest", args=[locked.pk]))

    return _each(workspace, numbers, give)


def set_deadline_all(user: User, workspace: Workspace, numbers: Collection[int], until: datetime | None) -> Done:
    """Set the time by which the review of messages is to be done; None takes it off.

    Raises:
        NotAllowed, Refused: not permitted; a time that is over; no message, or too many.
    """
    permit(user, "mailing:change", workspace)
    if until is not None and until <= timezone.now():
        raise Refused("The deadline lies in the past; choose a time to come.")

    def change(mailing: Mailing) -> None:
        with open_mailing(mailing.pk) as locked:
            if until is not None and locked.planned_at is not None and until > locked.planned_at:
                raise Refused(f"“{locked.title}” leaves {in_zone(locked.planned_at)}, before that deadline.")
            if locked.review_by == until:
                return
            locked.review_by = until
            locked.save(update_fields=["review_by"])
            if until is not None:
                record("mailing.deadline", actor=user, mailing=locked, until=until.isoformat(timespec="minutes"))
            else:
                record("mailing.deadline-taken-off", actor=user, mailing=locked)
            settle(locked, Notice.Kind.DEADLINE)

    return _each(workspace, numbers, change)


def move_all(user: User, workspace: Workspace, numbers: Collection[int], days: int) -> Done:
    """Have messages leave so many days later, or earlier where ``days`` is negative, at the same hour of their zone.

    Raises:
        NotAllowed, Refused: not permitted; no days, or more than a year; no message, or too many.
    """
    permit(user, "mailing:change", workspace)
    if not days or abs(days) > MOST_DAYS:
        raise Refused(f"Say by how many days the messages move: 1 to {MOST_DAYS}, or as many earlier.")

    def shift(mailing: Mailing) -> None:
        if mailing.planned_at is None:
            raise Refused(f"“{mailing.title}” has no planned time that could be moved.")
        # The hour of the clock stays, whatever summer time does in between.
        local = mailing.planned_at.astimezone(ZoneInfo(mailing.planned_zone))
        planned_at = (local + timedelta(days=days)).replace(fold=0)
        if planned_at <= timezone.now():
            raise Refused(f"“{mailing.title}” would leave in the past.")
        now = {**shown_details(mailing), "planned_at": planned_at, "countries": tuple(mailing.countries)}
        change_details(user, mailing, Details(**now), shown_details(mailing))

    return _each(workspace, numbers, shift)


def _permissions(person: User, workspace: Workspace) -> set[str]:
    held = roles_of(person, workspace)
    return {permission for permission, roles in PERMISSIONS.items() if roles & held}


def _each(workspace: Workspace, numbers: Collection[int], act: Callable[[Mailing], None]) -> Done:
    if not numbers:
        raise Refused("Choose messages first: each row has a box.")
    if len(numbers) > MOST:
        raise Refused(f"{len(numbers)} messages are chosen; one press takes {MOST}.")
    done, refused = 0, []
    for mailing in Mailing.objects.filter(workspace=workspace, pk__in=numbers).order_by("pk"):
        try:
            act(mailing)
            done += 1
        except NotAllowed:
            raise
        except Refused as one:
            refused.append(one.sentence)
    return Done(done, refused)
