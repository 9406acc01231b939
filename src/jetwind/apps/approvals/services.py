"""Signing off, voiding, releasing."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from django.db.models import Prefetch
from django.urls import reverse
from django.utils import timezone

from jetwind import __version__
from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import Role
from jetwind.apps.approvals.models import Release, SignOff
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.stages import locked_mailing, move, open_mailing
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import settle, tell
from jetwind.apps.review.models import Excuse
from jetwind.apps.review.selectors import Walk, in_force_for, walk_of
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit, roles_of
from jetwind.core.message import Message

#: Characters of a word with a sign-off.
LONGEST_COMMENT = 500
#: Characters of the reason for taking a sign-off back.
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
    signed = Prefetch("sign_offs", queryset=SignOff.objects.select_related("by"))
    return list(mailing.revisions.select_related("uploaded_by").prefetch_related(signed).order_by("-number"))


def _valid(revision: Revision, history: list[Revision]) -> list[SignOff]:
    """The sign-offs of a revision that are not void."""
    return [one for other in history if other.pk == revision.pk for one in other.sign_offs.all() if one.voided_at is None]


def blockers(walk: Walk, history: list[Revision]) -> list[str]:
    """The reasons against clearing a revision, as sentences; empty where there is none."""
    found = []
    newest = history[0] if history else None
    if newest is not None and newest.pk != walk.revision.pk:
        found.append(f"Revision {newest.number} is newer.")
    if walk.run is None:
        found.append("The checks have not run yet.")
    elif walk.is_stale:
        found.append(
            "Circumstances have changed since the checks ran. The checks are run again in the background; you can sign as soon as they are done."
        )
    if walk.stops:
        found.append("1 stop is open." if walk.stops == 1 else f"{walk.stops} stops are open.")
    if names := walk.holding_stations:
        stations = "1 station was" if len(names) == 1 else f"{len(names)} stations were"
        found.append(f"{stations} not looked at: {', '.join(names)}.")
    if open_comments := walk.holding_comments:
        found.append("1 comment is open." if open_comments == 1 else f"{open_comments} comments are open.")
    return found


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
    found = blockers(walk, history)
    return " ".join(found) if found else None


def sign(user: User, revision: Revision, comment: str = "") -> SignOff:
    """Say yes to exactly this content. Enough sign-offs, an approver's among them, clear the message.

    Raises:
        NotAllowed, Refused: not permitted; own upload; open stops; an old revision; released; signed already.
    """
    workspace = revision.mailing.workspace
    permit(user, "approval:sign", workspace)
    comment = " ".join(comment.split())
    if len(comment) > LONGEST_COMMENT:
        raise Refused(f"A word with a sign-off has at most {LONGEST_COMMENT} characters; this one has {len(comment):,}.")
    taken = refusing("one_valid_sign_off_a_person", "You have signed this revision a moment ago.")
    with taken, open_mailing(revision.mailing_id) as mailing:
        revision = _as_it_is(revision)
        if reason := why_not_sign(user, walk_of(revision)):
            raise Refused(reason)
        role = Role.APPROVER if Role.APPROVER in roles_of(user, workspace) else Role.REVIEWER
        made = SignOff.objects.create(
            mailing=mailing,
            revision=revision,
            content_sha256=revision.content_sha256,
            by=user,
            role=role.value,
            comment=comment,
        )
        record("approval.signed", actor=user, mailing=mailing, revision=revision.number, content=revision.content_sha256)
        if is_enough(revision):
            settle(mailing, Notice.Kind.ASKED)
            move(mailing, "cleared", user, revision=revision.number, content=revision.content_sha256)
        else:
            move(mailing, "signed", user)
            settle(mailing, Notice.Kind.ASKED, user=user)
            _ask_others(revision, user)
    return made


def take_back(user: User, revision: Revision, reason: str = "") -> SignOff:
    """Take one's own sign-off back, before the release. A message that was cleared by it is under review again.

    Raises:
        NotAllowed, Refused: not permitted; released; there is no such sign-off; the reason is too long.
    """
    permit(user, "approval:sign", revision.mailing.workspace)
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


def _ask_others(revision: Revision, user: User) -> None:
    """Tell the approvers who may still sign, but for the person who acts, that a message needs another sign-off."""
    mailing = revision.mailing
    uploaded = Revision.objects.filter(mailing=mailing).values("uploaded_by")
    signed = revision.sign_offs.filter(voided_at=None).values("by")
    approvers = mailing.workspace.memberships.filter(roles__contains=[Role.APPROVER.value], deactivated_at=None)
    others = approvers.exclude(user__in=uploaded).exclude(user__in=signed).exclude(user=user).select_related("user")
    signers = " and ".join(one.by.shown_name for one in _valid_of(revision))
    words = f"{signers} signed revision {revision.number}; it needs another sign-off."
    tell(
        [one.user for one in others], Notice.Kind.ASKED, mailing, words, reverse("station", args=[mailing.pk, revision.number, "sign-off"])
    )


def _as_it_is(revision: Revision) -> Revision:
    """The revision read again under the lock: what was read along with it for a page may have changed meanwhile."""
    return Revision.objects.select_related("mailing__workspace", "uploaded_by").get(pk=revision.pk)


def is_enough(revision: Revision, history: list[Revision] | None = None) -> bool:
    """Whether the valid sign-offs over this exact content clear it: as many as the house asks, one from an approver."""
    history = history_of(revision.mailing) if history is None else history
    valid = [sign_off for sign_off in _valid(revision, history) if sign_off.content_sha256 == revision.content_sha256]
    return len(valid) >= revision.mailing.workspace.sign_offs_required and any(sign_off.role == Role.APPROVER.value for sign_off in valid)


def release(user: User, revision: Revision) -> Release:
    """Lock the mailing with its clearance record.

    Raises:
        NotAllowed, Refused: not permitted; not cleared; a stop opened since; released already.
    """
    permit(user, "approval:release", revision.mailing.workspace)
    with refusing("approvals_release_mailing_id_key", "Somebody released this message a moment ago; it cannot go out twice."):
        mailing = locked_mailing(revision.mailing_id)
        if mailing.is_locked:
            raise Refused(f"“{mailing.title}” is released already; it cannot go out twice.")
        revision = _as_it_is(revision)
        walk = walk_of(revision)
        history = history_of(mailing)
        if found := blockers(walk, history):
            raise Refused(" ".join(found))
        if mailing.stage != Mailing.Stage.CLEARED or not is_enough(revision, history):
            raise Refused("The message is not cleared yet; it lacks sign-offs.")
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
    return made


def clearance(walk: Walk, user: User, released_at: str) -> dict[str, Any]:
    """The clearance record: the approved revision, the people who signed, and the digest of the bytes."""
    revision = walk.revision
    mailing = revision.mailing
    message = message_of(revision)
    assert walk.run is not None
    return {
        "jetwind": __version__,
        "message": {
            "title": mailing.title,
            "kind": mailing.kind,
            "audience": mailing.audience,
            "planned": mailing.planned_at.isoformat() if mailing.planned_at else None,
            "subject": message.subject,
            "revision": revision.number,
            "uploaded_by": revision.uploaded_by.shown_name,
            "uploaded": revision.created_at.isoformat(),
            "content_sha256": revision.content_sha256,
        },
        "parts": _parts(revision, message),
        "checks": {check_id: outcome for check_id, (outcome, *_) in sorted(walk.run.outcomes.items())},
        "open_findings": [_finding(found.record) for found in walk.findings if found.is_open],
        "excused": [_excused(excuse) for excuse in _covering(revision, walk)],
        "spam": {"score": walk.run.spam.get("score"), "band": walk.run.spam.get("band")},
        "sign_offs": [_signed(sign_off) for sign_off in revision.sign_offs.filter(voided_at=None).select_related("by")],
        "test_sends": [
            {
                "by": send.by.shown_name,
                "at": send.at.isoformat(),
                "list": send.list_name,
                "copies": send.copies.filter(purpose="copy").count(),
            }
            for send in revision.test_sends.select_related("by")
        ],
        "released": {"by": user.shown_name, "at": released_at},
    }


def _parts(revision: Revision, message: Message) -> list[dict[str, str]]:
    """The file as it was taken in and everything in it, each with its SHA-256."""

    def digest(text: str) -> str:
        return hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()

    parts = [{"part": "file", "name": revision.file_name, "sha256": revision.source_sha256}]
    if message.html:
        parts.append({"part": "html", "name": "", "sha256": digest(message.html.text)})
    if message.text:
        parts.append({"part": "text", "name": "", "sha256": digest(message.text.text)})
    for kind, resources in (("image", message.images), ("attachment", message.attachments)):
        parts += [{"part": kind, "name": resource.name, "sha256": resource.sha256} for resource in resources]
    return parts


def _covering(revision: Revision, walk: Walk) -> list[Excuse]:
    """The excuses that cover a finding or one of the faults that it tells together, the first made first."""
    known = in_force_for(revision)
    found = {
        excuse
        for shown in walk.findings
        if not shown.is_open
        for excuse in known.touching(shown.record.fingerprint, shown.record.cause, shown.record.members)
    }
    return sorted(found, key=lambda excuse: excuse.pk)


def _excused(excuse: Excuse) -> dict[str, str]:
    return {
        "check": excuse.check_id,
        **({"covers": "all faults of this cause"} if excuse.for_all else {}),
        "fingerprint": excuse.fingerprint,
        "finding": excuse.sentence,
        "reason": excuse.reason,
        "by": excuse.by.shown_name,
        "at": excuse.at.isoformat(),
    }


def _signed(sign_off: SignOff) -> dict[str, str]:
    return {
        "by": sign_off.by.shown_name,
        "role": sign_off.role,
        "at": sign_off.at.isoformat(),
        "comment": sign_off.comment,
        "content_sha256": sign_off.content_sha256,
    }


def _finding(found: Any) -> dict[str, Any]:
    faults = {"faults": [sentence for sentence, *_ in found.faults]} if found.faults else {}
    return {"check": found.check_id, "level": found.level, "fingerprint": found.fingerprint, "finding": found.sentence, **faults}


def as_bytes(content: dict[str, Any]) -> bytes:
    """The record as the file that is handed out; its SHA-256 is kept beside it."""
    return json.dumps(content, indent=2, ensure_ascii=False, sort_keys=True).encode()
