"""Every station of a message with 200 links and 300 findings, and Departures with 200 mailings, against the same server's bare view.

PYTHONPATH=src:. .jetwind/venv/bin/python -m benchmarks.pages [STATION …]

A database of its own is made beside the others in the project's cluster, and removed.
"""

from __future__ import annotations

import logging
import sys
from types import ModuleType
from typing import Any

from benchmarks.common import compare, own_house

_GOAL = 20


def _with_bare_view() -> ModuleType:
    """The application's addresses and one more, whose view says in one line who is signed in."""
    from django.contrib.auth.decorators import login_required
    from django.http import HttpRequest, HttpResponse
    from django.urls import include, path

    @login_required
    def bare(request: HttpRequest) -> HttpResponse:
        return HttpResponse(f"signed in as {request.user}")

    addresses = ModuleType("addresses")
    addresses.urlpatterns = [path("bare/", bare), path("", include("jetwind.config.urls"))]  # type: ignore[attr-defined]
    return addresses


def _message() -> bytes:
    from tests.factories import mail

    blocks = (
        f"<p>Glaze {number}, £16 a litre: <a href='https://h{number % 20}.kiln.org/{number}'>Glaze {number}</a>"
        f"{'<img src=cid:none>' if number % 2 else ''}</p>"
        for number in range(200)
    )
    return mail(f"<h1>Glazes of the spring</h1>{''.join(blocks)}")


def _mailing(user: Any, workspace: Any) -> Any:
    """A message with 200 links, opened and checked, as the worker leaves it."""
    from jetwind.apps.intake.services import take_in
    from jetwind.apps.jobs.models import Work
    from jetwind.apps.links.answering import keep, listing, stand_for
    from jetwind.apps.links.models import Kind
    from jetwind.apps.review.answers import check_now
    from jetwind.core.checking.samples import answered

    mailing = take_in(user, workspace, _message(), "glazes.eml")
    revision = mailing.revisions.select_related("mailing__workspace").get()
    answers = (
        answered(one.address, 302, (f"{one.address}/a", 200), page="Glazes", heading="Glazes", text="£16 a litre")
        for one in listing(revision).destinations
    )
    stand_for(revision, Kind.LINK, [keep(workspace, Kind.LINK, answer) for answer in answers])
    check_now(revision)
    Work.objects.update(state=Work.State.DONE)
    for _ in range(199):
        take_in(user, workspace, b"Subject: Pots\n\nPots.\n", "pots.eml")
    return mailing


def main(chosen: list[str]) -> None:
    """Print a row for each page."""
    from django.conf import settings
    from django.db import connection
    from django.test import Client
    from django.test.utils import CaptureQueriesContext

    from jetwind.apps.accounts.models import User
    from jetwind.apps.demo import world
    from jetwind.core.reports import STATIONS

    settings.ROOT_URLCONF = _with_bare_view()
    settings.ALLOWED_HOSTS = ["testserver"]
    workspace = world.build()
    user = User.objects.get(username="rosa")
    mailing = _mailing(user, workspace)
    client = Client()
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    pages = {station.slug: f"/mailings/{mailing.pk}/r1/{station.slug}/" for station in STATIONS} | {"departures": "/"}
    for name, address in pages.items():
        if chosen and name not in chosen:
            continue
        client.get(address)
        with CaptureQueriesContext(connection) as queries:
            answer = client.get(address)
        assert answer.status_code == 200, answer
        compare(
            f"{name}, {len(queries)} queries",
            "bare view",
            lambda: client.get("/bare/"),
            lambda address=address: client.get(address),
            _GOAL,
            9,
        )


if __name__ == "__main__":
    with own_house():
        logging.disable(logging.WARNING)
        from jetwind.apps.workspace import desk

        try:
            main(sys.argv[1:])
        finally:
            desk.close()
