"""Background work of the review."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.intake.models import Revision
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import services


@app.task(name="review.check_revision", priority=10)
def check_revision(revision_id: int, work_id: int) -> None:
    """Run all checks on a revision."""
    with jobs.carried_out(work_id):
        revision = Revision.objects.select_related("mailing__workspace").get(pk=revision_id)
        jobs.report(work_id, done=0, total=1, doing="running the checks")
        services.check_now(revision)
        jobs.report(work_id, done=1, total=1, doing="running the checks")
    # Whoever asked while this one ran was given this one, which had read the circumstances before: they are asked about again.
    if Work.objects.filter(pk=work_id, state=Work.State.DONE).exists() and services.is_outdated(revision_id):
        services.ask_for_checks(revision)
