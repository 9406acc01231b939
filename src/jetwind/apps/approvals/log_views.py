"""The log as a page, as CSV and as lines of JSON."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict
from urllib.parse import urlencode

from django.core.paginator import Paginator
from django.http import HttpResponse, StreamingHttpResponse
from django.shortcuts import render
from django.views.decorators.http import require_GET

from jetwind.apps.approvals.log import Asked, csv_lines, json_lines, lines_of, log_of, people_of
from jetwind.apps.audit.actions import GROUPS
from jetwind.apps.intake.models import Mailing
from jetwind.apps.ui.given import whole_number
from jetwind.apps.workspace.access import PersonRequest, asks

#: Entries of one page.
PAGE = 60


def _asked(request: PersonRequest) -> Asked:
    given = request.GET
    return Asked(
        whole_number(given, "person"),
        given.get("kind", ""),
        given.get("since", ""),
        given.get("until", ""),
        whole_number(given, "message"),
    )


@require_GET
@asks("workspace:view")
def log(request: PersonRequest) -> HttpResponse:
    """Show the entries of the log: those of the whole workspace, or of one message."""
    workspace, asked = request.workspace, _asked(request)
    shown = Paginator(log_of(workspace, asked), PAGE).get_page(request.GET.get("page"))
    page = {
        "shown": shown,
        "lines": lines_of(list(shown)),
        "asked": asked,
        "asked_as": urlencode({name: value for name, value in asdict(asked).items() if value}),
        "people": people_of(workspace),
        "groups": GROUPS,
        "mailing": Mailing.objects.filter(workspace=workspace, pk=asked.message).first() if asked.message else None,
        "section": "settings",
    }
    return render(request, "approvals/log.html", page)


@require_GET
@asks("workspace:view")
def as_csv(request: PersonRequest) -> StreamingHttpResponse:
    """Send the chosen entries of the log as a CSV file."""
    return _file(csv_lines(log_of(request.workspace, _asked(request))), "text/csv; charset=utf-8", "log.csv")


@require_GET
@asks("workspace:view")
def as_json_lines(request: PersonRequest) -> StreamingHttpResponse:
    """Send the chosen entries of the log as a file of JSON Lines. ``./jetwind verify-log`` verifies this file without a database."""
    return _file(json_lines(log_of(request.workspace, _asked(request))), "application/jsonl; charset=utf-8", "log.jsonl")


def _file(lines: Iterator[str], content_type: str, name: str) -> StreamingHttpResponse:
    response = StreamingHttpResponse(lines, content_type=content_type)
    response["Content-Disposition"] = f'attachment; filename="{name}"'
    return response
