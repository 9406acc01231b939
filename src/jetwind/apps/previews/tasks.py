"""Background work of rendering."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.intake.models import Revision
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews import services
from jetwind.apps.previews.rendering import render_now
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.selectors import chosen_profiles


@app.task(name="previews.render_revision")
def render_revision(revision_id: int, work_id: int) -> None:
    """Render a revision in all profiles."""
    with jobs.carried_out(work_id):
        revision = Revision.objects.select_related("mailing__workspace").get(pk=revision_id)
        answered = chosen_profiles(revision.mailing.workspace)
        render_now(revision, work_id, services.the_browser())
    # A person who asked while this work ran was given this work, which had read before what to render. It is rendered now.
    if Work.objects.filter(pk=work_id, state=Work.State.DONE).exists() and services.is_behind(revision, answered):
        services.ask_for_renders(Revision.objects.select_related("mailing__workspace").get(pk=revision_id))


@app.task(name="previews.render_house", priority=5)
def render_house(workspace_id: int, work_id: int) -> None:
    """Have every message of a house rendered in the profiles chosen now."""
    with jobs.carried_out(work_id):
        services.render_newest(Workspace.objects.get(pk=workspace_id), work_id)
