"""The list of what waits for a person."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_POST

from jetwind.apps.notices import services
from jetwind.apps.notices.models import Notice
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks


@require_GET
@asks("workspace:view")
def waiting(request: PersonRequest) -> HttpResponse:
    """What waits for the person, unread first. Opening it reads nothing off the list: a press does."""
    notices = services.waiting_for(request.user, request.workspace)
    return render(request, "notices/waiting.html", {"notices": notices, "section": "waiting"})


@require_POST
@asks(send="workspace:view")
@once
def go_to(request: PersonRequest, notice_id: int) -> HttpResponse:
    """Take a thing for read, and lead to where it is dealt with."""
    notice = get_object_or_404(Notice, pk=notice_id, user=request.user, mailing__workspace=request.workspace)
    services.mark_read(request.user, notice)
    return redirect(notice.path)


@require_POST
@asks(send="workspace:view")
@once
def read_all(request: PersonRequest) -> HttpResponse:
    """Take everything for read."""
    number = services.mark_all_read(request.user, request.workspace)
    messages.success(request, f"Taken for read: {number}.")
    return redirect("waiting")
