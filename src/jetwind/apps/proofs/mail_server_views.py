"""The screens of a team's own mail servers, with the connection test."""

from __future__ import annotations

from typing import Any

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.jobs.services import latest_by_subject
from jetwind.apps.proofs import mail_servers as services
from jetwind.apps.proofs.forms import MailServerForm
from jetwind.apps.proofs.models import OwnMailServer
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks, may


@require_GET
@asks("workspace:view")
def mail_servers(request: PersonRequest) -> HttpResponse:
    """The mail servers of the workspace, each with its last connection test."""
    workspace = request.workspace
    rows = services.of(workspace)
    tests = latest_by_subject(services.CONNECTION_TESTS, [services.subject_of(row) for row in rows])
    shown = [(row, tests.get(services.subject_of(row))) for row in rows]
    page = {
        "servers": shown,
        "is_trying": any(work is not None and work.is_open for _, work in shown),
        "chosen": next((row for row in rows if row.is_chosen), None),
        "way_out": services.way_out_name(),
        "practice": services.practice_servers(),
        "recipient": request.user.email,
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return render(request, "proofs/_servers.html" if request.htmx else "proofs/mail_servers.html", page)


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def mail_server(request: PersonRequest, server_id: int | None = None) -> HttpResponse:
    """Describe a mail server, change it, or take it away."""
    workspace = request.workspace
    row = get_object_or_404(OwnMailServer, pk=server_id, workspace=workspace, removed_at=None) if server_id else None
    if request.method == "POST" and row is not None and request.POST.get("do") == "remove":
        services.remove(request.user, row)
        messages.success(request, f"{row.name} is removed, and its password with it.")
        return redirect("mail-servers")
    before = as_shown(services.shown(row)) if row is not None else ""
    # The form writes into the row that it is given; what is kept is the service's to say.
    described = OwnMailServer(**services.shown(row)) if row is not None else OwnMailServer()
    form = MailServerForm(request.POST or None, instance=described, has_password=row is not None and bool(row.sealed_password))

    def keep(shown: Any) -> OwnMailServer:
        return services.keep(request.user, workspace, form.given(), form.cleaned_data["password"], row=row, before=shown)

    done = kept(request, form, keep)
    if done is not None:
        messages.success(request, f"{done.value.name} is kept. Try the connection before you send by it.")
        return redirect("mail-servers")
    page = {
        "form": form,
        "row": row,
        "shown": before,
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return form_page(request, "proofs/mail_server.html", page)


@require_POST
@asks(send="workspace:configure")
@once
def choose(request: PersonRequest) -> HttpResponse:
    """Have new test sends go out by one of the servers, or by the installation's own way out."""
    workspace = request.workspace
    number = whole_number(request.POST, "server")
    row = get_object_or_404(OwnMailServer, pk=number, workspace=workspace) if number else None
    services.choose(request.user, workspace, row)
    messages.success(request, f"New test sends go out by {row.name if row is not None else services.way_out_name()}.")
    return redirect("mail-servers")


@require_POST
@asks(send="workspace:configure")
@once
def ask_for_connection_test(request: PersonRequest, server_id: int) -> HttpResponse:
    """Try the connection to a server, step by step."""
    row = get_object_or_404(OwnMailServer.objects.select_related("workspace"), pk=server_id, workspace=request.workspace, removed_at=None)
    services.ask_for_connection_test(request.user, row, request.POST.get("recipient", ""))
    return redirect("mail-servers")
