"""Background work of intake."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.intake import many
from jetwind.apps.jobs import services as jobs


@app.task(name="intake.take_in_many", priority=8)
def take_in_many(batch_id: int, work_id: int) -> None:
    """Take in the files of a batch."""
    with jobs.carried_out(work_id):
        many.take_in_all(batch_id, work_id)
