"""Having links opened and pictures fetched, and what persons say of links."""

from __future__ import annotations

from datetime import datetime

from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.links.answering import listing
from jetwind.apps.links.house import keeping_of, wire_of
from jetwind.apps.links.models import LetOpen, SeenByHand, When
from jetwind.apps.review.answers import ask_for_checks
from jetwind.apps.review.questions import is_slow
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.core.links.listing import Destination
from jetwind.engines.bounded import PastBudget

LINKS = "links"
PICTURES = "pictures"


def open_links_of_new_revision(revision: Revision) -> None:
    """Open the links of a new revision where the house says so; pictures come with its renders."""
    if wire_of(revision.mailing.workspace).links == When.ALWAYS:
        ask_for_links(revision)


def ask_for_links(revision: Revision, since: datetime | None = None, only: list[str] | None = None) -> Work:
    """Have the links of a revision opened in the background: those without an answer that holds, or with none since a time."""
    return jobs.start(
        LINKS,
        f"revision:{revision.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer(
            "links.open",
            is_slow=is_slow(revision),
            revision_id=revision.pk,
            work_id=work_id,
            since=since.isoformat() if since else "",
            only=only or [],
        ),
    )


def open_again(user: User, revision: Revision, address: str = "") -> None:
    """Have all links opened again, or one.

    Raises:
        NotAllowed, Refused: not permitted; the house opens none; the message has no such link.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    if wire_of(revision.mailing.workspace).links == When.NEVER:
        raise Refused("This workspace opens no links; Settings, What is opened, says so.")
    if address:
        _refuse_unknown(revision, address)
    ask_for_links(revision, timezone.now(), [address] if address else None)


def fetch_pictures(user: User, revision: Revision) -> None:
    """Have all pictures that lie elsewhere fetched again, and the renders that lack them made anew.

    Raises:
        NotAllowed, Refused: not permitted; the house fetches none.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    if wire_of(revision.mailing.workspace).pictures == When.NEVER:
        raise Refused("This workspace fetches no pictures; Settings, What is opened, says so.")
    jobs.start(
        PICTURES,
        f"revision:{revision.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer(
            "links.fetch_pictures", is_slow=is_slow(revision), revision_id=revision.pk, work_id=work_id, since=timezone.now().isoformat()
        ),
    )


def cancel(user: User, revision: Revision) -> None:
    """Stop opening links after the one that is under way.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    for kind in (LINKS, PICTURES):
        work = jobs.latest(kind, f"revision:{revision.pk}")
        if work is not None and work.is_open:
            jobs.cancel(work)


def let_open(user: User, revision: Revision, address: str) -> None:
    """Open one link that is shut, on a person's word.

    Raises:
        NotAllowed, Refused: not permitted; released; the message has no such link; it is not shut.
    """
    permit(user, "review:look", revision.mailing.workspace)
    destination = _refuse_unknown(revision, address)
    with open_mailing(revision.mailing_id) as mailing:
        if LetOpen.objects.filter(mailing=mailing, address=address).exists():
            return
        if not keeping_of(revision).why_shut(destination):
            raise Refused("This link is opened anyway.")
        LetOpen.objects.create(mailing=mailing, address=address, by=user)
        record("link.let-open", actor=user, mailing=mailing, revision=revision.number, address=address[:300])
        ask_for_links(revision)


def mark_seen(user: User, revision: Revision, address: str, *, seen: bool = True) -> None:
    """Say, or take back, that one opened a link by hand and found it in order.

    Raises:
        NotAllowed, Refused: not permitted; released; the message has no such link.
    """
    permit(user, "review:look", revision.mailing.workspace)
    _refuse_unknown(revision, address)
    with open_mailing(revision.mailing_id) as mailing:
        if seen:
            _, is_new = SeenByHand.objects.get_or_create(mailing=mailing, address=address, defaults={"by": user})
        else:
            is_new = bool(SeenByHand.objects.filter(mailing=mailing, address=address).delete()[0])
        if is_new:
            action = "link.seen" if seen else "link.seen-taken-back"
            record(action, actor=user, mailing=mailing, revision=revision.number, address=address[:300])
            ask_for_checks(revision)


def _refuse_unknown(revision: Revision, address: str) -> Destination:
    try:
        found = next((one for one in listing(revision).destinations if one.address == address), None)
    except PastBudget as past:
        raise Refused(f"The links cannot be listed: {past}.") from past
    if found is None:
        raise Refused("The message has no such link any more.")
    return found
