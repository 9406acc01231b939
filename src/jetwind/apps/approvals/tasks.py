"""Background work of sign-offs."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.approvals import packaging
from jetwind.apps.approvals.standing import reconsider_now, signed_and_open
from jetwind.apps.jobs import services as jobs
from jetwind.apps.proofs.sealing import Unreadable
from jetwind.apps.workspace.desk import at_the_workbench


@app.task(name="approvals.reconsider", priority=12)
def reconsider(mailing_id: int) -> None:
    """See again which signatures of a message hold."""
    reconsider_now(mailing_id)


@app.task(name="approvals.reconsider_house", priority=12)
def reconsider_house(workspace_id: int) -> None:
    """See again which signatures of a house hold, message by message, so that no lock is held for long."""
    for number in signed_and_open().filter(workspace=workspace_id).values_list("pk", flat=True):
        reconsider_now(number)


@app.task(name="approvals.make_package", priority=9)
def make_package(release_id: int, work_id: int) -> None:
    """Make the package of a release."""
    with jobs.carried_out(work_id):
        jobs.report(work_id, done=0, total=1, doing="making the package")
        try:
            at_the_workbench(packaging.make_now, release_id)
        except Unreadable as wrong:
            raise jobs.Failed(f"The key of this workspace cannot be opened, since {wrong}.") from wrong
        jobs.report(work_id, done=1, total=1, doing="making the package")
