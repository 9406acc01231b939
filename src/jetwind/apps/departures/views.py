"""The home list."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.utils import timezone
from django.views.decorators.http import require_GET

from jetwind.apps.accounts.models import User
from jetwind.apps.departures.selectors import day_marks, departures
from jetwind.apps.intake.models import Mailing
from jetwind.apps.workspace.access import asks, may, workspace_of


@require_GET
@asks("mailing:view")
def home(request: HttpRequest) -> HttpResponse:
    """Departures: what leaves when, and what holds it back."""
    assert isinstance(request.user, User)
    workspace = workspace_of(request.user)
    search, stage = request.GET.get("q", "").strip(), request.GET.get("stage", "")
    rows = departures(workspace, search=search, stage=stage if stage in Mailing.Stage.values else "")
    now = timezone.now()
    marks, now_at = day_marks(rows, now)
    page = {
        "rows": rows,
        "marks": marks,
        "now_at": now_at,
        "stages": Mailing.Stage.choices,
        "stage": stage,
        "search": search,
        "now": now,
        "may_take_in": may(request.user, "mailing:take-in", workspace),
        "is_busy": any(row.is_busy for row in rows),
        "section": "departures",
    }
    return render(request, "departures/_list.html" if request.headers.get("HX-Request") else "departures/home.html", page)
