"""Background work of the review."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.intake.models import Revision
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import answers, lighter_files, picture_words
from jetwind.apps.review.questions import is_outdated
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.models import Workspace
from jetwind.engines.bounded import PastBudget


@app.task(name="review.check_revision", priority=10)
def check_revision(revision_id: int, work_id: int, patience: int = 1) -> None:
    """Run all checks on a revision, with so many times the usual limits."""
    with jobs.carried_out(work_id):
        revision = Revision.objects.select_related("mailing__workspace").get(pk=revision_id)
        jobs.report(work_id, done=0, total=1, doing="running the checks")
        answers.check_now(revision, patience)
        jobs.report(work_id, done=1, total=1, doing="running the checks")
    # Whoever asked while this one ran was given this one, which had read the circumstances before: they are asked about again.
    if Work.objects.filter(pk=work_id, state=Work.State.DONE).exists():
        revision = Revision.objects.select_related("mailing__workspace").get(pk=revision_id)
        if is_outdated(revision):
            answers.ask_for_checks(revision)
        # Pictures may have come from elsewhere since they were read last.
        picture_words.ask_for_reading(revision)


@app.task(name="review.read_pictures", priority=6)
def read_pictures(revision_id: int, work_id: int) -> None:
    """Read the words in the pictures of a revision, then run the checks that wait for them."""
    with jobs.carried_out(work_id):
        picture_words.read_now(Revision.objects.select_related("mailing__workspace", "mailing__syntax").get(pk=revision_id), work_id)


@app.task(name="review.make_lighter_files", priority=9)
def make_lighter_files(revision_id: int, picture: str, work_id: int) -> None:
    """Make the files that may stand for a picture, for somebody who waits for them."""
    with jobs.carried_out(work_id):
        revision = Revision.objects.select_related("mailing__workspace", "mailing__syntax").get(pk=revision_id)
        try:
            lighter_files.make_now(revision, picture)
        except (PastBudget, Refused) as why:
            raise jobs.Failed(why.sentence if isinstance(why, Refused) else f"The files cannot be made: {why}.") from why


@app.task(name="review.recheck_house", priority=5)
def recheck_house(workspace_id: int, work_id: int) -> None:
    """Check again what a change of the house touches."""
    with jobs.carried_out(work_id):
        answers.recheck_outdated(Workspace.objects.get(pk=workspace_id), work_id)
