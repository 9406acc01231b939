"""Background work of sign-offs."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.approvals.standing import reconsider_now, signed_and_open


@app.task(name="approvals.reconsider", priority=12)
def reconsider(mailing_id: int) -> None:
    """See again which signatures of a message hold."""
    reconsider_now(mailing_id)


@app.task(name="approvals.reconsider_house", priority=12)
def reconsider_house(workspace_id: int) -> None:
    """See again which signatures of a house hold, message by message, so that no lock is held for long."""
    for number in signed_and_open().filter(workspace=workspace_id).values_list("pk", flat=True):
        reconsider_now(number)
