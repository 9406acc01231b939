"""Background work of mending."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.intake.selectors import numbered
from jetwind.apps.jobs import services as jobs
from jetwind.apps.mends import in_sets, renders, services
from jetwind.apps.previews.services import the_browser
from jetwind.apps.sets.models import MessageSet
from jetwind.apps.workspace.desk import at_the_workbench


@app.task(name=services.TASK, priority=8)
def look_for_mends(revision_id: int, work_id: int) -> None:
    """Look for the mends of a revision, prove them by the checks, then by renders."""
    with jobs.carried_out(work_id):
        jobs.report(work_id, done=0, total=1, doing="mending, and checking the result")
        at_the_workbench(prepare, revision_id)
        jobs.report(work_id, done=1, total=2, doing="waiting for the browser")
        renders.prove_looks(
            revision_id, lambda done, total, doing: jobs.report(work_id, done=done, total=total, doing=doing), the_browser()
        )


@app.task(name=in_sets.TASK, priority=7)
def mend_set(set_id: int, check_id: str, user_id: int, work_id: int) -> None:
    """Mend what a check finds in every message of a set."""
    with jobs.carried_out(work_id):
        in_sets.carry_out(MessageSet.objects.get(pk=set_id), check_id, user_id, work_id=work_id, browser=the_browser())


def prepare(revision_id: int) -> None:
    """Look for the mends where it may take long."""
    services.prepare_now(numbered(revision_id))
