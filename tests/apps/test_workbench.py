"""The workbench: whatever a task does with a message is done in a helper, and a worker's places are not all held by large messages."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import timedelta
from typing import Any

import pytest
from django.db import connection
from django.utils import timezone
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.accounts.models import User
from jetwind.apps.approvals.models import Release
from jetwind.apps.approvals.packaging import ask_for_package
from jetwind.apps.blobs import store
from jetwind.apps.instructions.services import Chosen, send_back
from jetwind.apps.intake import models, selectors, services
from jetwind.apps.intake.many import bring
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.links import answering
from jetwind.apps.links.models import CurrentAnswers, LinkAnswer, Wire
from jetwind.apps.links.services import ask_for_links
from jetwind.apps.links.services import fetch_pictures as ask_for_pictures
from jetwind.apps.mends.in_sets import ask as ask_in_set
from jetwind.apps.mends.models import PreparedMends
from jetwind.apps.mends.services import ask_for_mends
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.services import ask_for_renders, ask_for_renders_of_house
from jetwind.apps.proofs import handing_over, letters, renders, replies, screenshots
from jetwind.apps.proofs.models import Arrival, ContentRender, Letter, TestCopy
from jetwind.apps.proofs.services import Choices, keep_saved, send_test
from jetwind.apps.review import answers
from jetwind.apps.review.models import PictureWords
from jetwind.apps.sets.models import MessageSet
from jetwind.apps.workspace.desk import Held, Workbench
from jetwind.core.links.answers import Answer, Hop
from jetwind.core.package import verify
from jetwind.engines.bounded import Budget, PastBudget
from jetwind.engines.fetch import Fetched
from jetwind.engines.mail import Handover, HandoverOutcome
from tests.apps.helpers import taken_in
from tests.factories import archive, picture

pytestmark = pytest.mark.django_db(transaction=True)

POT = picture(900, 600)
BODY = (
    b'<html lang="en"><body><p>Dear {{ first_name }}, the kiln is warm.</p><img src="pot.png" width="300" height="200" alt="A pot">'
    b'<img src="https://pictures.kiln.org/bowl.png" width="300" height="200" alt="A bowl"><a href="https://kiln.org/shop">Shop</a></body></html>'
)
#: Tasks that have nothing to do with a message.
OTHERS = {
    "accounts.send_mail",
    "accounts.mail_password_links",
    "workspace.look_for_record",
    "proofs.try_server",
    "audit.verify_log",
    "jobs.sweep",
}


@pytest.fixture
def in_helpers(settings: Any) -> Iterator[None]:
    """Work is done at the workbench, as in a house that people live in."""
    settings.DESK, settings.HELPERS_START = "helpers", "server"
    yield


@pytest.fixture(autouse=True)
def empty_queue(db: None) -> None:
    """No job of another test is left in the queue, whose tables Django does not empty."""
    with connection.cursor() as cursor:
        cursor.execute("delete from procrastinate_jobs")


def carry_out_all(seen: set[int]) -> set[str]:
    """Every job that is enqueued, and what those enqueue, in turn, in this process; returns the names of their tasks."""
    names = set()
    while job := ProcrastinateJob.objects.exclude(pk__in=seen).order_by("pk").first():
        seen.add(job.pk)
        names.add(job.task_name)
        task = app.tasks[job.task_name]
        if job.task_name == "jobs.take_up_slow":
            jobs.take_up_slow(**job.args, priority=job.priority)
        else:
            task.func(**job.args)
    return names


def answered(fetcher: Any, wanted: list[Any]) -> Iterator[Fetched]:
    """A web on which everything is there at once."""
    now = timezone.now()
    for one in wanted:
        later = (now + timedelta(hours=1)).isoformat()
        answer = Answer(
            one.address, now.isoformat(), (Hop(one.address, "GET", 200, 0, 5),), fresh_until=later, format="PNG", size=(900, 600)
        )
        yield Fetched(one, answer, POT if one.kind == "picture" else b"")


#: A clearance record with everything that its PDF shows.
RECORD = {
    "message": {
        "title": "Pots", "kind": "promotional", "audience": "", "planned": None, "subject": "Pots", "revision": 1,
        "uploaded_by": "Author", "uploaded": "2027-03-01", "content_sha256": "0" * 64,
    },
    "released": {"by": "Operator", "at": "2027-03-01"},
    "parts": [], "checks": {}, "open_findings": [], "excused": [], "sign_offs": [], "test_sends": [],
}  # fmt: skip


def test_no_task_reads_a_message(house: Any, in_helpers: None, fake_browser: Any, settings: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """All tasks about a message do what they are there for, while the worker's own process can read none."""
    Wire.objects.filter(workspace=house.workspace).update(links="always", pictures="always")
    settings.DESK = "here"
    mailing = services.take_in(house.author, house.workspace, archive({"a.html": BODY, "pot.png": POT}), "a.zip")
    User.objects.filter(pk=house.author.pk).update(email="a@kiln.org", proven_email="a@kiln.org", mailed="at-once")
    house.author.refresh_from_db()
    sending = send_back(
        house.reviewer, Revision.objects.select_related("mailing__workspace", "uploaded_by").get(), "Mind the pot", Chosen(by_mail=True)
    )
    settings.DESK = "helpers"
    revision = selectors.numbered(Revision.objects.get().pk)
    send = send_test(house.reviewer, revision, house.test_list, Choices(asks=True, base="http://testserver"))

    def refuse(*given: Any, **more: Any) -> None:
        raise AssertionError("the worker works on a message")

    for place, name in ((selectors, "_parsed"), (selectors, "read_bytes"), (services, "read_bytes")):
        monkeypatch.setattr(place, name, refuse)
    monkeypatch.setattr(answering, "fetch_all", answered)
    monkeypatch.setattr(answering, "MOST_LANDINGS", 0)
    monkeypatch.setattr(letters, "hand_over", lambda *given: Handover(HandoverOutcome.TAKEN, "250 Kept"))
    monkeypatch.setattr(handing_over, "hand_over", lambda *given: Handover(HandoverOutcome.TAKEN, "250 Kept"))
    jobs.start("reading", f"revision:{revision.pk}", doing="", enqueue=lambda number: jobs.defer(
        "review.read_pictures", revision_id=revision.pk, work_id=number
    ))  # fmt: skip
    jobs.start("lighter", f"revision:{revision.pk}", doing="", enqueue=lambda number: jobs.defer(
        "review.make_lighter_files", revision_id=revision.pk, picture=hashlib.sha256(POT).hexdigest(), work_id=number
    ))  # fmt: skip
    seen: set[int] = set()
    names = carry_out_all(seen)
    copy = send.copies.order_by("pk")[0]
    keep_saved(house.reviewer, revision, store.fetch(copy.copy_sha256))
    link = send.reply_links.order_by("pk")[0]
    reply = replies.answer(link, replies.Given(looks_right=False, words="Here", render=replies.render_for(link), left=50.0, top=1.0))
    renders.ask(house.reviewer, Arrival.objects.get(copy=copy), house.workspace)
    screen = screenshots.keep(house.reviewer, copy, picture(390, 800), "phone-upright")
    ask_for_pictures(house.reviewer, revision)
    ask_for_mends(house.reviewer, revision)
    family = MessageSet.objects.create(workspace=house.workspace, name="Papers", created_by=house.author)
    family.members.create(name="Pots", mailing=mailing)
    ask_in_set(house.reviewer, family, "access.table-role")
    answers.ask_for_rechecks(house.workspace)
    jobs.defer("review.recheck_messages", mailing_ids=[mailing.pk])
    ask_for_renders_of_house(house.workspace)
    jobs.defer("approvals.reconsider_house", workspace_id=house.workspace.pk)
    release = Release.objects.create(
        mailing=mailing, revision=revision, record=RECORD, record_sha256="0" * 64, by=house.operator, at="2027-03-01T09:00Z"
    )
    ask_for_package(release)
    batch = bring(house.author, house.workspace, [("more.zip", archive({"one.eml": b"nothing of a mail", "two.txt": b"x"}))])
    names |= carry_out_all(seen)
    # The message of the set has no such fault, which is told as a failure: nothing was mended.
    mended = Work.objects.get(kind="set-mends")
    assert (mended.state, "needs a person" in mended.problem) == (Work.State.FAILED, True)
    others = Work.objects.exclude(pk=mended.pk)
    assert not others.exclude(state=Work.State.DONE).exists(), list(others.exclude(state=Work.State.DONE))
    assert {name for name in app.tasks if not name.startswith(("builtin", "procrastinate."))} - names == OTHERS | {"jobs.take_up_slow"}
    assert set(Render.objects.values_list("state", flat=True)) == {Render.State.DONE}
    assert [(render.profile, render.mode, render.lacking) for render in Render.objects.all() if render.lacking] == []
    assert all(render.made_for and render.reader == "Bo" for render in Render.objects.all())
    assert set(LinkAnswer.objects.values_list("address", flat=True)) >= {"https://kiln.org/shop", "https://pictures.kiln.org/bowl.png"}
    assert CurrentAnswers.objects.get().links
    assert PreparedMends.objects.get().sums["now"]["octets"] > 0
    assert [bool(one.mailing_id) for one in batch.files.order_by("number")] == [False, False]
    release.refresh_from_db()
    assert verify(store.fetch(release.package_sha256)).holds
    assert set(send.copies.values_list("state", flat=True)) == {TestCopy.State.HANDED_OVER}
    assert set(ContentRender.objects.values_list("state", flat=True)) == {ContentRender.State.DONE}
    screen.refresh_from_db()
    assert (screen.problem, screen.likeness is not None) == ("", True)
    assert set(Letter.objects.values_list("state", flat=True)) == {Letter.State.HANDED_OVER}
    assert Letter.objects.count() == 2 and sending.words == "Mind the pot"
    reply.refresh_from_db()
    assert reply.thread is not None
    arrival = copy.arrivals.get()
    assert arrival.compared is not None
    assert arrival.compared["differences"] == []
    run = revision.check_runs.latest("created_at")
    assert not [check for check, (outcome, *_) in run.outcomes.items() if outcome == "crashed"]
    assert Mailing.objects.get() == mailing
    # No program that reads pictures is installed where tests run; without one nothing is read.
    assert not PictureWords.objects.exclude(read=None).exists()


def failing(revision_id: int) -> None:
    """Work that takes more than it may."""
    raise PastBudget("took longer than 8 s")


def endless(held: Any) -> None:
    """A question without an end."""
    while True:
        pass


def twice(held: Any) -> Any:
    """What is held, two times."""
    return held + held


def made_of(text: str) -> str:
    """Something to hold, made where the database can be asked."""
    return f"{text} {Mailing.objects.count()}"


def test_what_is_held(house: Any, in_helpers: None) -> None:
    """It is made in the helper, once more after a question that took too much; a limit of the work is told as a failure of the task."""
    taken_in(house)
    budget = Budget(answer_seconds=5.0, all_seconds=10.0, memory=300_000_000)
    with Held(made_of, "messages:", budget=budget) as held:
        assert held.ask(twice) == "messages: 1messages: 1"
        with pytest.raises(PastBudget, match=r"took longer than 0\.3 s"):
            held.within(0.3).ask(endless)
        assert held.within(5.0).ask(twice) == "messages: 1messages: 1"
    with Workbench() as bench, pytest.raises(jobs.Failed, match=r"Working on the message took longer than 8 s\."):
        bench.ask(failing, 1)


class TestPlaces:
    """Large messages wait for one another, small ones pass."""

    @pytest.fixture
    def large(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> Revision:
        """A message over the limit."""
        monkeypatch.setattr(models, "LARGE", 100)
        return taken_in(house)

    def test_locks(self, large: Revision, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """Everything that is enqueued for a large message has one lock, for a small one none, for one whose checks ran out again one."""
        assert large.octets > 100
        ask_for_links(large)
        send_test(house.reviewer, large, house.test_list, None)
        locks = dict(ProcrastinateJob.objects.values_list("task_name", "lock"))
        assert set(locks) == {"review.check_revision", "previews.render_revision", "links.open", "proofs.send_copies"}
        assert set(locks.values()) == {"slow"}
        monkeypatch.setattr(models, "LARGE", 4_000_000)
        Work.objects.all().delete()
        newest = ProcrastinateJob.objects.latest("pk").pk
        ask_for_renders(large)
        assert ProcrastinateJob.objects.get(pk__gt=newest).lock is None
        Work.objects.all().delete()
        run = large.check_runs.latest("created_at")
        run.outcomes = {**run.outcomes, "links.empty": ["ran-out", "took longer", [], ""]}
        run.summary = {**run.summary, "unlooked": 1}
        run.save()
        ask_for_renders(large)
        assert ProcrastinateJob.objects.latest("pk").lock == "slow"

    def test_many_tags(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """A message of few octets is large too where its tags are many."""
        small = taken_in(house)
        assert small.tags > 0
        assert not small.is_large
        monkeypatch.setattr(models, "MANY_TAGS", small.tags - 1)
        assert small.is_large

    def test_what_waits_for_its_time_holds_no_lock(self, large: Revision) -> None:
        """Put off, it waits without the lock, and is enqueued with it when its time has come, unless it is over."""
        work = ask_for_renders(large)
        until = timezone.now() + timedelta(minutes=10)
        with jobs.carried_out(work.pk):
            raise jobs.PutOff(until, "tried again later")
        work.refresh_from_db()
        waiting = ProcrastinateJob.objects.get(pk=work.job_id)
        assert (waiting.task_name, waiting.lock, waiting.scheduled_at) == ("jobs.take_up_slow", None, until)
        jobs.take_up_slow(**waiting.args, priority=waiting.priority)
        work.refresh_from_db()
        there = ProcrastinateJob.objects.get(pk=work.job_id)
        assert (there.task_name, there.lock, there.scheduled_at) == ("previews.render_revision", "slow", None)
        assert there.args == {"revision_id": large.pk, "work_id": work.pk}
        assert (work.state, work.doing) == (Work.State.WAITING, "tried again later")
        Work.objects.filter(pk=work.pk).update(state=Work.State.CANCELLED)
        jobs.take_up_slow(**waiting.args, priority=waiting.priority)
        assert Work.objects.get(pk=work.pk).job_id == there.pk

    def test_one_at_a_time(self, large: Revision) -> None:
        """The queue itself hands out one of them, and beside it what has no lock."""
        work = jobs.start("renders-of-house", "workspace:1", doing="", enqueue=lambda number: jobs.defer(
            "previews.render_house", workspace_id=1, work_id=number
        ))  # fmt: skip
        handed: list[tuple[str, str | None]] = []
        with connection.cursor() as cursor:
            cursor.execute("insert into procrastinate_workers default values returning id")
            worker = cursor.fetchone()[0]
            for _ in range(3):
                cursor.execute("select task_name, lock from procrastinate_fetch_job_v2(null, %s)", [worker])
                handed.append(cursor.fetchone())
        assert handed == [("review.check_revision", "slow"), ("previews.render_house", None), (None, None)]
        assert work.pk
