"""The acts of people in a review: the brief, looking, excusing, sending back."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import Role
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.stages import locked_mailing, move, open_mailing, refuse_if_locked
from jetwind.apps.review.answers import PATIENT, ask_for_checks
from jetwind.apps.review.models import Excuse, StationLook
from jetwind.apps.review.questions import newest_run
from jetwind.apps.review.selectors import in_force_for, shown_with
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.merging import Overtaken, merged_table, overtaken
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit, roles_of
from jetwind.core.checking import Brief, UnusableBrief
from jetwind.core.reports import STATIONS


def recheck(user: User, revision: Revision, *, longer: bool = False) -> None:
    """Check a revision again, since circumstances changed; ``longer`` gives what ran out of time or memory more of both.

    Raises:
        NotAllowed, Refused: not permitted; released.
    """
    permit(user, "review:look", revision.mailing.workspace)
    with open_mailing(revision.mailing_id):
        ask_for_checks(revision, patience=PATIENT if longer else 1)
        action = "review.rechecked-longer" if longer else "review.rechecked"
        record(action, actor=user, mailing=revision.mailing, revision=revision.number)


def change_brief(user: User, mailing: Mailing, change: Callable[[Brief], Brief]) -> None:
    """Change what the message must and must not say, from how it stands now; its newest revision is checked again.

    Raises:
        NotAllowed, Refused: not permitted; released; an entry that cannot be used.
    """
    permit(user, "mailing:change", mailing.workspace)
    with open_mailing(mailing.pk) as locked:
        try:
            brief = change(Brief.from_dict(locked.brief))
        except UnusableBrief as refused:
            raise Refused(str(refused)) from refused
        if locked.brief == brief.as_dict():
            return
        Mailing.objects.filter(pk=mailing.pk).update(brief=brief.as_dict())
        record("mailing.changed", actor=user, mailing=mailing, fields="the brief")
        newest = locked.revisions.last()
        if newest is not None:
            ask_for_checks(newest)


#: As long as a sentence of fine print.
LONGEST_WORDING = 300


def require_wording(user: User, mailing: Mailing, text: str, places: Sequence[str]) -> None:
    """Add to the brief what must be said, and where.

    Raises:
        NotAllowed, Refused: as :func:`change_brief`; no wording, or no place.
    """
    text = _wording(text)
    if not places:
        raise Refused(f"Choose where “{text}” must stand.")
    change_brief(user, mailing, lambda brief: brief.requiring(text, places))


def forbid_wording(user: User, mailing: Mailing, text: str) -> None:
    """Add to the brief what must not be said.

    Raises:
        NotAllowed, Refused: as :func:`change_brief`; no wording.
    """
    text = _wording(text)
    change_brief(user, mailing, lambda brief: brief.forbidding(text))


def ask_parameters(user: User, mailing: Mailing, text: str, shown: str | None = None) -> None:
    """Say which campaign parameters the links of a message need: names, or names with values, parted by blanks or commas.

    What changed against ``shown``, the text as the page had it, is merged parameter by parameter.

    Raises:
        NotAllowed, Refused: as :func:`change_brief`; a name or value that an address cannot have; one that somebody else changed.
    """

    def asking(brief: Brief) -> Brief:
        now, mine = dict(brief.parameters), _parameters(text)
        try:
            return brief.asking(merged_table(now if shown is None else _parameters(shown), mine, now))
        except Overtaken as one:
            raise Refused(overtaken(f"parameter {one.key}", now.get(one.key, ""))) from None

    change_brief(user, mailing, asking)


def _parameters(text: str) -> dict[str, str]:
    return {name: value for name, _, value in (one.partition("=") for one in text.replace(",", " ").split()) if name}


def drop_wording(user: User, mailing: Mailing, text: str, *, forbidden: bool) -> None:
    """Take a wording out of the brief; one that is out already stays out.

    Raises:
        NotAllowed, Refused: as :func:`change_brief`.
    """
    change_brief(user, mailing, lambda brief: brief.without(text, forbidden=forbidden))


def _wording(text: str) -> str:
    text = " ".join(text.split())
    if not text:
        raise Refused("Type the wording first.")
    if len(text) > LONGEST_WORDING:
        raise Refused(f"The wording has {len(text)} characters; there is room for {LONGEST_WORDING}.")
    return text


def look_at(user: User, revision: Revision, station: str) -> None:
    """Say that a station has been looked at. The first look takes the mailing under review.

    Raises:
        NotAllowed, Refused: not permitted; released; no such station.
    """
    permit(user, "review:look", revision.mailing.workspace)
    if station not in {known.slug for known in STATIONS}:
        raise Refused(f"There is no station “{station}”.")
    with open_mailing(revision.mailing_id) as mailing:
        # A station that was left out is not, once somebody has looked at it.
        StationLook.objects.filter(revision=revision, station=station).exclude(left_out="").delete()
        _, is_new = StationLook.objects.get_or_create(revision=revision, station=station, defaults={"by": user})
        if is_new:
            name = next(known.name for known in STATIONS if known.slug == station)
            record("station.looked", actor=user, mailing=mailing, station=name, revision=revision.number)
        move(mailing, "looked at", user)


#: Characters of the reason for leaving a station out.
LONGEST_REASON_TO_LEAVE_OUT = 300


def leave_out(user: User, revision: Revision, station: str, reason: str) -> None:
    """Say why a station needs no look. A station that somebody looked at is left as it is.

    Raises:
        NotAllowed, Refused: not permitted; released; no such station; no reason, or a long one; somebody looked at it; left out already.
    """
    permit(user, "review:look", revision.mailing.workspace)
    name = next((known.name for known in STATIONS if known.slug == station and station != "sign-off"), None)
    if name is None:
        raise Refused(f"There is no station “{station}” that could be left out.")
    reason = " ".join(reason.replace("\0", "").split())
    if len(reason) < 4:
        raise Refused(f"{name} is left out with a reason that a colleague will understand.")
    if len(reason) > LONGEST_REASON_TO_LEAVE_OUT:
        raise Refused(f"The reason has {len(reason)} characters; there is room for {LONGEST_REASON_TO_LEAVE_OUT}.")
    with open_mailing(revision.mailing_id) as mailing:
        made, is_new = StationLook.objects.get_or_create(revision=revision, station=station, defaults={"by": user, "left_out": reason})
        if not is_new:
            raise Refused(f"{name} is left out already; load the page again." if made.left_out else f"Somebody has looked at {name}.")
        record("station.left-out", actor=user, mailing=mailing, station=name, revision=revision.number, reason=reason)
        move(mailing, "looked at", user)


def unlook(user: User, revision: Revision, station: str) -> None:
    """Take back that a station has been looked at.

    Raises:
        NotAllowed, Refused: not permitted; released.
    """
    permit(user, "review:look", revision.mailing.workspace)
    with open_mailing(revision.mailing_id) as mailing:
        gone, _ = StationLook.objects.filter(revision=revision, station=station).delete()
        if gone:
            name = next(known.name for known in STATIONS if known.slug == station)
            record("station.look-taken-back", actor=user, mailing=mailing, station=name, revision=revision.number)


def excuse(user: User, revision: Revision, fingerprint: str, reason: str, *, only_this_revision: bool, for_all: bool = False) -> Excuse:
    """Accept a finding with a reason; ``for_all`` also accepts what comes later of the same cause.

    Raises:
        NotAllowed, Refused: not permitted; released; no such finding; no reason; excused already.
    """
    permit(user, "review:excuse", revision.mailing.workspace)
    reason = " ".join(reason.split())
    if len(reason) < 4:
        raise Refused("An excuse needs a reason that a colleague will understand.")
    if len(reason) > 500:
        raise Refused(f"The reason has {len(reason)} characters; there is room for 500.")
    run = newest_run(revision)
    found = run.findings.filter(fingerprint=fingerprint).first() if run else None
    if found is None:
        raise Refused("This finding is not in the newest check of the revision; load the page again.")
    with refusing("one_excuse_in_force", "Somebody excused this finding a moment ago; load the page again."):
        mailing = locked_mailing(revision.mailing_id)
        refuse_if_locked(mailing)
        if shown_with(found, in_force_for(revision)).excuse is not None:
            raise Refused("Somebody excused this finding a moment ago; load the page again.")
        is_for_all = for_all and bool(found.cause)
        under = found.cause if is_for_all else fingerprint
        # One of another revision, or for fewer places, does not cover it, and makes room.
        Excuse.objects.filter(mailing=mailing, fingerprint=under, lifted_at=None).update(lifted_at=timezone.now())
        made = Excuse.objects.create(
            mailing=mailing,
            check_id=found.check_id,
            fingerprint=under,
            members={} if is_for_all else found.members,
            for_all=is_for_all,
            only_revision=revision if only_this_revision else None,
            reason=reason,
            sentence=found.sentence,
            level=found.level,
            by=user,
            by_approver=Role.APPROVER in roles_of(user, mailing.workspace),
        )
        record("finding.excused", actor=user, mailing=mailing, check=found.check_id, reason=reason, fingerprint=under)
        follows().standing_changed(mailing, user)
    return made


def is_excused(revision: Revision, fingerprint: str) -> bool:
    """Whether an excuse covers a finding of the newest answers, or the finding is gone."""
    run = newest_run(revision)
    found = run.findings.filter(fingerprint=fingerprint).first() if run else None
    return found is None or shown_with(found, in_force_for(revision)).excuse is not None


def lift_excuse(user: User, revision: Revision, fingerprint: str) -> None:
    """Take an excuse back.

    Raises:
        NotAllowed, Refused: not permitted; released.
    """
    permit(user, "review:excuse", revision.mailing.workspace)
    with open_mailing(revision.mailing_id) as mailing:
        run = newest_run(revision)
        found = run.findings.filter(fingerprint=fingerprint).first() if run else None
        covering = in_force_for(revision).touching(found.fingerprint, found.cause, found.members) if found else []
        lifted = list(covering or Excuse.objects.filter(mailing=mailing, fingerprint=fingerprint, lifted_at=None))
        for made in lifted:
            made.lifted_at = timezone.now()
            made.save(update_fields=["lifted_at"])
            record("finding.excuse-lifted", actor=user, mailing=mailing, check=made.check_id, fingerprint=made.fingerprint)
        if lifted:
            follows().standing_changed(mailing, user)


def confirm_excuse(user: User, revision: Revision, fingerprint: str) -> None:
    """Confirm the excuses of a finding that somebody else made, where the rule of sign-off asks for a second person. A second press changes nothing.

    Raises:
        NotAllowed, Refused: not permitted; released; no such finding or excuse; one's own excuse.
    """
    permit(user, "review:excuse", revision.mailing.workspace)
    with open_mailing(revision.mailing_id) as mailing:
        run = newest_run(revision)
        found = run.findings.filter(fingerprint=fingerprint).first() if run else None
        covering = in_force_for(revision).touching(found.fingerprint, found.cause, found.members) if found else []
        if not covering:
            raise Refused("This finding has no excuse that could be confirmed; load the page again.")
        others = [made for made in covering if made.by_id != user.pk]
        if not others:
            raise Refused("You made this excuse; somebody else confirms it.")
        for made in others:
            if made.confirmed_at is None:
                made.confirmed_at, made.confirmed_by = timezone.now(), user
                made.save(update_fields=["confirmed_at", "confirmed_by"])
                record("finding.excuse-confirmed", actor=user, mailing=mailing, check=made.check_id, fingerprint=made.fingerprint)
