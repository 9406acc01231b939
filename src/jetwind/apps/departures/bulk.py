"""Acts on many messages of the list at once; what one message refuses keeps none of the others."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.review.services import recheck
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace

#: Messages of one press; characters of a label; labels of a message.
MOST, LONGEST, MOST_LABELS = 200, 30, 10


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
