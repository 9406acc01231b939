"""One mend in every message of a set: a part that its messages share is put right by one press."""

from __future__ import annotations

from jetwind.apps.accounts.models import User
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.mends.models import PreparedMends
from jetwind.apps.mends.renders import prove_looks
from jetwind.apps.mends.services import Chosen, has_wordless_mend, mends_of_check, prepare_now, take
from jetwind.apps.sets.models import MessageSet
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.desk import at_the_workbench
from jetwind.engines.browser import Captures

KIND, TASK = "set-mends", "mends.mend_set"


def ask(user: User, shown: MessageSet, check_id: str) -> Work:
    """Have what a check finds mended in every message of a set, in the background.

    Raises:
        NotAllowed, Refused: not permitted; the check has no mend, or one that needs a word; the set is being mended already.
    """
    permit(user, "mailing:change", shown.workspace)
    if not has_wordless_mend(check_id):
        raise Refused("What this check finds is not mended without a person's words.")
    enqueued: list[int] = []

    def enqueue(work_id: int) -> int:
        enqueued.append(jobs.defer(TASK, needs="checks", set_id=shown.pk, check_id=check_id, user_id=user.pk, work_id=work_id))
        return enqueued[0]

    work = jobs.start(KIND, f"{KIND}:{shown.pk}", doing="waiting for a worker", enqueue=enqueue)
    if not enqueued:
        # The work that is open may be about another check: it would answer for this one without having looked.
        raise Refused("The messages of this set are being mended already; press again when that is done.")
    return work


def carry_out(shown: MessageSet, check_id: str, user_id: int, *, work_id: int, browser: Captures) -> None:
    """Mend the newest revision of each member that is not released; each mend is proven by the checks and by renders first.

    Safe to run twice: what is mended has nothing to mend any more.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
        Failed: some could not be mended, and the others are; or there was nothing that a machine can mend.
    """
    mailings = Mailing.objects.filter(member__of=shown).exclude(stage=Mailing.Stage.RELEASED).order_by("pk")
    mended, left, mails = 0, 0, list(mailings)
    for number, mailing in enumerate(jobs.each(work_id, mails, lambda one: one.title)):
        revision_id = at_the_workbench(prepare_for, mailing.pk, check_id)
        if revision_id is None:
            continue
        title = mailing.title

        def report(done: int, total: int, doing: str, number: int = number, title: str = title) -> None:
            jobs.report(work_id, done=number, total=len(mails), doing=f"{title}: {doing}"[:80])

        prove_looks(revision_id, report, browser, only=check_id)
        made = at_the_workbench(mend_one, mailing.pk, check_id, user_id)
        mended, left = mended + (made is True), left + (made is not True)
    if not mended and not left:
        raise jobs.Failed(f"Nothing was mended: what {check_id} finds in these messages needs a person.")
    if left:
        raise jobs.Failed(f"What {check_id} finds was mended in {mended} and could not be mended in {left}; their pages of mends say why.")


def prepare_for(mailing_id: int, check_id: str) -> int | None:
    """Prepare the mends of a check for the newest revision of a message; the revision's number in the database, None where the check has no mend in it.

    To be asked of the workbench.
    """
    revision = _newest(mailing_id)
    prepared = prepare_now(revision, only=check_id) if revision is not None and mends_of_check(revision, check_id) else None
    return prepared.revision_id if prepared is not None else None


def mend_one(mailing_id: int, check_id: str, user_id: int) -> bool | None:
    """Take the mends of one check that were proven into the newest revision of a message; whether there is a new revision, None where none was proven.

    To be asked of the workbench.
    """
    revision = _newest(mailing_id)
    prepared = PreparedMends.objects.filter(revision=revision).first()
    findings = [one["finding"] for one in prepared.offers if one["check"] == check_id and not one["asks"]] if prepared is not None else []
    if revision is None or not findings:
        return None
    try:
        take(User.objects.get(pk=user_id), revision, Chosen(frozenset(findings), {}))
    except Refused:
        return False
    return True


def _newest(mailing_id: int) -> Revision | None:
    return (
        Revision.objects.select_related("mailing__workspace", "mailing__syntax", "uploaded_by")
        .filter(mailing=mailing_id)
        .order_by("number")
        .last()
    )
