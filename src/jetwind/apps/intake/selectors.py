"""Reading mailings and revisions."""

from __future__ import annotations

from functools import lru_cache

from django.db.models import OuterRef, Subquery
from django.http import Http404

from jetwind.apps.accounts.models import User
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.workspace.access import workspace_of
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
    newest = Revision.objects.filter(mailing=OuterRef("mailing_id")).order_by("-number").values("number")[:1]
    found = Revision.objects.select_related("uploaded_by", "mailing__workspace", "mailing__copied_from", "mailing__created_by").filter(
        mailing_id=mailing_id, mailing__workspace=workspace_of(user)
    )
    found = found.annotate(newest_number=Subquery(newest))
    revision = found.order_by("number").last() if number is None else found.filter(number=number).first()
    if revision is None:
        raise Http404("no such revision")
    return revision


def message_of(revision: Revision) -> Message:
    """The parsed message of a revision."""
    return _parsed(revision.source_sha256, revision.file_name, revision.given_envelope)


@lru_cache(maxsize=8)
def _parsed(digest: str, file_name: str, envelope: Envelope | None) -> Message:
    # Content never changes under its digest, so a parsed message may be kept; few, because trees are large.
    return read_bytes(store.fetch(digest), file_name, envelope=envelope)
