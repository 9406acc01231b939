"""Background work of links and pictures."""

from __future__ import annotations

import logging

from django.conf import settings
from django.utils.dateparse import parse_datetime
from procrastinate.contrib.django import app

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs import services as jobs
from jetwind.apps.links import answering
from jetwind.apps.links.house import wire_of
from jetwind.apps.links.models import Kind, When
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.services import ask_for_renders
from jetwind.apps.review.questions import readers_of
from jetwind.engines.bounded import PastBudget, shown_elsewhere_bounded

logger = logging.getLogger(__name__)


@app.task(name="links.open", priority=8)
def open_links(revision_id: int, work_id: int, since: str = "", only: list[str] | None = None) -> None:
    """Open the links of a revision."""
    with jobs.carried_out(work_id):
        revision = _revision(revision_id)
        try:
            rows = answering.open_now(revision, work_id, parse_datetime(since) if since else None, only or [])
        except PastBudget as past:
            # The station says so, too: there is nothing to open of what cannot be listed.
            logger.warning("links cannot be listed: %s", past, extra={"action": "links.past-budget"})
            return
        answering.stand_for(revision, Kind.LINK, rows.values())
        answering.land_now(revision, work_id, rows)
        answering.ends_with_checks(revision, rows)


@app.task(name="links.fetch_pictures", priority=8)
def fetch_pictures(revision_id: int, work_id: int, since: str = "") -> None:
    """Fetch the pictures of a revision that lie elsewhere, and have it rendered with them."""
    with jobs.carried_out(work_id):
        revision = _revision(revision_id)
        wire = wire_of(revision.mailing.workspace)
        try:
            shown = shown_elsewhere_bounded(message_of(revision), readers_of(revision), start=settings.HELPERS_START)
        except PastBudget as past:
            raise jobs.Failed(f"The pictures of the message cannot be listed: {past}.") from past

        def report(doing: str) -> None:
            jobs.report(work_id, done=0, total=max(len(shown), 1), doing=doing)

        report("fetching pictures")
        answering.pictures_now(
            revision, wire, shown, report, fetches=wire.pictures != When.NEVER, since=parse_datetime(since) if since else None
        )
        # Whatever shows a picture from elsewhere is rendered with what has come now; equal pages keep their pictures.
        Render.objects.filter(revision=revision).update(state=Render.State.WAITING, departure=None, problem="")
        ask_for_renders(revision)


def _revision(revision_id: int) -> Revision:
    return Revision.objects.select_related("mailing__workspace", "mailing__syntax").get(pk=revision_id)
