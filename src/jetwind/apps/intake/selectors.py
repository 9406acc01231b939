"""Reading mailings and revisions."""

from __future__ import annotations

from functools import lru_cache

from django.db.models import QuerySet
from django.http import Http404

from jetwind.apps.accounts.models import User
from jetwind.apps.blobs import store
from jetwind.apps.intake.known import facts
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.workspace.access import workspace_of
from jetwind.apps.workspace.models import Workspace
from jetwind.core.fields import Syntax
from jetwind.core.message import Envelope, Message, read_bytes


def mailing_for(user: User, mailing_id: int) -> Mailing:
    """A mailing of the person's workspace.

    Raises:
        Http404: there is none with this number there.
    """
    mailing = (
        Mailing.objects.select_related("workspace", "copied_from", "created_by").filter(pk=mailing_id, workspace=workspace_of(user)).first()
    )
    if mailing is None:
        raise Http404("no such mailing")
    return mailing


def revision_for(user: User, mailing_id: int, number: int | None = None) -> Revision:
    """A revision by number, or the newest.

    Raises:
        Http404: there is none.
    """
    found = _with_what_is_known().filter(mailing_id=mailing_id, mailing__workspace=workspace_of(user))
    revision = found.order_by("number").last() if number is None else found.filter(number=number).first()
    if revision is None:
        raise Http404("no such revision")
    return revision


@lru_cache(maxsize=1)
def _with_what_is_known() -> QuerySet[Revision]:
    """Revisions with all that a page of one shows. Put together once: that takes longer than the database does to answer."""
    found = Revision.objects.select_related(
        "uploaded_by", "mailing__workspace", "mailing__copied_from__syntax", "mailing__created_by", "mailing__syntax"
    )
    return found.annotate(**{fact.name: fact.expression() for fact in facts})


def newest_open(workspace: Workspace) -> list[Revision]:
    """The newest revision of every message of a workspace that has not been released; what leaves first in front."""
    newest = (
        Revision.objects.filter(mailing__workspace=workspace)
        .exclude(mailing__stage=Mailing.Stage.RELEASED)
        .select_related("mailing__syntax")
        .order_by("mailing_id", "-number")
        .distinct("mailing_id")
    )
    for one in newest:
        one.mailing.workspace = workspace
    never = float("inf")
    return sorted(newest, key=lambda one: (one.mailing.planned_at.timestamp() if one.mailing.planned_at else never, -one.mailing_id))


def message_of(revision: Revision) -> Message:
    """The parsed message of a revision, its fields read in the message's own syntax."""
    return _parsed(revision.source_sha256, revision.file_name, revision.given_envelope, revision.mailing.field_syntax)


def numbered(revision_id: int) -> Revision:
    """A revision with what it is read by, for background work: access was checked when the work was asked for."""
    return Revision.objects.select_related("mailing__workspace", "mailing__syntax").get(pk=revision_id)


def message_numbered(revision_id: int) -> Message:
    """The parsed message of a revision, for background work."""
    return message_of(numbered(revision_id))


@lru_cache(maxsize=8)
def _parsed(digest: str, file_name: str, envelope: Envelope | None, syntax: Syntax) -> Message:
    # Content never changes under its digest, so a parsed message may be kept; few, because trees are large.
    return read_bytes(store.fetch(digest), file_name, envelope=envelope, syntax=syntax)
