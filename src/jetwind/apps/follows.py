"""The calls that follow each event, from top to bottom. No other module has such a list.

An app calls ``follows()`` of ``ui/following.py`` in the transaction of the event. Everything here is done in that transaction: work in the
background is asked for, and is there exactly when the event is.
"""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime

from jetwind.apps.accounts.models import User
from jetwind.apps.approvals.deadlines import remind
from jetwind.apps.approvals.keys import make_missing_keys
from jetwind.apps.approvals.services import void_earlier, void_sent_back
from jetwind.apps.approvals.standing import reconsider, with_signatures_that_end
from jetwind.apps.audit.services import verified
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs import services as jobs
from jetwind.apps.links.services import open_links_of_new_revision
from jetwind.apps.notices.services import mail_daily
from jetwind.apps.previews.services import ask_for_renders, ask_for_renders_of_house
from jetwind.apps.review.answers import ask_for_checks, ask_for_rechecks, recheck_alike, recheck_copies, recheck_planned
from jetwind.apps.workspace.models import Workspace


def revision_added(revision: Revision, user: User) -> None:
    """A message has a new revision, its first or a later one."""
    void_earlier(revision, user)
    ask_for_checks(revision)
    ask_for_renders(revision)
    open_links_of_new_revision(revision)
    recheck_copies(revision.mailing)


def circumstances_changed(revision: Revision) -> None:
    """Details of a message changed, its syntax, or whose copy is measured: its content is what it was, so sign-offs stay."""
    ask_for_checks(revision)
    ask_for_renders(revision)
    open_links_of_new_revision(revision)


def copy_arrived(revision: Revision) -> None:
    """A test copy of a revision arrived and was compared: checks say what differs."""
    ask_for_checks(revision)


def answers_known(mailing: Mailing) -> None:
    """The checks have answered for the newest revision of a message, which is locked by the caller."""
    reconsider(mailing, None)


def standing_changed(mailing: Mailing, user: User) -> None:
    """An excuse or a comment of a message, which is locked by the caller, has changed: signatures rest on excuses, and may wait for comments."""
    reconsider(mailing, user)


def test_send_told(mailing: Mailing) -> None:
    """Something went wrong with a copy of a test send, or its recipient found something wrong."""
    jobs.defer("approvals.reconsider", mailing_id=mailing.pk)


def titles_changed(mailing: Mailing, titles: Collection[str]) -> None:
    """A message has these titles now or had them until now: messages of the same title are told so by a check."""
    recheck_alike(mailing, titles)


def sent_back(revision: Revision, user: User) -> None:
    """A reviewer sent a revision back to its author."""
    void_sent_back(revision, user)


def set_changed(mailings: Collection[int]) -> None:
    """These messages are held against another model than before: signatures rest on what they have otherwise."""
    for number in sorted(mailings):
        jobs.defer("approvals.reconsider", mailing_id=number)


def settings_changed(workspace: Workspace) -> None:
    """Settings of a house, its readers, syntaxes or rulebooks changed: with a reader or a syntax, the copy that is rendered changes."""
    ask_for_rechecks(workspace)
    ask_for_renders_of_house(workspace)
    jobs.defer("approvals.reconsider_house", workspace_id=workspace.pk)


def sign_off_rules_changed(workspace: Workspace) -> None:
    """The rules of sign-off of a house changed: what clears a message is another now."""
    jobs.defer("approvals.reconsider_house", workspace_id=workspace.pk)


def time_passed(since: datetime, until: datetime) -> None:
    """A worker has looked at the clock: planned times have passed, and perhaps a day has begun, with which rulebooks begin and end.

    People are reminded of deadlines. In the morning of its people, those who want so are mailed what waits for them. Every hour the log is verified, and work of long ago is forgotten.
    """
    recheck_planned(since, until)
    remind(since, until)
    mail_daily(since, until)
    if (since.date(), since.hour) != (until.date(), until.hour) or verified() is None:
        jobs.defer("audit.verify_log")
        jobs.defer("jobs.sweep")
        for number in with_signatures_that_end():
            jobs.defer("approvals.reconsider", mailing_id=number)
    if since.date() != until.date():
        for workspace in Workspace.objects.order_by("pk"):
            ask_for_rechecks(workspace)


def machines_changed() -> None:
    """The machines of the workers have other code, dictionaries, fonts or browsers than before; what leaves first comes first."""
    for workspace in Workspace.objects.order_by("pk"):
        ask_for_rechecks(workspace)
        ask_for_renders_of_house(workspace)


def workspace_made(workspace: Workspace) -> None:
    """There is a new house, which has everything that a house needs from the first day."""
    make_missing_keys()


def audience_changed(workspace: Workspace) -> None:
    """A house has its messages rendered in other client profiles than before."""
    ask_for_renders_of_house(workspace)
