"""Saying something at a place of a message, answering it, and settling it."""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from django.urls import reverse
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.comments.models import Comment, Thread
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import tell
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.given import typed_lines
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.access import may, permit
from jetwind.core.markup import Document, Element
from jetwind.core.markup.anchor import anchor_of

#: Characters of a comment, open threads of a message, comments of a thread.
LONGEST, MOST_THREADS, MOST_COMMENTS = 2_000, 100, 200


@dataclass(frozen=True, slots=True)
class Place:
    """Where a thread begins; the fields are those of :class:`~jetwind.apps.comments.models.Thread`."""

    kind: Thread.Kind
    station: str
    named: str
    fingerprint: str = ""
    anchor: Mapping[str, Any] | None = None
    profile: str = ""
    left: float | None = None
    top: float | None = None


def anchored(element: Element, document: Document) -> dict[str, Any]:
    """The anchor of an element as the database keeps it, which takes no NUL."""
    return dict(json.loads(json.dumps(anchor_of(element, document).as_json()).replace("\\u0000", "")))


def say(user: User, revision: Revision, place: Place, words: str, told: Collection[int] = ()) -> Thread:
    """Begin a thread. ``told`` are the numbers of the people for whom the comment is meant.

    Raises:
        NotAllowed, Refused: not permitted; released; no words, or too many; as many open threads as a message takes; a person of elsewhere.
    """
    permit(user, "comment:write", revision.mailing.workspace)
    words = _words(words)
    with open_mailing(revision.mailing_id) as mailing:
        people = _people(mailing, told)
        thread = _begin(mailing, revision, place)
        _add(thread, mailing, words, by=user, people=people)
    return thread


def say_from_outside(revision: Revision, place: Place, words: str, said_by: str) -> Thread:
    """Begin a thread with the words of a recipient of a test copy.

    Raises:
        Refused: released; as many open threads as a message takes.
    """
    with open_mailing(revision.mailing_id) as mailing:
        thread = _begin(mailing, revision, place)
        Comment.objects.create(thread=thread, said_by=said_by[:120], words=words[:LONGEST])
    return thread


def answer(user: User, thread: Thread, words: str, told: Collection[int] = ()) -> bool:
    """Add a comment to a thread; a settled one is open again. Returns whether it was settled.

    Raises:
        NotAllowed, Refused: not permitted; released; no words, or too many; as many comments as a thread takes; a person of elsewhere.
    """
    permit(user, "comment:write", thread.mailing.workspace)
    words = _words(words)
    with open_mailing(thread.mailing_id) as mailing:
        people = _people(mailing, told)
        now = Thread.objects.select_for_update(no_key=True, of=("self",)).select_related("revision").get(pk=thread.pk)
        if now.comments.count() >= MOST_COMMENTS:
            raise Refused(f"There are {MOST_COMMENTS} comments here; settle this thread and begin another.")
        was_settled = now.settled_at is not None
        if was_settled:
            _open_again(now, mailing, user)
        _add(now, mailing, words, by=user, people=people)
        if was_settled:
            follows().standing_changed(mailing, user)
    return was_settled


def settle(user: User, thread: Thread) -> None:
    """Say that a thread needs nothing more. A second press changes nothing.

    Raises:
        NotAllowed, Refused: neither a reviewer nor the person who began it; released.
    """
    workspace = thread.mailing.workspace
    permit(user, "comment:write", workspace)
    first = thread.comments.order_by("pk").values_list("by", flat=True).first()
    if first != user.pk and not may(user, "review:look", workspace):
        raise NotAllowed("The person who began this thread settles it, or a reviewer or approver.")
    with open_mailing(thread.mailing_id) as mailing:
        if Thread.objects.filter(pk=thread.pk, settled_at=None).update(settled_at=timezone.now(), settled_by=user):
            record("comment.settled", actor=user, mailing=mailing, place=thread.named)
            follows().standing_changed(mailing, user)


def open_again(user: User, thread: Thread) -> None:
    """Take back that a thread needs nothing more.

    Raises:
        NotAllowed, Refused: not permitted; released; as many open threads as a message takes.
    """
    permit(user, "comment:write", thread.mailing.workspace)
    with open_mailing(thread.mailing_id) as mailing:
        now = Thread.objects.select_for_update(no_key=True).get(pk=thread.pk)
        if now.settled_at is not None:
            _open_again(now, mailing, user)
            follows().standing_changed(mailing, user)


def _open_again(thread: Thread, mailing: Mailing, user: User) -> None:
    _refuse_if_full(mailing)
    thread.settled_at, thread.settled_by = None, None
    thread.save(update_fields=["settled_at", "settled_by"])
    record("comment.opened-again", actor=user, mailing=mailing, place=thread.named)


def _begin(mailing: Mailing, revision: Revision, place: Place) -> Thread:
    _refuse_if_full(mailing)
    return Thread.objects.create(
        mailing=mailing,
        revision=revision,
        kind=place.kind,
        station=place.station,
        fingerprint=place.fingerprint,
        anchor=place.anchor,
        profile=place.profile,
        left=place.left,
        top=place.top,
        named=" ".join(place.named.replace("\0", "").split())[:300],
    )


def _refuse_if_full(mailing: Mailing) -> None:
    if Thread.objects.filter(mailing=mailing, settled_at=None).count() >= MOST_THREADS:
        raise Refused(f"{MOST_THREADS} threads are open on this message; settle some of them first.")


def _add(thread: Thread, mailing: Mailing, words: str, *, by: User, people: Collection[User]) -> None:
    """Add a comment, and tell those for whom it is meant and everybody who spoke before."""
    before = list(User.objects.filter(pk__in=thread.comments.exclude(by=None).values("by")))
    comment = Comment.objects.create(thread=thread, by=by, words=words)
    comment.told.set(people)
    record("comment.made", actor=by, mailing=mailing, place=thread.named, revision=thread.revision.number, words=words)
    path = reverse("thread", args=[thread.pk])
    said = f"{by.shown_name}: {words}"
    tell([one for one in people if one.pk != by.pk], Notice.Kind.MENTIONED, mailing, said, path)
    told = {one.pk for one in people}
    others = [one for one in before if one.pk != by.pk and one.pk not in told]
    tell(others, Notice.Kind.COMMENTED, mailing, said, path)


def _words(words: str) -> str:
    """The words of a person as they are kept.

    Raises:
        Refused: there are none, or too many.
    """
    found = typed_lines(words)
    if not found:
        raise Refused("Say in a few words what your comment is.")
    if len(found) > LONGEST:
        raise Refused(f"The comment has {len(found):,} characters; there is room for {LONGEST:,}.")
    return found


def _people(mailing: Mailing, told: Collection[int]) -> list[User]:
    members = mailing.workspace.memberships.filter(deactivated_at=None, user__is_active=True, user__in=set(told)).select_related("user")
    found = [one.user for one in members]
    if len(found) != len(set(told)):
        raise Refused("Somebody whom the comment is meant for does not belong to this workspace any more; choose again.")
    return found
