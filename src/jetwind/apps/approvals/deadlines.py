"""Deadlines for review: people are reminded a day before, and told when one has passed."""

from __future__ import annotations

from datetime import datetime, timedelta

from django.db.models import Q
from django.urls import reverse

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import Role
from jetwind.apps.intake.models import Mailing
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import tell
from jetwind.apps.ui.templatetags.jetwind import in_zone

#: How long before a deadline people are reminded.
BEFORE = timedelta(days=1)
#: Stages in which a review is still to be done.
_OPEN = (Mailing.Stage.TAKEN_IN, Mailing.Stage.UNDER_REVIEW, Mailing.Stage.SENT_BACK)


def remind(since: datetime, until: datetime) -> int:
    """Remind of the deadlines that came near or passed after ``since`` and not after ``until``; returns how many messages that were.

    The person to whom the review was given is told; where it was given to nobody who is still here, every reviewer is.
    """
    near = Q(review_by__gt=since + BEFORE, review_by__lte=until + BEFORE)
    passed = Q(review_by__gt=since, review_by__lte=until)
    found = list(Mailing.objects.filter(near | passed, stage__in=_OPEN).select_related("workspace", "given_to").order_by("pk"))
    for mailing in found:
        assert mailing.review_by is not None, "the filter asks for one"
        when = in_zone(mailing.review_by)
        words = f"The deadline for its review has passed: {when}." if mailing.review_by <= until else f"Its review is due by {when}."
        tell(_people(mailing), Notice.Kind.DEADLINE, mailing, words, reverse("newest", args=[mailing.pk]))
    return len(found)


def _people(mailing: Mailing) -> list[User]:
    members = mailing.workspace.memberships.filter(deactivated_at=None, user__is_active=True).select_related("user")
    given = [one.user for one in members if one.user_id == mailing.given_to_id]
    # A person who left the workspace reviews nothing any more.
    return given or [one.user for one in members if Role.REVIEWER in one.roles]
