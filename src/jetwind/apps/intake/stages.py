"""The stages of a message: which move leads from where to where, who makes it, and what the log says. Nothing else sets a stage.

Every change of a message is made under :func:`open_mailing`: two people who change the same message wait for one another, and a released
message takes nothing more.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Mailing
from jetwind.apps.ui.refusal import Refused

Stage = Mailing.Stage


@dataclass(frozen=True, slots=True)
class Move:
    """One move. ``permission`` is that of the act that makes it; ``action`` names its entry in the log, empty for none."""

    begins: frozenset[Stage]
    ends: Stage
    permission: str
    action: str


#: Every move there is. A message that stands where a move ends already stays there, and the log says nothing.
MOVES = {
    "looked at": Move(frozenset({Stage.TAKEN_IN}), Stage.UNDER_REVIEW, "review:look", "review.started"),
    "new revision": Move(frozenset({Stage.CLEARED, Stage.SENT_BACK}), Stage.UNDER_REVIEW, "mailing:change", ""),
    "sent back": Move(frozenset({Stage.TAKEN_IN, Stage.UNDER_REVIEW, Stage.CLEARED, Stage.SENT_BACK}), Stage.SENT_BACK, "review:send-back", "review.sent-back"),
    "signed": Move(frozenset({Stage.TAKEN_IN, Stage.SENT_BACK}), Stage.UNDER_REVIEW, "approval:sign", ""),
    "cleared": Move(frozenset({Stage.TAKEN_IN, Stage.UNDER_REVIEW, Stage.SENT_BACK}), Stage.CLEARED, "approval:sign", "approval.cleared"),
    "sign-off taken back": Move(frozenset({Stage.CLEARED}), Stage.UNDER_REVIEW, "approval:sign", ""),
    "sign-off void": Move(frozenset({Stage.CLEARED}), Stage.UNDER_REVIEW, "approval:sign", ""),
    "released": Move(frozenset({Stage.CLEARED}), Stage.RELEASED, "approval:release", "approval.released"),
    "release taken back": Move(frozenset({Stage.RELEASED}), Stage.CLEARED, "approval:release", "approval.release-taken-back"),
}  # fmt: skip


@contextmanager
def open_mailing(mailing_id: int) -> Iterator[Mailing]:
    """A transaction in which a message is locked against everybody else, as it stands now.

    Raises:
        Refused: the message is released.
    """
    with transaction.atomic():
        mailing = locked_mailing(mailing_id)
        refuse_if_locked(mailing)
        yield mailing


def locked_mailing(mailing_id: int) -> Mailing:
    """A message as it stands now, released or not, locked against everybody else until the caller's transaction ends."""
    return Mailing.objects.select_for_update(no_key=True, of=("self",)).select_related("workspace").get(pk=mailing_id)


def refuse_if_locked(mailing: Mailing) -> None:
    """Go on only while the mailing is not released.

    Raises:
        Refused: it is.
    """
    if mailing.is_locked:
        raise Refused(f"“{mailing.title}” is released and locked; start a copy to go on from it.")


def move(mailing: Mailing, name: str, actor: User | None, **told: Any) -> None:
    """Make a move with a message that is locked, and log it. From where the move does not begin, the message stays where it is.

    ``told`` is what the entry of the log says besides.
    """
    made = MOVES[name]
    if Stage(mailing.stage) not in made.begins:
        return
    mailing.stage = made.ends
    mailing.save(update_fields=["stage"])
    if made.action:
        record(made.action, actor=actor, mailing=mailing, **told)
