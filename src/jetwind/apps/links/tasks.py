"""Background work of links and pictures."""

from __future__ import annotations

import logging

from django.utils.dateparse import parse_datetime
from procrastinate.contrib.django import app

from jetwind.apps.intake.selectors import numbered
from jetwind.apps.jobs import services as jobs
from jetwind.apps.links import answering
from jetwind.apps.links.house import wire_of
from jetwind.apps.links.models import Kind, When
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.services import ask_for_renders
from jetwind.apps.workspace.desk import at_the_workbench

logger = logging.getLogger(__name__)


@app.task(name="links.open", priority=8)
def open_links(revision_id: int, work_id: int, since: str = "", only: list[str] | None = None) -> None:
    """Open the links of a revision."""
    with jobs.carried_out(work_id):
        revision = numbered(revision_id)
        try:
            asked = at_the_workbench(answering.what_to_open, revision_id)
        except jobs.Failed as failed:
            # The station says so, too: there is nothing to open of what cannot be listed.
            logger.warning("links cannot be listed: %s", failed, extra={"action": "links.past-budget"})
            return
        rows = answering.open_now(revision, asked, work_id, parse_datetime(since) if since else None, only or [])
        answering.keep_current(revision, Kind.LINK, rows.values())
        answering.land_now(revision, asked.roles, work_id, rows)
        answering.ends_with_checks(revision, rows)


@app.task(name="links.fetch_pictures", priority=8)
def fetch_pictures(revision_id: int, work_id: int, since: str = "") -> None:
    """Fetch the pictures of a revision that lie elsewhere, and have it rendered with them."""
    with jobs.carried_out(work_id):
        revision = numbered(revision_id)
        wire = wire_of(revision.mailing.workspace)
        shown = at_the_workbench(answering.pictures_shown_elsewhere, revision_id)

        def report(doing: str) -> None:
            jobs.report(work_id, done=0, total=max(len(shown), 1), doing=doing)

        report("fetching pictures")
        answering.pictures_now(
            revision, wire, shown, report, fetches=wire.pictures != When.NEVER, since=parse_datetime(since) if since else None
        )
        # Every render that shows a picture from elsewhere is made anew with the pictures that have come; equal pages keep theirs.
        Render.objects.filter(revision=revision).update(state=Render.State.WAITING, departure=None, problem="")
        ask_for_renders(revision)
