"""The page that is shown where working on a message took too long: it lists stored findings, and names the checks without an answer."""

from __future__ import annotations

from typing import Any, cast

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from jetwind.apps.intake.selectors import revision_for
from jetwind.apps.jobs import services as jobs
from jetwind.apps.review.answers import CHECKS
from jetwind.apps.review.frame import ran_out_of
from jetwind.apps.review.questions import newest_run
from jetwind.apps.review.selectors import station_address
from jetwind.apps.workspace.access import PersonRequest, permissions_of
from jetwind.core.reports import STATIONS

#: Findings that are listed.
_MOST = 200


def page_instead(given: HttpRequest, kwargs: dict[str, Any], why: str) -> HttpResponse | None:
    """Findings and unanswered checks of a revision, from rows alone; None for an address that names no revision."""
    # The desk was asked by a view that had found out who sends the request.
    request = cast(PersonRequest, given)
    if "mailing_id" not in kwargs or "number" not in kwargs:
        return None
    revision = revision_for(request.user, kwargs["mailing_id"], kwargs["number"])
    run = newest_run(revision)
    records = list(run.findings.all()[:_MOST]) if run is not None else []
    page = {
        "revision": revision,
        "mailing": revision.mailing,
        "why": why,
        "run": run,
        "stations": [
            (station.name, station_address(revision, station.slug), [one for one in records if one.station == station.slug])
            for station in STATIONS
        ],
        "ran_out": ran_out_of(run),
        "may_look": not revision.mailing.is_locked and "review:look" in permissions_of(request.user, revision.mailing.workspace),
        "work": jobs.latest(CHECKS, f"revision:{revision.pk}"),
        "section": "departures",
    }
    # It is no failure of the request: the page says what it can.
    return render(request, "review/instead.html", page)
