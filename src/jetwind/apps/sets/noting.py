"""Noting the pieces of a revision when it is checked, and what follows for messages that share them."""

from __future__ import annotations

from django.db import transaction

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of, newest_open
from jetwind.apps.intake.stages import locked_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.review.answers import storable
from jetwind.apps.sets.models import Member, NotedPieces, PieceUse
from jetwind.core.sets import pieces_of, traits_of

#: Raised when the core tells pieces otherwise, so that they are noted anew.
VERSION = 1
#: Messages that are checked again because a piece they share changed elsewhere.
_MOST = 500


def note_pieces(revision: Revision) -> None:
    """Note the pieces and traits of a revision, unless this version has noted them. Safe to run twice.

    Messages that still have a piece which this revision changed are checked again, and so are the signatures of its set.
    """
    if NotedPieces.objects.filter(revision=revision, version=VERSION).exists():
        return
    message = message_of(revision)
    pieces, traits = pieces_of(message), traits_of(message).as_dict()
    with transaction.atomic():
        # The row of the message, so that two workers do not both write the pieces.
        locked_mailing(revision.mailing_id)
        if NotedPieces.objects.filter(revision=revision, version=VERSION).exists():
            return
        NotedPieces.objects.update_or_create(revision=revision, defaults={"version": VERSION, "traits": storable(traits)})
        revision.pieces.all().delete()
        PieceUse.objects.bulk_create(
            PieceUse(revision=revision, kind=piece.kind, digest=piece.digest, words=storable(piece.words), elements=list(piece.elements))
            for piece in {(one.kind, one.digest): one for one in pieces}.values()
        )
        _follow(revision)


def _follow(revision: Revision) -> None:
    if users := users_of_earlier(revision):
        jobs.defer("review.recheck_messages", needs="checks", mailing_ids=users[:_MOST])
    member = Member.objects.filter(mailing=revision.mailing_id).select_related("of").first()
    if member is not None:
        is_model = member.of.model_id == revision.mailing_id
        others = member.of.members.exclude(mailing=None).values_list("mailing", flat=True)
        for number in sorted(others) if is_model else [revision.mailing_id]:
            jobs.defer("approvals.reconsider", mailing_id=number)


def users_of_earlier(revision: Revision) -> list[int]:
    """The numbers of the open messages of the house whose newest revision has a piece that this revision has no more, and the one before it had."""
    before = Revision.objects.filter(mailing=revision.mailing_id, number=revision.number - 1).first()
    if before is None:
        return []
    gone = set(before.pieces.values_list("digest", flat=True)) - set(revision.pieces.values_list("digest", flat=True))
    newest = [one.pk for one in newest_open(revision.mailing.workspace) if one.mailing_id != revision.mailing_id]
    users = PieceUse.objects.filter(digest__in=gone, revision__in=newest) if gone else PieceUse.objects.none()
    return sorted(set(users.values_list("revision__mailing", flat=True)))
