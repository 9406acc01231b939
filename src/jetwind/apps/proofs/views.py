"""The Test sends station and the Mailroom."""

from __future__ import annotations

import base64
import re
from dataclasses import dataclass
from typing import Any

from django.contrib import messages
from django.db.models import Q
from django.http import Http404, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_GET, require_POST

from jetwind.apps.blobs import store
from jetwind.apps.jobs import services as jobs
from jetwind.apps.proofs import renders, replies, services
from jetwind.apps.proofs.arrived import Way, registry_levels, rows_of
from jetwind.apps.proofs.models import Arrival, ContentRender, ReplyLink, TestCopy, TestSend
from jetwind.apps.review.selectors import station_address
from jetwind.apps.ui.once import once
from jetwind.apps.workspace.access import PersonRequest, asks
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.arrivals import Compared
from jetwind.core.message import Message, image_references, read_bytes
from jetwind.core.profiles import profiles
from jetwind.core.source import Edit, splice

_ARRIVAL_POLICY = "default-src 'none'; img-src data:; style-src 'unsafe-inline'; form-action 'none'; frame-ancestors 'self'; sandbox"


@require_POST
@asks(send="proof:send")
@once
def decide_copy(request: PersonRequest, copy_id: int) -> HttpResponse:
    """Send a copy again, or say that it arrived."""
    found = get_object_or_404(
        TestCopy.objects.select_related("send__revision", "send__mailing__workspace"),
        pk=copy_id,
        send__mailing__workspace=request.workspace,
    )
    if request.POST.get("do") == "arrived":
        services.believe_arrived(request.user, found)
    else:
        services.send_again(request.user, found)
    return redirect(station_address(found.send.revision, "test-sends"))


@require_POST
@asks(send="proof:send")
@once
def decide_send(request: PersonRequest, send_id: int) -> HttpResponse:
    """Cancel the copies of a test send that wait, have a planned one go now, or send it again to those who lack it."""
    found = get_object_or_404(
        TestSend.objects.select_related("revision", "mailing__workspace"), pk=send_id, mailing__workspace=request.workspace
    )
    if request.POST.get("do") == "cancel":
        stopped = services.cancel(request.user, found)
        messages.success(request, f"Cancelled: {stopped} of the copies.")
    elif request.POST.get("do") == "remind":
        reminded = services.remind(request.user, found)
        messages.success(request, f"Reminded: {reminded} of the recipients.")
    elif request.POST.get("do") == "now":
        services.send_now(request.user, found)
        messages.success(request, f"The test to “{found.list_name}” goes now.")
    else:
        again = services.send_to_lacking(request.user, found)
        messages.success(request, f"Sent again to those who lack it: {again} of the copies.")
    return redirect(station_address(found.revision, "test-sends"))


@require_POST
@asks(send="proof:send")
@once
def withdraw_link(request: PersonRequest, link_id: int) -> HttpResponse:
    """Have the answer link of a recipient work no more."""
    links = ReplyLink.objects.select_related("send__revision", "send__mailing__workspace")
    link = get_object_or_404(links, pk=link_id, send__mailing__workspace=request.workspace)
    replies.withdraw(request.user, link)
    messages.success(request, f"The link of {link.address} works no more.")
    return redirect(station_address(link.send.revision, "test-sends"))


@require_GET
@asks("workspace:view")
def mailroom(request: PersonRequest) -> HttpResponse:
    """The messages that arrived, newest first."""
    workspace = request.workspace
    own = Q(copy__send__mailing__workspace=workspace) | Q(reports_on__send__mailing__workspace=workspace)
    arrivals = Arrival.objects.filter(own).select_related("copy__send__revision__mailing", "reports_on__send__revision__mailing")[:200]
    strays = [arrival for arrival in Arrival.objects.filter(copy=None, reports_on=None)[:200] if services.concerns(arrival, workspace)][:20]
    return render(request, "proofs/mailroom.html", {"arrivals": arrivals, "strays": strays, "section": "mailroom"})


@require_GET
@asks("workspace:view", works=True)
def arrival(request: PersonRequest, arrival_id: int) -> HttpResponse:
    """One arrival: what differs from its copy, the way it took, and what it holds."""
    found = _arrival(request, arrival_id)
    raw = store.fetch(found.blob_sha256)
    message = read_bytes(raw, "arrival.eml")
    compared = Compared.from_json(found.compared) if found.compared is not None else None
    way = Way.of(message, found)
    views = [("html", "HTML"), ("text", "Plain text"), ("headers", "Headers"), ("raw", "Raw")]
    if found.copy is not None:
        views.insert(0, ("differences", "Differences"))
    if way.hops:
        views.append(("way", "Way"))
    if message.html is not None and not found.report:
        views.insert(1 if found.copy is not None else 0, ("renders", "In the client profiles"))
    first = "text" if found.copy is None and message.html is None else views[0][0]
    view = request.GET.get("view", first)
    page = {
        "arrival": found,
        "message": message,
        "view": view,
        "compared": compared,
        "rows": rows_of(compared, registry_levels()) if compared is not None else [],
        "way": way,
        "raw": raw.decode("utf-8", "replace")[:400_000] if view == "raw" else "",
        "views": views,
        "section": "mailroom",
    }
    if view == "renders":
        page |= _renders(request, found)
    return render(request, "proofs/arrival.html", page)


def _renders(request: PersonRequest, found: Arrival) -> dict[str, Any]:
    """The pictures of an arrival and its copy in one profile, laid over each other, and the findings of the checks."""
    names = chosen_profiles(request.workspace)
    profile = request.GET.get("profile", "")
    profile = profile if profile in names else names[0]
    states = renders.states_of(found, names)
    kinds = [ArrivalFinding(*row) for row in found.findings or []]
    return {
        "profiles": [(name, profiles()[name].name, states[name]) for name in names],
        "profile": profiles()[profile],
        "state": states[profile],
        "pair": renders.pair_of(found, profile),
        "work": jobs.latest(renders.KIND, f"arrival:{found.pk}"),
        "new_findings": [one for one in kinds if one.is_new],
        "same_findings": [one for one in kinds if not one.is_new],
        "was_checked": found.findings is not None,
    }


@dataclass(frozen=True, slots=True)
class ArrivalFinding:
    """A finding in an arrival; ``is_new`` where the copy lacks it."""

    level: str
    check: str
    sentence: str
    is_new: bool


@require_POST
@asks(send="workspace:view")
@once
def render_arrival(request: PersonRequest, arrival_id: int) -> HttpResponse:
    """Have an arrival and its copy rendered, and the arrival checked."""
    found = _arrival(request, arrival_id)
    renders.ask(request.user, found, request.workspace)
    return redirect(f"{reverse('arrival', args=[found.pk])}?view=renders")


@require_GET
@asks("workspace:view")
def arrival_progress(request: PersonRequest, arrival_id: int) -> HttpResponse:
    """How far the renders of an arrival are; once done, the page loads itself anew."""
    found = _arrival(request, arrival_id)
    work = jobs.latest(renders.KIND, f"arrival:{found.pk}")
    return render(request, "proofs/_arrival_progress.html", {"arrival": found, "work": work, "is_fresh": work is None or not work.is_open})


@require_GET
@asks("workspace:view")
def arrival_render(request: PersonRequest, arrival_id: int, which: str, profile: str) -> HttpResponse:
    """The picture of an arrival, or of its copy, in a profile."""
    found = _arrival(request, arrival_id)
    copy = found.copy.copy_sha256 if found.copy is not None else ""
    digest = {"arrived": found.blob_sha256, "copy": copy}.get(which, "")
    done = ContentRender.objects.filter(content_sha256=digest, profile=profile, state=ContentRender.State.DONE)
    shot = get_object_or_404(done)
    try:
        data = store.fetch(shot.blob_sha256)
    except store.BlobMissing:
        raise Http404("the picture is no longer in the blob store") from None
    return HttpResponse(data, content_type=shot.content_type)


@require_GET
@asks("workspace:view", works=True)
def arrival_html(request: PersonRequest, arrival_id: int) -> HttpResponse:
    """The HTML of an arrival for the sandboxed frame: no script, nothing fetched, its own pictures inside it."""
    found = _arrival(request, arrival_id)
    message = read_bytes(store.fetch(found.blob_sha256), "arrival.eml")
    if message.html is None:
        raise Http404("this arrival has no HTML")
    response = HttpResponse(_self_contained(message), content_type="text/html; charset=utf-8")
    # Its own policy, far stricter than ours: nothing is fetched, nothing runs, no form goes anywhere.
    response.headers["Content-Security-Policy"] = _ARRIVAL_POLICY
    response["X-Frame-Options"] = "SAMEORIGIN"
    response["Cross-Origin-Resource-Policy"] = "same-origin"
    return response


def _self_contained(message: Message) -> str:
    assert message.html is not None
    edits = []
    for reference in image_references(message):
        resource = message.resource(reference.value) if reference.is_local else None
        if resource is not None and re.fullmatch(r"image/[a-z0-9.+-]+", resource.content_type):
            edits.append(Edit(reference.span, f"data:{resource.content_type};base64,{base64.b64encode(resource.data).decode()}"))
    return splice(message.html.text, edits)


def _arrival(request: PersonRequest, arrival_id: int) -> Arrival:
    found = get_object_or_404(
        Arrival.objects.select_related("copy__send__revision__mailing__workspace", "reports_on__send__revision__mailing__workspace"),
        pk=arrival_id,
    )
    if not services.concerns(found, request.workspace):
        raise Http404("no such arrival")
    return found
