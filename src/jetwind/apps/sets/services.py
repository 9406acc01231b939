"""Making sets, saying which messages they expect, choosing the model, and excusing one cause for all members."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager

from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.review import services as review
from jetwind.apps.sets.models import Member, MessageSet
from jetwind.apps.sets.selectors import causes_of, findings_of, rows_of
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import Workspace

#: Characters of a name, members of a set, sets of a workspace.
LONGEST, MOST_MEMBERS, MOST_SETS = 80, 40, 100


def make_set(user: User, workspace: Workspace, name: str, expected: Sequence[str]) -> MessageSet:
    """A new set that expects messages with these names.

    Raises:
        NotAllowed, Refused: not permitted; no name, or a long one, or one that is taken; as many sets as a workspace takes; too many members.
    """
    permit(user, "mailing:change", workspace)
    name = _name(name, "set")
    names = _names(expected, [])
    with transaction.atomic(), refusing("one_set_of_a_name", f"There is a set “{name}” already."):
        if MessageSet.objects.filter(workspace=workspace).count() >= MOST_SETS:
            raise Refused(f"This workspace has {MOST_SETS} sets; remove one first.")
        made = MessageSet.objects.create(workspace=workspace, name=name, created_by=user)
        Member.objects.bulk_create(Member(of=made, name=one) for one in names)
        record("set.made", actor=user, house=workspace.pk, name=name, expected=", ".join(names) or "nothing yet")
    return made


def expect(user: User, shown: MessageSet, expected: Sequence[str]) -> int:
    """Expect further messages in a set; returns how many are new.

    Raises:
        NotAllowed, Refused: not permitted; no name, a long one or one that is taken; too many members.
    """
    with _open(user, shown) as locked:
        names = _names(expected, list(locked.members.values_list("name", flat=True)))
        if not names:
            raise Refused("Type the name of a message that the set is to have; each name on a line of its own.")
        Member.objects.bulk_create(Member(of=locked, name=one) for one in names)
        _told(user, locked, f"it expects {', '.join(names)}")
    return len(names)


def put_in(user: User, member: Member, mailing: Mailing | None) -> None:
    """Say which message an expected member is; None takes the message out, and the member is missing again.

    Raises:
        NotAllowed, Refused: not permitted; a message of elsewhere, or of a set already; somebody else chose one meanwhile.
    """
    with (
        _open(user, member.of) as locked,
        refusing("sets_member_mailing_id_key", "This message belongs to a set already; take it out there first."),
    ):
        now = Member.objects.select_for_update(no_key=True, of=("self",)).select_related("mailing").get(pk=member.pk)
        if now.mailing_id != member.mailing_id:
            raise Refused(f"Somebody else changed “{now.name}” a moment ago; load the page again.")
        if mailing is not None and mailing.workspace_id != locked.workspace_id:
            raise Refused("This message is none of the workspace’s.")
        if mailing is not None and Member.objects.filter(mailing=mailing).exclude(pk=now.pk).exists():
            raise Refused(f"“{mailing.title}” belongs to a set already; take it out there first.")
        before, now.mailing = now.mailing, mailing
        now.save(update_fields=["mailing"])
        what = f"“{now.name}” is “{mailing.title}”" if mailing is not None else f"“{now.name}” is missing again"
        _told(user, locked, what)
        if before is not None and locked.model_id == before.pk:
            locked.model = None
            locked.save(update_fields=["model"])
        elif mailing is not None:
            follows().set_changed([mailing.pk])


def forget(user: User, member: Member) -> None:
    """Expect a message no more.

    Raises:
        NotAllowed, Refused: not permitted; a message is there.
    """
    with _open(user, member.of) as locked:
        if not locked.members.filter(pk=member.pk, mailing=None).delete()[0]:
            raise Refused(f"“{member.name}” has a message; take the message out first.")
        _told(user, locked, f"it expects “{member.name}” no more")


def choose_model(user: User, shown: MessageSet, mailing_id: int) -> None:
    """Say which member the others are held against. Signatures that rest on what a member has otherwise are considered anew.

    Raises:
        NotAllowed, Refused: not permitted; no member of the set.
    """
    with _open(user, shown) as locked:
        member = locked.members.select_related("mailing").filter(mailing=mailing_id).first()
        if member is None or member.mailing is None:
            raise Refused("The model is a message of the set; load the page again.")
        if locked.model_id == mailing_id:
            return
        locked.model = member.mailing
        locked.save(update_fields=["model"])
        _told(user, locked, f"the model is “{member.name}”")
        others = locked.members.exclude(mailing=None).values_list("mailing", flat=True)
        follows().set_changed([number for number in others if number is not None])


def remove_set(user: User, shown: MessageSet) -> None:
    """Remove a set; its messages stay.

    Raises:
        NotAllowed: not permitted.
    """
    with _open(user, shown) as locked:
        record("set.removed", actor=user, house=locked.workspace_id, name=locked.name)
        locked.delete()


def excuse_in_all(user: User, shown: MessageSet, check_id: str, fingerprint: str, reason: str) -> int:
    """Excuse one cause in every member that has it open and is not released; returns the number of excuses. Either all are made or none.

    Raises:
        NotAllowed, Refused: not permitted; no such cause, or nothing of it open; no reason.
    """
    permit(user, "review:excuse", shown.workspace)
    with _open(user, shown, "review:excuse") as locked:
        rows = rows_of(locked)
        for shown_cause in causes_of(rows, findings_of(rows)):
            findings = shown_cause.cause.findings
            if shown_cause.is_open and any((one.check, one.fingerprint) == (check_id, fingerprint) for one in findings):
                # What is released stays as it was said. In the order of the messages, as everywhere: they are locked one after the other.
                members = [row.revision for row in shown_cause.members if row.revision is not None and not row.revision.mailing.is_locked]
                revisions = {one.pk: one for one in members}
                ordered = sorted((one for one in findings if one.member in revisions), key=lambda one: revisions[one.member].mailing_id)
                return sum(_excused(user, revisions[one.member], one.fingerprint, reason) for one in ordered)
        raise Refused("This finding is open in no message of the set any more; load the page again.")


def _excused(user: User, revision: Revision, fingerprint: str, reason: str) -> bool:
    """Whether an excuse was made; a finding that is excused already needs none."""
    if review.is_excused(revision, fingerprint):
        return False
    review.excuse(user, revision, fingerprint, reason, only_this_revision=False)
    return True


@contextmanager
def _open(user: User, shown: MessageSet, permission: str = "mailing:change") -> Iterator[MessageSet]:
    """The set as it is now, locked to the end of the transaction.

    Raises:
        NotAllowed, Refused: not permitted; the set is gone.
    """
    permit(user, permission, shown.workspace)
    with transaction.atomic():
        locked = MessageSet.objects.select_for_update(no_key=True, of=("self",)).select_related("workspace").filter(pk=shown.pk).first()
        if locked is None:
            raise Refused(f"Somebody removed the set “{shown.name}” a moment ago.")
        yield locked


def _told(user: User, shown: MessageSet, what: str) -> None:
    record("set.changed", actor=user, house=shown.workspace_id, name=shown.name, what=what)


def _name(text: str, what: str) -> str:
    name = " ".join(text.replace("\0", "").split())
    if not name or len(name) > LONGEST:
        raise Refused(f"The name of a {what} has 1 to {LONGEST} characters.")
    return name


def _names(expected: Sequence[str], known: Sequence[str]) -> list[str]:
    """The names that are new, each once, in their order."""
    names = [_name(one, "message") for one in expected if one.strip()]
    new = [one for one in dict.fromkeys(names) if one not in known]
    if len(known) + len(new) > MOST_MEMBERS:
        raise Refused(f"A set has at most {MOST_MEMBERS} messages; this one would have {len(known) + len(new)}.")
    return new
