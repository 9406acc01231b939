"""The page behind an exchanged unsubscribe address: open to everybody who has a test copy."""

from __future__ import annotations

from django.contrib.auth.decorators import login_not_required
from django.http import Http404, HttpRequest, HttpResponse
from django.shortcuts import render
from django.views.decorators.csrf import csrf_exempt
from django.views.decorators.http import require_http_methods

from jetwind.apps.accounts.services import place_of
from jetwind.apps.proofs.models import WayOutPress
from jetwind.apps.proofs.ways_out import copy_of, note

#: The field and the value that a mail program posts (RFC 8058 §3.1).
_ONE_CLICK = ("List-Unsubscribe", "One-Click")


@login_not_required
@csrf_exempt
@require_http_methods(["GET", "HEAD", "POST"])
def way_out(request: HttpRequest, token: str, place: str) -> HttpResponse:
    """Show where a reader would leave the list; note a press, and the one-click POST of a mail program, which has no session and no cookie.

    A POST is answered without a redirect, as RFC 8058 §3.1 asks.
    """
    copy = copy_of(token)
    if copy is None or place not in WayOutPress.Place.values:
        raise Http404("no such way out")
    is_pressed = request.method == "POST"
    if is_pressed:
        is_one_click = request.POST.get(_ONE_CLICK[0]) == _ONE_CLICK[1]
        how = WayOutPress.How.ONE_CLICK if is_one_click else WayOutPress.How.PAGE
        note(copy, place, how, client=request.headers.get("User-Agent", ""), came_from=place_of(request))
        if is_one_click:
            return HttpResponse(
                "This way out works. Nobody was unsubscribed: the mail was a test.\n", content_type="text/plain; charset=utf-8"
            )
    return render(request, "proofs/way_out.html", {"is_pressed": is_pressed, "copy": copy})
