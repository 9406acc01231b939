"""Background work about the house."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.accounts.models import User
from jetwind.apps.jobs import services as jobs
from jetwind.apps.workspace import domains
from jetwind.apps.workspace.models import Workspace


@app.task(name="workspace.look_for_record", priority=20)
def look_for_record(user_id: int, workspace_id: int, domain: str, work_id: int) -> None:
    """Look for the name record that shows whose a domain is."""
    with jobs.carried_out(work_id):
        jobs.report(work_id, done=0, total=1, doing=f"asking for {domains.record_name(domain)}")
        domains.look_now(User.objects.get(pk=user_id), Workspace.objects.get(pk=workspace_id), domain)
