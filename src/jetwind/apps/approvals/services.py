"""Signing off, refusing, handing on, releasing, and taking back."""

from __future__ import annotations

import hashlib
from collections.abc import Collection, Mapping
from typing import Any

from django.db import transaction
from django.db.models import Prefetch
from django.urls import reverse
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import Role, roles_for
from jetwind.apps.approvals.clearance import as_bytes, clearance
from jetwind.apps.approvals.models import Release, SignOff
from jetwind.apps.approvals.packaging import ask_for_package
from jetwind.apps.approvals.stand_ins import signing_roles, stand_ins_of
from jetwind.apps.approvals.standing import condition_is_met, is_enough, reconsider, rests_on, signature_facts
from jetwind.apps.audit.services import record
from jetwind.apps.comments.models import Thread
from jetwind.apps.instructions.services import send_back
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.stages import locked_mailing, move, open_mailing
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import settle, tell
from jetwind.apps.review.questions import newest_run
from jetwind.apps.review.readiness import rule_for
from jetwind.apps.review.selectors import Walk, walk_of
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit, roles_of
from jetwind.core.clearing import Facts, digest_of, follows_in_order, of_signatures

#: Characters of a word with a sign-off.
LONGEST_COMMENT = 500
#: Characters of the reason for taking a sign-off or a release back.
LONGEST_REASON = 180


def void_earlier(revision: Revision, user: User) -> None:
    """A new revision voids every sign-off of the mailing and takes its clearance back."""
    _void(revision.mailing, user, f"revision {revision.number} came in")
    settle(revision.mailing, Notice.Kind.ASKED, Notice.Kind.SENT_BACK)
    move(revision.mailing, "new revision", user)


def void_sent_back(revision: Revision, user: User) -> None:
    """Sending back voids the sign-offs."""
    _void(revision.mailing, user, f"revision {revision.number} was sent back")
    settle(revision.mailing, Notice.Kind.ASKED)


def _void(mailing: Mailing, user: User, reason: str) -> None:
    valid = SignOff.objects.filter(mailing=mailing, voided_at=None).select_related("revision")
    for number in sorted({sign_off.revision.number for sign_off in valid}):
        record("approval.voided", actor=user, mailing=mailing, revision=number, reason=reason)
    signers = [one.by for one in valid.select_related("by") if one.by_id != user.pk]
    valid.update(voided_at=timezone.now(), voided_reason=reason[:200])
    tell(signers, Notice.Kind.VOIDED, mailing, reason[:1].upper() + reason[1:] + ".", reverse("newest", args=[mailing.pk]))


def history_of(mailing: Mailing) -> list[Revision]:
    """The revisions of a message as they are now, the newest first, each with what was signed over it."""
    signed = Prefetch("sign_offs", queryset=SignOff.objects.select_related("by", "in_place_of"))
    return list(mailing.revisions.select_related("uploaded_by").prefetch_related(signed).order_by("-number"))


def _valid(revision: Revision, history: list[Revision]) -> list[SignOff]:
    """The sign-offs of a revision that are not void."""
    return [one for other in history if other.pk == revision.pk for one in other.sign_offs.all() if one.voided_at is None]


def blockers(walk: Walk) -> list[str]:
    """The reasons against signing a revision, as sentences; empty where there is none."""
    return [one.words for one in walk.readiness.missing if one.holds]


def has_signed(user: User, revision: Revision, history: list[Revision]) -> bool:
    """Whether a person's sign-off of a revision is valid."""
    return any(one.by_id == user.pk for one in _valid(revision, history))


def why_not_sign(user: User, walk: Walk, history: list[Revision] | None = None) -> str | None:
    """Why this person cannot sign this revision now, or None where they can. ``history`` as ``history_of`` gives it, where it is known."""
    revision = walk.revision
    if revision.mailing.is_locked:
        return "The message is released and locked."
    history = history_of(revision.mailing) if history is None else history
    if user.pk == revision.uploaded_by_id:
        return "You uploaded this revision; somebody else signs it."
    if user.pk in {other.uploaded_by_id for other in history}:
        return "You uploaded a revision of this message; somebody else signs it."
    if has_signed(user, revision, history):
        return "You have signed this revision."
    found = blockers(walk)
    rule = rule_for(revision.mailing)
    if rule.in_order:
        given = [one for one in signature_facts(revision, rule)["signatures"] if not one.waits_for]
        if others_first := follows_in_order(rule, given, signing_roles(user, revision.mailing.workspace).roles):
            found.append(others_first)
    return " ".join(found) if found else None


def sign(user: User, revision: Revision, comment: str = "", condition: str = "") -> SignOff:
    """Say yes to exactly this content. Signatures that fill the rule of sign-off clear the message.

    ``condition`` is empty, or ``finding:`` with a fingerprint, or ``comment:`` with the number of a thread: the signature counts once the
    finding is excused or gone, or once the comment is settled. A new revision voids such a signature like any other.

    Raises:
        NotAllowed, Refused: not permitted; own upload; something is missing; an old revision; released; signed already; no such condition.
    """
    workspace = revision.mailing.workspace
    permit(user, "approval:sign", workspace)
    comment = " ".join(comment.split())
    if len(comment) > LONGEST_COMMENT:
        raise Refused(f"A word with a sign-off has at most {LONGEST_COMMENT} characters; this one has {len(comment):,}.")
    taken = refusing("one_valid_sign_off_a_person", "You have signed this revision a moment ago.")
    with taken, open_mailing(revision.mailing_id) as mailing:
        reconsider(mailing, user)
        revision = _as_it_is(revision)
        if reason := why_not_sign(user, walk_of(revision)):
            raise Refused(reason)
        grounds = rests_on(revision)
        wanted = _condition(revision, condition) if condition else {}
        made = _said(user, revision, comment=comment, condition=wanted, rests=grounds, rests_sha256=digest_of(grounds))
        told: dict[str, Any] = {"condition": made.condition["words"]} if made.condition else {}
        signed: dict[str, Any] = {"revision": revision.number, "content": revision.content_sha256, "rests": made.rests_sha256}
        record("approval.signed", actor=user, mailing=mailing, **(signed | told))
        _follow(mailing, revision, user)
    return made


def _said(user: User, revision: Revision, **more: Any) -> SignOff:
    """A person's word over exactly this content, under the roles that the person has now."""
    under = signing_roles(user, revision.mailing.workspace)
    return SignOff.objects.create(
        mailing=revision.mailing,
        revision=revision,
        content_sha256=revision.content_sha256,
        by=user,
        role=(Role.APPROVER if Role.APPROVER in under.roles else Role.REVIEWER).value,
        roles=sorted(under.roles),
        in_place_of=under.in_place_of,
        **more,
    )


def _follow(mailing: Mailing, revision: Revision, user: User) -> None:
    """What follows a signature, or a condition that is met: the message is cleared, or others are asked."""
    if is_enough(revision):
        settle(mailing, Notice.Kind.ASKED, Notice.Kind.GIVEN, Notice.Kind.DEADLINE)
        move(mailing, "cleared", user, revision=revision.number, content=revision.content_sha256)
    else:
        move(mailing, "signed", user)
        settle(mailing, Notice.Kind.ASKED, user=user)
        _ask_others(revision, user)


def _condition(revision: Revision, given: str) -> dict[str, Any]:
    """The condition of a signature as it is kept.

    Raises:
        Refused: there is no such finding or comment, or it is settled already.
    """
    kind, _, name = given.partition(":")
    made: dict[str, Any] = {}
    if kind == "finding" and (run := newest_run(revision)) is not None:
        found = run.findings.filter(fingerprint=name).first()
        if found is not None:
            names = sorted({found.fingerprint, found.cause, *found.members} - {""})
            made = {"kind": kind, "name": name, "names": names, "words": f"this is mended or excused: {found.sentence}"[:400]}
    elif kind == "comment" and name.isascii() and name.isdigit() and len(name) < 10:
        thread = Thread.objects.filter(pk=int(name), mailing_id=revision.mailing_id).first()
        if thread is not None:
            made = {"kind": kind, "name": thread.pk, "words": f"the comment at {thread.named} is settled"[:400]}
    if not made:
        raise Refused("The finding or comment of your condition is not there any more; load the page again.")
    if condition_is_met(revision, made):
        raise Refused("Your condition is met already; sign without it.")
    return made


def refuse(user: User, revision: Revision, reason: str) -> SignOff:
    """Say no, with reasons: the message goes back to its author, and the refusal stands in the line of revisions.

    Raises:
        NotAllowed, Refused: not permitted; own upload; released; not the newest revision; no reasons, or too many words.
    """
    workspace = revision.mailing.workspace
    permit(user, "approval:sign", workspace)
    reason = reason.strip()
    if not reason:
        raise Refused("Say in a sentence why you refuse, so that the author knows what to change.")
    if len(reason) > LONGEST_COMMENT:
        raise Refused(f"The reasons have at most {LONGEST_COMMENT} characters; these have {len(reason):,}.")
    with open_mailing(revision.mailing_id) as mailing:
        revision = _as_it_is(revision)
        if Revision.objects.filter(mailing=mailing, uploaded_by=user).exists():
            raise Refused("You uploaded a revision of this message; bring a new one instead.")
        now = timezone.now()
        # A person who signed before takes that signature back by refusing.
        revision.sign_offs.filter(by=user, voided_at=None).update(voided_at=now, voided_reason="refused later")
        words = " ".join(reason.split())[:LONGEST_COMMENT]
        made = _said(user, revision, said=SignOff.Said.REFUSED, comment=words, voided_at=now, voided_reason="refused")
        record("approval.refused", actor=user, mailing=mailing, revision=revision.number, reason=made.comment)
        send_back(user, revision, reason)
    return made


def hand_on(user: User, revision: Revision, to: User, words: str = "") -> None:
    """Ask somebody else of one's own role to sign, in one's place.

    Raises:
        NotAllowed, Refused: not permitted; released; signed already; a person who does not sign, has no role in common, uploaded a revision or signed.
    """
    workspace = revision.mailing.workspace
    permit(user, "approval:sign", workspace)
    words = " ".join(words.split())
    if len(words) > LONGEST_REASON:
        raise Refused(f"Your words have at most {LONGEST_REASON} characters; these have {len(words):,}.")
    with open_mailing(revision.mailing_id) as mailing:
        revision = _as_it_is(revision)
        if revision.sign_offs.filter(by=user, voided_at=None).exists():
            raise Refused("You have signed this revision; take your sign-off back first.")
        if to not in others_for(user, revision):
            raise Refused(f"{to.shown_name} cannot sign this revision in your place; choose another person.")
        record("approval.handed-on", actor=user, mailing=mailing, revision=revision.number, to=to.shown_name)
        settle(mailing, Notice.Kind.ASKED, user=user)
        asked = f"{user.shown_name} hands the sign-off of revision {revision.number} on to you{f': {words}' if words else '.'}"
        tell([to], Notice.Kind.ASKED, mailing, asked, _path_of(revision))


def others_for(user: User, revision: Revision) -> list[User]:
    """The people to whom a person may hand the sign-off of a revision on: they share a role with the person and may sign it."""
    workspace = revision.mailing.workspace
    own = roles_of(user, workspace) & {role.value for role in roles_for("approval:sign")}
    return [one for one in _may_sign(revision, own) if one.pk != user.pk]


def _may_sign(revision: Revision, roles: Collection[str]) -> list[User]:
    """The people with one of these roles who uploaded no revision of the message and have not signed this one."""
    uploaded = Revision.objects.filter(mailing=revision.mailing).values("uploaded_by")
    signed = revision.sign_offs.filter(voided_at=None).values("by")
    members = revision.mailing.workspace.memberships.filter(roles__overlap=list(roles), deactivated_at=None, user__is_active=True)
    return [one.user for one in members.exclude(user__in=uploaded).exclude(user__in=signed).select_related("user").order_by("pk")]


def take_back(user: User, revision: Revision, reason: str = "") -> SignOff:
    """Take one's own sign-off back, before the release. A message that was cleared by it is under review again.

    A person who does not sign here any more may take back what they signed before.

    Raises:
        NotAllowed, Refused: no member; released; there is no such sign-off; the reason is too long.
    """
    permit(user, "mailing:view", revision.mailing.workspace)
    reason = " ".join(reason.split())
    if len(reason) > LONGEST_REASON:
        raise Refused(f"A reason has at most {LONGEST_REASON} characters; this one has {len(reason):,}.")
    with open_mailing(revision.mailing_id) as mailing:
        revision = _as_it_is(revision)
        found = SignOff.objects.filter(revision=revision, by=user, voided_at=None).first()
        if found is None:
            raise Refused(f"You have no sign-off of revision {revision.number} that you could take back.")
        found.voided_at, found.voided_reason = timezone.now(), f"taken back: {reason}" if reason else "taken back"
        found.save(update_fields=["voided_at", "voided_reason"])
        record("approval.taken-back", actor=user, mailing=mailing, revision=revision.number, reason=reason or "no reason given")
        if mailing.stage == Mailing.Stage.CLEARED and not is_enough(revision):
            move(mailing, "sign-off taken back", user)
        if not _valid_of(revision):
            # As before anybody signed: nobody is asked for a second sign-off.
            settle(mailing, Notice.Kind.ASKED)
        elif mailing.stage != Mailing.Stage.CLEARED:
            _ask_others(revision, user)
    return found


def _valid_of(revision: Revision) -> list[SignOff]:
    return list(revision.sign_offs.filter(voided_at=None).select_related("by"))


def _path_of(revision: Revision) -> str:
    """The page to which a mail or a notice leads that asks for a sign-off."""
    return reverse("approve", args=[revision.mailing_id, revision.number])


def _ask_others(revision: Revision, user: User) -> None:
    """Tell the people whose signature comes next by the rule, but for the person who acts; stand-ins of those who are away, too."""
    mailing = revision.mailing
    turns = {one.turn for one in _missing_signatures(revision)} or {Role.APPROVER.value}
    asked = [one for one in _may_sign(revision, turns) if one.pk != user.pk]
    away = revision.mailing.workspace.memberships.filter(roles__overlap=list(turns), deactivated_at=None).select_related("user")
    may_sign = {one.pk for one in _may_sign(revision, [role.value for role in roles_for("approval:sign")])}
    asked += [one for one in stand_ins_of((one.user for one in away), mailing.workspace) if one.pk in may_sign and one.pk != user.pk]
    signers = " and ".join(one.by.shown_name for one in _valid_of(revision))
    words = f"{signers} signed revision {revision.number}; it needs another sign-off."
    tell(asked, Notice.Kind.ASKED, mailing, words, _path_of(revision))


def _missing_signatures(revision: Revision) -> list[Any]:
    rule = rule_for(revision.mailing)
    facts: Mapping[str, Any] = signature_facts(revision, rule)
    return [one for one in of_signatures(rule, Facts(stage=revision.mailing.stage, **facts)) if one.turn]


def _as_it_is(revision: Revision) -> Revision:
    """The revision read again under the lock: what was read along with it for a page may have changed meanwhile."""
    return Revision.objects.select_related("mailing__workspace", "mailing__syntax", "uploaded_by").get(pk=revision.pk)


def release(user: User, revision: Revision) -> Release:
    """Lock the mailing with its clearance record.

    Raises:
        NotAllowed, Refused: not permitted; something is missing; released already.
    """
    permit(user, "approval:release", revision.mailing.workspace)
    try:
        with refusing("one_release_in_force", "Somebody released this message a moment ago; it cannot go out twice."):
            return _released(user, revision)
    except _Held as held:
        record("approval.held", actor=user, mailing=revision.mailing, revision=revision.number, missing=held.sentence)
        raise Refused(held.sentence) from None


class _Held(Refused):
    """Something is missing, which the log is told once the transaction is undone."""


def _released(user: User, revision: Revision) -> Release:
    mailing = locked_mailing(revision.mailing_id)
    if mailing.is_locked:
        raise Refused(f"“{mailing.title}” is released already; it cannot go out twice.")
    reconsider(mailing, user)
    revision = _as_it_is(revision)
    walk = walk_of(revision)
    if missing := [one.words for one in walk.readiness.missing if one.holds or not is_enough(revision)]:
        raise _Held(" ".join(missing))
    if mailing.stage != Mailing.Stage.CLEARED:
        raise _Held("The message is not cleared yet.")
    now = timezone.now()
    content = clearance(walk, user, now.isoformat())
    made = Release.objects.create(
        mailing=mailing,
        revision=revision,
        record=content,
        record_sha256=hashlib.sha256(as_bytes(content)).hexdigest(),
        by=user,
        at=now,
    )
    move(mailing, "released", user, revision=revision.number, record=made.record_sha256)
    ask_for_package(made)
    return made


def take_release_back(user: User, mailing: Mailing, reason: str) -> Release:
    """Take a release back before the planned time: the message is cleared, as it was before, and may change again.

    Raises:
        NotAllowed, Refused: not permitted; not released; its planned time has come; no reason, or too long a one.
    """
    permit(user, "approval:release", mailing.workspace)
    reason = " ".join(reason.split())
    if len(reason) < 4:
        raise Refused("A release is taken back with a reason that a colleague will understand.")
    if len(reason) > LONGEST_REASON:
        raise Refused(f"A reason has at most {LONGEST_REASON} characters; this one has {len(reason):,}.")
    with transaction.atomic():
        mailing = locked_mailing(mailing.pk)
        found = Release.objects.filter(mailing=mailing, taken_back_at=None).select_related("revision").first()
        if not mailing.is_locked or found is None:
            raise Refused(f"“{mailing.title}” is not released, so that there is nothing to take back.")
        now = timezone.now()
        if mailing.planned_at is not None and mailing.planned_at <= now:
            raise Refused("The planned time has come, so that the message may have left; a release is taken back before that time.")
        found.taken_back_by, found.taken_back_at, found.taken_back_because = user, now, reason
        found.save(update_fields=["taken_back_by", "taken_back_at", "taken_back_because"])
        move(mailing, "release taken back", user, revision=found.revision.number, reason=reason)
        # What a signature rests on may have changed while the message was locked.
        reconsider(mailing, user)
        signers = [one.by for one in _valid_of(found.revision) if one.by_id != user.pk]
        tell(signers, Notice.Kind.VOIDED, mailing, f"{user.shown_name} took the release back: {reason}", _path_of(found.revision))
    return found
