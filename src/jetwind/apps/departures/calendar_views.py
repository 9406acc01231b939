"""Calendars of planned sends: the page about the address, the address itself, and the file of one message."""

from __future__ import annotations

from django.contrib import messages
from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST, require_safe

from jetwind.apps.departures import calendar as calendars
from jetwind.apps.intake.selectors import mailing_for
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks, permissions_of

_TYPE = "text/calendar; charset=utf-8; method=PUBLISH"


@require_GET
@asks("workspace:view")
def calendar(request: PersonRequest) -> HttpResponse:
    """The address to which a calendar program subscribes, and making or withdrawing it."""
    token = calendars.token_of(request.workspace)
    page = {
        "address": request.build_absolute_uri(reverse("calendar-feed", args=[token])) if token else "",
        "may_configure": "workspace:configure" in permissions_of(request.user, request.workspace),
        "section": "departures",
    }
    return render(request, "departures/calendar.html", page)


@require_POST
@asks(send="workspace:configure")
@once
def set_calendar(request: PersonRequest) -> HttpResponse:
    """Make the address, make another one in its place, or withdraw it."""
    act = request.POST.get("act", "")
    if act == "withdraw":
        calendars.withdraw_calendar(request.user, request.workspace)
        messages.success(request, "The address is withdrawn: programs that ask for it get nothing any more.")
    else:
        calendars.open_calendar(request.user, request.workspace, again=act == "again")
        messages.success(request, "The calendar has a new address." if act == "again" else "The calendar has an address.")
    return redirect("calendar")


@login_not_required
@require_safe
def feed(request: HttpRequest, token: str) -> HttpResponse:
    """The planned sends of a workspace, for everybody who has the address."""
    workspace = calendars.workspace_of(token)
    if workspace is None:
        raise Http404("no such calendar")
    response = HttpResponse(calendars.of_workspace(workspace, request.build_absolute_uri), content_type=_TYPE)
    response["Cache-Control"] = "private, max-age=300"
    return response


@require_GET
@asks("mailing:view")
def of_message(request: PersonRequest, mailing_id: int) -> HttpResponse:
    """The planned send of one message as a file."""
    mailing = mailing_for(request.user, mailing_id)
    response = HttpResponse(calendars.of_message(mailing, request.build_absolute_uri), content_type=_TYPE)
    response["Content-Disposition"] = f'attachment; filename="departure-{mailing.pk}.ics"'
    return response
