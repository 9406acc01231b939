"""The home list."""

from __future__ import annotations

from django.core.paginator import Paginator
from django.http import HttpResponse
from django.shortcuts import render
from django.utils import timezone
from django.views.decorators.http import require_GET

from jetwind.apps.departures.axis import axis
from jetwind.apps.departures.selectors import ON_AXIS, leaving, messages, soon
from jetwind.apps.intake.models import Mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.review.answers import RECHECKS
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of

#: Messages on one page of the list.
PAGE = 40


@require_GET
@asks("mailing:view")
def home(request: PersonRequest) -> HttpResponse:
    """The page Departures: when each message leaves, and what holds it back."""
    workspace = request.workspace
    search, stage = request.GET.get("q", "").strip(), request.GET.get("stage", "")
    found = messages(workspace, search=search, stage=stage if stage in Mailing.Stage.values else "")
    now = timezone.now()
    shown = Paginator(found.values_list("pk", flat=True), PAGE).get_page(request.GET.get("page"))
    planned = [] if search else list(soon(found, now).values_list("pk", flat=True)[: ON_AXIS + 1])
    rows = {row.mailing.pk: row for row in leaving({*shown, *planned[:ON_AXIS]})}
    page = {
        "shown": shown,
        "rows": [rows[number] for number in shown if number in rows],
        "axis": axis([rows[number] for number in planned[:ON_AXIS] if number in rows], now),
        "leave_later": ON_AXIS if len(planned) > ON_AXIS else 0,
        "rechecks": jobs.latest(RECHECKS, f"workspace:{workspace.pk}"),
        "stages": Mailing.Stage.choices,
        "stage": stage,
        "search": search,
        "now": now,
        "may_take_in": "mailing:take-in" in permissions_of(request.user, workspace),
        "is_busy": any(rows[number].facts.is_busy for number in shown if number in rows),
        "section": "departures",
    }
    return render(request, "departures/_list.html" if request.htmx else "departures/home.html", page)
