"""Pages against the same server's bare view.

Every station of a message with 200 links and 300 findings, and Departures with 200 mailings; the pages of the desk with 40 people, 200 messages
that share parts, 5,000 findings, and a set of 12; then, in a house that has grown to 1,000
messages, 30,000 findings, 200,000 rows of work and 100,000 entries of the log, the pages that list them.

PYTHONPATH=src:. .jetwind/venv/bin/python -m benchmarks.pages [NAME …]

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
    from jetwind.apps.links.answering import keep, keep_current, listing
    from jetwind.apps.links.models import Kind
    from jetwind.apps.review.answers import check_now
    from jetwind.core.checking.samples import answered

    mailing = take_in(user, workspace, _message(), "glazes.eml")
    revision = mailing.revisions.select_related("mailing__workspace").get()
    answers = (
        answered(one.address, 302, (f"{one.address}/a", 200), page="Glazes", heading="Glazes", text="£16 a litre")
        for one in listing(revision).destinations
    )
    keep_current(revision, Kind.LINK, [keep(workspace, Kind.LINK, answer) for answer in answers])
    check_now(revision)
    Work.objects.update(state=Work.State.DONE)
    for _ in range(199):
        take_in(user, workspace, b"Subject: Pots\n\nPots.\n", "pots.eml")
    return mailing


#: People, findings for each message, and members of the set at the desk.
_PEOPLE, _FINDINGS_OF_ONE, _MEMBERS = 40, 25, 12


def _desk(user: Any, workspace: Any) -> Any:
    """Forty people, findings in all 200 messages, parts that they share, and a set; the set."""
    from datetime import timedelta

    from django.db import connection
    from django.utils import timezone

    from jetwind.apps.accounts.models import User
    from jetwind.apps.intake.models import Mailing, Revision
    from jetwind.apps.notices.models import Notice
    from jetwind.apps.review.models import CheckRun, FindingRecord
    from jetwind.apps.sets.models import MessageSet, NotedPieces, PieceUse
    from jetwind.apps.workspace.models import Membership
    from jetwind.core.sets import Traits

    people = User.objects.bulk_create(User(username=f"person-{number}") for number in range(_PEOPLE))
    Membership.objects.bulk_create(Membership(workspace=workspace, user=one, roles=["reviewer"]) for one in people)
    revisions = list(Revision.objects.filter(mailing__workspace=workspace, mailing__title="Pots").order_by("pk"))
    for number, one in enumerate(revisions):
        Mailing.objects.filter(pk=one.mailing_id).update(
            given_to=people[number % _PEOPLE], planned_at=timezone.now() + timedelta(hours=7 * number), title=f"Pots {number}"
        )
    runs = CheckRun.objects.bulk_create(
        CheckRun(revision=one, key="desk", outcomes={"links.insecure": ["findings", "", [], ""]}) for one in revisions
    )
    FindingRecord.objects.bulk_create(
        FindingRecord(
            run=run,
            order=order,
            check_id="links.insecure",
            station="links",
            level=("stop", "fix", "note")[order % 3],
            fingerprint=f"shared-{order}" if order < 5 else f"{run.pk % 1000:x}-{order}",
            sentence=f"Something {order}." if order < 5 else f"Something {order} of {run.pk}.",
        )
        for run in runs
        for order in range(_FINDINGS_OF_ONE)
    )
    NotedPieces.objects.filter(revision__in=revisions).delete()
    NotedPieces.objects.bulk_create(
        NotedPieces(revision=one, version=1, traits=Traits(footer=f"Footer {number % 3}", footer_digest=str(number % 3)).as_dict())
        for number, one in enumerate(revisions)
    )
    PieceUse.objects.bulk_create(
        PieceUse(revision=one, kind="paragraph", digest=f"{piece * (number % 7 + 1):016x}", words=f"Paragraph {piece}", elements=[piece])
        for number, one in enumerate(revisions)
        for piece in range(20)
    )
    Notice.objects.bulk_create(
        Notice(user=user, mailing_id=one.mailing_id, kind="asked", words="It waits.", path=f"/x/{one.pk}/", at=timezone.now())
        for one in revisions[:60]
    )
    made = MessageSet.objects.create(workspace=workspace, name="Papers", created_by=user, model_id=revisions[0].mailing_id)
    for number, one in enumerate(revisions[:_MEMBERS]):
        made.members.create(name=f"Paper {number}", mailing_id=one.mailing_id)
    with connection.cursor() as cursor:
        cursor.execute("vacuum analyze")
    return made


#: Rows of a house that has grown: messages, findings for each, works, entries of the log.
_MESSAGES, _FINDINGS, _WORKS, _ENTRIES = 1_000, 30, 200_000, 100_000


def _grow(user: Any, workspace: Any) -> Any:
    """Rows by the thousand, as years of work leave them; a message of them."""
    from datetime import timedelta

    from django.db import connection
    from django.utils import timezone

    from jetwind.apps.intake.models import Mailing, Revision
    from jetwind.apps.intake.services import take_in
    from jetwind.apps.review.models import CheckRun, Excuse, FindingRecord, StationLook

    model = take_in(user, workspace, b"Subject: Pots\n\nPots.\n", "pots.eml").revisions.get()
    now = timezone.now()
    stages = ["taken-in", "under-review", "under-review", "sent-back", "cleared"]
    mailings = Mailing.objects.bulk_create(
        Mailing(
            workspace=workspace,
            title=f"Pots {number}",
            created_by=user,
            stage=stages[number % 5],
            planned_at=now + timedelta(hours=number) if number % 10 else None,
        )
        for number in range(_MESSAGES)
    )
    revisions: list[Revision] = []
    for mailing in mailings:
        made = (
            Revision.objects.get(pk=model.pk)
            if not revisions
            else Revision(
                **{field.attname: getattr(model, field.attname) for field in Revision._meta.concrete_fields if field.attname != "id"}
            )
        )
        made.pk, made.mailing, made.number = None, mailing, 1
        revisions.append(made)
    revisions = Revision.objects.bulk_create(revisions)
    runs = CheckRun.objects.bulk_create(CheckRun(revision=one, key="k", summary={"unlooked": 0}) for one in revisions)
    FindingRecord.objects.bulk_create(
        FindingRecord(
            run=run,
            order=order,
            check_id="links.insecure",
            station=["envelope", "links", "images", "footer"][order % 4],
            level=["stop", "fix", "note"][order % 3],
            fingerprint=f"{run.pk % 1000:x}-{order}",
            cause=f"{run.pk % 1000:x}" if order % 5 == 0 else "",
            members={f"{order}-{member}": 2 for member in range(4)} if order % 5 == 0 else {},
            sentence="Something.",
        )
        for run in runs
        for order in range(_FINDINGS)
    )
    Excuse.objects.bulk_create(
        Excuse(
            mailing_id=run.revision.mailing_id, check_id="links.insecure", fingerprint=f"{run.pk % 1000:x}-{order}", reason="so", by=user
        )
        for run in runs[::2]
        for order in range(3)
    )
    StationLook.objects.bulk_create(
        StationLook(revision=one, station=station, by=user) for one in revisions for station in ("envelope", "links", "access")
    )
    with connection.cursor() as cursor:
        cursor.execute(
            """insert into jobs_work (kind, subject, state, done, total, doing, problem, cancel_requested, interruptions, created_at, changed_at)
            select 'checks', 'revision:' || (%s + n %% %s), 'done', 1, 1, '', '', false, 0, now(), now() from generate_series(1, %s) n""",
            [revisions[0].pk, _MESSAGES, _WORKS],
        )
        cursor.execute(
            """insert into audit_logentry (at, actor_id, action, chain, workspace_id, mailing_id, data, previous_hash, hash)
            select now(), %s, 'workspace.changed', %s, %s, case when n %% 3 = 0 then null else %s + n %% %s end, '{"what": "x"}', '', md5(n::text)
            from generate_series(1, %s) n""",
            [user.pk, workspace.pk, workspace.pk, mailings[0].pk, _MESSAGES, _ENTRIES],
        )
        cursor.execute("vacuum analyze")
    return revisions[7]


def main(chosen: list[str]) -> None:
    """Print a row for each page."""
    from django.conf import settings
    from django.test import Client

    from jetwind.apps.accounts.models import User
    from jetwind.apps.demo import world
    from jetwind.core.reports import STATIONS

    settings.ROOT_URLCONF = _with_bare_view()
    settings.ALLOWED_HOSTS = ["testserver"]
    workspace = world.build(is_short=True)
    user = User.objects.get(username="rosa")
    mailing = _mailing(user, workspace)
    client = Client()
    client.force_login(user, backend="django.contrib.auth.backends.ModelBackend")
    pages = {station.slug: f"/mailings/{mailing.pk}/r1/{station.slug}/" for station in STATIONS} | {"departures": "/"}
    _measure(client, chosen, pages)
    made = _desk(user, workspace)
    _measure(
        client,
        chosen,
        {
            "desk: departures": "/",
            "desk: a quarter": "/?from=2020-01-01&to=2189-01-01",
            "desk: by person": f"/?person={made.members.first().mailing.given_to_id}",
            "desk: waits for me": "/?mine=yes",
            "desk: what waits": "/waiting/",
            "desk: sets": "/sets/",
            "desk: a set": f"/sets/{made.pk}/",
            "desk: shared parts": "/sets/parts/",
            "desk: log": "/log/",
            "desk: calendar": "/calendar/",
            "desk: people": "/people/",
            "desk: approver": f"/mailings/{made.model_id}/r1/approve/",
        },
    )
    one = _grow(user, workspace)
    station = f"/mailings/{one.mailing_id}/r1"
    _measure(
        client,
        chosen,
        {
            "grown: departures": "/",
            "grown: last page": "/?page=20",
            "grown: search": "/?q=pots+77",
            "grown: stage": "/?stage=sent-back",
            "grown: people and log": "/people/",
            "grown: settings and queue": "/settings/",
            "grown: sign-off and log": f"{station}/sign-off/",
            "grown: progress of work": f"{station}/appearance/progress/",
        },
    )


def _measure(client: Any, chosen: list[str], pages: dict[str, str]) -> None:
    """Print a row for each of these pages."""
    from django.db import connection
    from django.test.utils import CaptureQueriesContext

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
