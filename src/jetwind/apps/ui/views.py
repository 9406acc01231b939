"""Answers that belong to no part of the work."""

from __future__ import annotations

import sys

from django.contrib.auth.decorators import login_not_required
from django.db import DatabaseError, InterfaceError, OperationalError, connection
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.template.loader import render_to_string

#: After so many seconds a page that found no database asks again by itself.
ASK_AGAIN = 5


@login_not_required
def health(request: HttpRequest) -> HttpResponse:
    """Whether the web process and its database answer."""
    if is_database_away():
        return HttpResponse("the database is away", content_type="text/plain", status=503, headers={"Retry-After": str(ASK_AGAIN)})
    return HttpResponse("ok", content_type="text/plain")


def bad_request(request: HttpRequest, exception: Exception) -> HttpResponse:
    """The request itself cannot be read."""
    sentence = "This request cannot be read: a form that is damaged, too large, or not in UTF-8. Nothing was changed."
    return render(request, "ui/refused.html", {"sentence": sentence}, status=400)


def not_found(request: HttpRequest, exception: Exception) -> HttpResponse:
    """There is nothing at this address."""
    return render(
        request,
        "ui/refused.html",
        {"sentence": "There is nothing at this address. It may have been mistyped, or belong to another team."},
        status=404,
    )


def broken(request: HttpRequest) -> HttpResponse:
    """Something of ours failed, and the log has the details; or the database is away, which passes."""
    if isinstance(sys.exc_info()[1], (OperationalError, InterfaceError)) and is_database_away():
        # Nothing here may ask the database: not the session, not who is signed in.
        page = render_to_string("ui/away.html", {"ask_again": ASK_AGAIN, "may_ask_again": request.method == "GET"})
        return HttpResponse(page, status=503, headers={"Retry-After": str(ASK_AGAIN), "Cache-Control": "no-store"})
    return render(
        request,
        "ui/refused.html",
        {"sentence": "Jetwind failed on this request. Nothing was changed; the details are in the server's log."},
        status=500,
    )


def is_database_away() -> bool:
    """Whether the database does not answer now."""
    try:
        if not connection.in_atomic_block:
            connection.close_if_unusable_or_obsolete()
        with connection.cursor() as cursor:
            cursor.execute("select 1")
    except DatabaseError:
        connection.close()
        return True
    return False
