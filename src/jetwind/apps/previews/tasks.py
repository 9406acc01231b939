"""Background work of rendering."""

from __future__ import annotations

from procrastinate.contrib.django import app

from jetwind.apps.intake.models import Revision
from jetwind.apps.jobs import services as jobs
from jetwind.apps.previews import services


@app.task(name="previews.render_revision")
def render_revision(revision_id: int, work_id: int) -> None:
    """Render a revision in all profiles."""
    with jobs.carried_out(work_id):
        revision = Revision.objects.select_related("mailing__workspace").get(pk=revision_id)
        services.render_now(revision, work_id, services.the_browser())
