"""Answers that belong to no part of the work."""

from __future__ import annotations

from django.contrib.auth.decorators import login_not_required
from django.db import connection
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render


@login_not_required
def health(request: HttpRequest) -> HttpResponse:
    """Whether the web process and its database answer."""
    with connection.cursor() as cursor:
        cursor.execute("select 1")
    return HttpResponse("ok", content_type="text/plain")


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """There is nothing at this address."""
    return render(
        request,
        "ui/refused.html",
        {"sentence": "There is nothing at this address. It may have been mistyped, or belong to another team."},
        status=404,
    )


def broken(request: HttpRequest) -> HttpResponse:
    """Something of ours failed; the log has the details."""
    return render(
        request,
        "ui/refused.html",
        {"sentence": "Jetwind failed on this request. Nothing was changed; the details are in the server's log."},
        status=500,
    )
