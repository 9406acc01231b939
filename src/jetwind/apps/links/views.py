"""The Links station, its files, and the settings of what is opened."""

from __future__ import annotations

from django.contrib import messages
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect
from django.views.decorators.http import require_GET, require_http_methods, require_POST

from jetwind.apps.blobs import store
from jetwind.apps.intake.selectors import revision_for
from jetwind.apps.links import house, services
from jetwind.apps.links.files import as_csv, as_har
from jetwind.apps.links.forms import WireForm
from jetwind.apps.links.models import LinkAnswer
from jetwind.apps.links.stations.links import SLUG, Station
from jetwind.apps.review.selectors import station_address
from jetwind.apps.review.services import ask_parameters
from jetwind.apps.ui.given import came_from
from jetwind.apps.ui.keeping import form_page, kept
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks, may


@require_POST
@asks(send="mailing:view")
@once
def steer(request: PersonRequest, mailing_id: int, number: int) -> HttpResponse:
    """Open again, fetch pictures, cancel, let one link be opened, say that one was opened by hand."""
    revision = revision_for(request.user, mailing_id, number)
    what, address = request.POST.get("do", ""), request.POST.get("address", "")
    if what == "open":
        services.open_again(request.user, revision, address)
    elif what == "pictures":
        services.fetch_pictures(request.user, revision)
    elif what == "cancel":
        services.cancel(request.user, revision)
    elif what == "let-open":
        services.let_open(request.user, revision, address)
    elif what in ("seen", "unseen"):
        services.mark_seen(request.user, revision, address, seen=what == "seen")
    elif what == "parameters":
        ask_parameters(request.user, revision.mailing, request.POST.get("parameters", ""), request.POST.get("shown"))
        messages.success(request, "The brief’s campaign parameters are kept.")
    return redirect(came_from(request) or station_address(revision, SLUG))


FILES = {"csv": (as_csv, "text/csv"), "har": (as_har, "application/json")}


@require_GET
@asks("mailing:view")
def file(request: PersonRequest, mailing_id: int, number: int, form: str) -> HttpResponse:
    """Links with their answers as a file."""
    revision = revision_for(request.user, mailing_id, number)
    if form not in FILES:
        raise Http404("no such file")
    write, content_type = FILES[form]
    response = HttpResponse(write(Station(revision)), content_type=f"{content_type}; charset=utf-8")
    response["Content-Disposition"] = f'attachment; filename="links-{mailing_id}-r{number}.{form}"'
    return response


@require_GET
@asks("mailing:view")
def landing(request: PersonRequest, answer_id: int, width: str) -> HttpResponse:
    """The picture of a landing page."""
    row = get_object_or_404(LinkAnswer, pk=answer_id, workspace=request.workspace)
    if width not in ("desktop", "phone") or width not in row.landing:
        raise Http404("no such picture")
    response = HttpResponse(store.fetch(row.landing[width]), content_type="image/jpeg")
    response["Cache-Control"] = "private, max-age=86400"
    return response


@require_http_methods(["GET", "POST"])
@asks("workspace:view", send="workspace:configure")
@once
def wire(request: PersonRequest) -> HttpResponse:
    """The settings of what the workspace opens."""
    workspace = request.workspace
    known = house.wire_of(workspace)
    form = WireForm(request.POST or None, initial=WireForm.initial_of(known))
    if kept(request, form, lambda shown: house.set_wire(request.user, workspace, **form.cleaned_data, shown=shown)) is not None:
        messages.success(request, "What is opened is kept.")
        return redirect("wire")
    page = {
        "form": form,
        "workspace": workspace,
        "shown": as_shown(house.shown_wire(known)),
        "may_configure": may(request.user, "workspace:configure", workspace),
        "section": "settings",
    }
    return form_page(request, "links/wire.html", page)
