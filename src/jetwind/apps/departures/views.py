"""The home list."""

from __future__ import annotations

from django.core.paginator import Paginator
from django.http import HttpResponse
from django.shortcuts import render
from django.utils import timezone
from django.views.decorators.http import require_GET

from jetwind.apps.departures.axis import axis
from jetwind.apps.departures.selectors import departures
from jetwind.apps.intake.models import Mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.review.answers import RECHECKS
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of

#: Messages on one page of the list; the axis above it shows all.
PAGE = 50


@require_GET
@asks("mailing:view")
def home(request: PersonRequest) -> HttpResponse:
    """Departures: what leaves when, and what holds it back."""
    workspace = request.workspace
    search, stage = request.GET.get("q", "").strip(), request.GET.get("stage", "")
    rows = departures(workspace, search=search, stage=stage if stage in Mailing.Stage.values else "")
    now = timezone.now()
    shown = Paginator(rows, PAGE).get_page(request.GET.get("page"))
    page = {
        "rows": shown,
        "axis": axis(rows, now),
        "rechecks": jobs.latest(RECHECKS, f"workspace:{workspace.pk}"),
        "stages": Mailing.Stage.choices,
        "stage": stage,
        "search": search,
        "now": now,
        "may_take_in": "mailing:take-in" in permissions_of(request.user, workspace),
        "is_busy": any(row.is_busy for row in shown),
        "section": "departures",
    }
    return render(request, "departures/_list.html" if request.headers.get("HX-Request") else "departures/home.html", page)
