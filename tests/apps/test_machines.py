"""Machines that differ: what an answer hangs on, who takes which work, and what becomes due (docs/decisions/0034)."""

from __future__ import annotations

import itertools
from datetime import timedelta
from typing import Any

import pytest
from django.db import connection
from django.test import Client
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.services import Details, add_revision, change_details, start_copy
from jetwind.apps.jobs import machines
from jetwind.apps.jobs.clock import look_after
from jetwind.apps.jobs.models import Clock, Machine, Work
from jetwind.apps.jobs.services import defer
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.rendering import render_now
from jetwind.apps.previews.services import ask_for_renders, render_what_is_missing
from jetwind.apps.review.answers import ask_for_checks, check_now, recheck_if_outdated
from jetwind.apps.review.models import CheckRun
from jetwind.apps.review.selectors import walk_of
from jetwind.core.checking import registry
from jetwind.core.reports import STATIONS
from jetwind.engines.browser import FakeBrowser
from jetwind.engines.machine import MachineFacts
from tests.apps.helpers import taken_in
from tests.factories import mail

pytestmark = pytest.mark.django_db
CODE = dict.fromkeys(registry(), "one")
#: Each machine has a name of its own: what a name has published is read once by a process.
_number = itertools.count()
ENGLISH = mail("<p>We fire the kiln on Tuesday, and the glaze is new. Come and have a look at the bowls that we made.</p>")
GERMAN = mail(
    "<p>Wir brennen am Dienstag, und die Glasur ist neu. Kommen Sie vorbei und sehen Sie die Schalen an, die wir gemacht haben.</p>",
    None,
    Subject="Die neuen Glasuren sind da",
)


def machine(*, seen: timedelta = timedelta(), started: timedelta = timedelta(), is_stopped: bool = False, **facts: Any) -> Machine:
    """A worker that has published these facts."""
    now = timezone.now()
    made = MachineFacts(**{"checks": CODE, "words": {"en": "british"}, "browser": "shell 1", "fonts": "f", "rendering": "r", **facts})
    name = f"host {next(_number)}"
    return Machine.objects.create(
        name=name, host=name, key=name[-16:], facts=made.as_json(), started_at=now - started, seen_at=now - seen, is_stopped=is_stopped
    )


def jobs_waiting(task: str) -> list[dict[str, Any]]:
    """What the jobs of a task that wait are given."""
    return list(ProcrastinateJob.objects.filter(task_name=task, status="todo").order_by("id").values_list("args", flat=True))


def rechecks_of(house: Any) -> int:
    """How often the messages of a house have been looked through, or are to be."""
    return sum(job["workspace_id"] == house.workspace.pk for job in jobs_waiting("review.recheck_house"))


class TestAnswers:
    """An answer holds while one machine has what it used, or none has any."""

    def answered_on(self, settings: Any, house: Any, raw: bytes, **facts: Any) -> tuple[Any, Machine]:
        """A revision that was checked on a machine of these facts."""
        at = machine(**facts)
        settings.MACHINE = at.name
        revision = taken_in(house, raw)
        check_now(revision)
        settings.MACHINE = ""
        return revision, at

    def is_stale(self, revision: Any) -> bool:
        """As a page of it says."""
        return walk_of(revision).is_stale

    def test_another_machine_makes_nothing_stale(self, settings: Any, house: Any) -> None:
        """More languages, other dictionaries, another program, another browser."""
        revision, at = self.answered_on(settings, house, ENGLISH)
        assert not self.is_stale(revision)
        machine(words={"en": "american", "de": "new"}, reading="", browser="shell 2")
        assert not self.is_stale(revision)
        # The machine that answered has gone, and no other has its dictionary.
        at.delete()
        assert self.is_stale(revision)

    def test_languages_that_were_not_read(self, settings: Any, house: Any) -> None:
        """A German dictionary is nothing to an English message; a German message is asked again where there is one at last."""
        english, at = self.answered_on(settings, house, ENGLISH)
        german, _ = self.answered_on(settings, house, GERMAN)
        assert "dictionaries:de=" in german.check_runs.get().outcomes["wording.spelling"][2]
        Machine.objects.exclude(pk=at.pk).delete()
        Machine.objects.filter(pk=at.pk).update(facts={**at.facts, "words": {"en": "british", "de": "new"}})
        assert (self.is_stale(english), self.is_stale(german)) == (False, True)

    def test_what_nobody_has_any_more(self, settings: Any, house: Any) -> None:
        """The machine with the German dictionary stops: its answer is the best that there is."""
        german, at = self.answered_on(settings, house, GERMAN, words={"en": "british", "de": "new"})
        machine()
        at.delete()
        assert not self.is_stale(german)

    def test_a_machine_that_leaves(self, settings: Any, house: Any) -> None:
        """What it answered holds, and nobody waits for what it could have answered."""
        rich, leaving = self.answered_on(settings, house, GERMAN, words={"en": "british", "de": "new"})
        machine()
        poor, _ = self.answered_on(settings, house, GERMAN.replace(b"Die neuen Glasuren", b"Die alten Glasuren"))
        assert self.is_stale(poor)
        Machine.objects.filter(pk=leaving.pk).update(is_stopped=True)
        assert (self.is_stale(rich), self.is_stale(poor)) == (False, False)

    def test_a_program_that_reads_pictures(self, settings: Any, house: Any) -> None:
        """It is nothing to a message without pictures that hold words, unless a check asked for it in vain."""
        pictured = mail('<p>Come and see.</p><img src="https://k.org/a.png" width="300" height="200" alt="x">')
        revision, _ = self.answered_on(settings, house, pictured)
        used = {one for answer in revision.check_runs.get().outcomes.values() for one in answer[2]}
        assert "reading=" in used
        machine(reading="reader 1")
        assert self.is_stale(revision)

    def test_other_code(self, settings: Any, house: Any) -> None:
        """Of one check: its answer alone is asked for again, by the worker that has the code."""
        revision, at = self.answered_on(settings, house, ENGLISH)
        at.delete()
        newer = machine(checks={**CODE, "links.empty": "two"})
        assert self.is_stale(revision)
        settings.MACHINE = newer.name
        again = check_now(revision)
        assert again.pk != CheckRun.objects.earliest("pk").pk
        codes = {check_id: next(one for one in answer[2] if one.startswith("code=")) for check_id, answer in again.outcomes.items()}
        assert [check_id for check_id, code in codes.items() if code != "code=one"] == ["links.empty"]
        assert not self.is_stale(revision)

    def test_while_nobody_works(self, settings: Any, house: Any) -> None:
        """The machine that was seen last still counts."""
        revision, at = self.answered_on(settings, house, ENGLISH)
        Machine.objects.filter(pk=at.pk).update(seen_at=timezone.now() - timedelta(days=3))
        assert not self.is_stale(revision)
        assert machines.queue_for("checks") == "checks"


class TestQueues:
    """Work goes to those that do it best."""

    def test_more_languages(self) -> None:
        """Of the same code, the machine with more of them; one that is gone or has stopped takes nothing."""
        poor = machine()
        rich = machine(words={"en": "british", "de": "new"})
        facts = MachineFacts.from_json(rich.facts)
        assert machines.queue_for("checks") == f"checks:{facts.checks_key}"
        assert machines.queue_for("checks") in machines.queues_of(facts)
        assert machines.queue_for("checks") not in machines.queues_of(MachineFacts.from_json(poor.facts))
        Machine.objects.filter(pk=rich.pk).update(is_stopped=True)
        assert machines.queue_for("checks") == f"checks:{MachineFacts.from_json(poor.facts).checks_key}"
        Machine.objects.all().update(seen_at=timezone.now() - machines.GONE_AFTER * 2)
        assert machines.queue_for("checks") == "checks"

    def test_newer_code(self) -> None:
        """It goes before more languages."""
        machine(words={"en": "british", "de": "new"}, started=timedelta(hours=1))
        newer = MachineFacts.from_json(machine(checks={**CODE, "links.empty": "two"}).facts)
        assert machines.queue_for("checks") == f"checks:{newer.checks_key}"

    def test_what_a_machine_cannot_do(self) -> None:
        """Without a browser it listens to no renders, without a program to no pictures."""
        bare = MachineFacts.from_json(machine(browser="", reading="").facts)
        assert machines.queues_of(bare) == ["default", "checks", f"checks:{bare.checks_key}"]
        assert (machines.queue_for("renders"), machines.queue_for("pictures")) == ("renders", "pictures")

    def test_work_is_passed_on(self) -> None:
        """From a machine that is gone to one that is there; what nobody can do waits, and other work is left alone."""
        gone = machine(browser="shell 1")
        job = defer("previews.render_revision", needs="renders", revision_id=1, work_id=1)
        other = defer("links.open", revision_id=1, work_id=1)
        Machine.objects.filter(pk=gone.pk).update(seen_at=timezone.now() - machines.GONE_AFTER * 2)
        assert machines.pass_on() == 1
        assert ProcrastinateJob.objects.get(pk=job).queue_name == "renders"
        assert machines.pass_on() == 0
        there = MachineFacts.from_json(machine(browser="shell 2").facts)
        assert machines.pass_on() == 1
        assert ProcrastinateJob.objects.get(pk=job).queue_name == f"renders:{there.renders_key}"
        assert ProcrastinateJob.objects.get(pk=other).queue_name == "default"
        assert machines.pass_on() == 0
        # One that has stopped in good order waits for nobody to notice.
        Machine.objects.update(is_stopped=True)
        assert machines.pass_on() == 1
        assert ProcrastinateJob.objects.get(pk=job).queue_name == "renders"

    def test_publishing(self, settings: Any) -> None:
        """A worker has one row; the rows of this machine's workers that have ended go, those of others stay."""
        other = machine()
        name = machines.publish()
        ended = Machine.objects.create(
            name=f"{Machine.objects.get(name=name).host}:1",
            host=Machine.objects.get(name=name).host,
            key="x",
            facts={},
            started_at=timezone.now(),
            seen_at=timezone.now(),
            is_stopped=True,
        )
        assert machines.publish() == name
        assert not Machine.objects.filter(pk=ended.pk).exists()
        assert set(Machine.objects.values_list("name", flat=True)) == {other.name, name}
        settings.MACHINE = name
        assert machines.own_facts().checks.keys() == registry().keys()
        Machine.objects.filter(name=name).delete()
        machines._published.cache_clear()
        assert machines.own_facts().checks.keys() == registry().keys()
        machines.seen(name)
        assert Machine.objects.filter(name=name).exists()


class TestRenders:
    """What made a render is kept with it."""

    def rendered(self, house: Any) -> Any:
        """A revision with all its renders."""
        revision = taken_in(house, ENGLISH)
        work = ask_for_renders(revision)
        render_now(revision, work.pk, FakeBrowser())
        return revision

    def test_made_anew_with_another_browser(self, settings: Any, house: Any) -> None:
        """All of them together, and only where no machine has the old one any more."""
        old = machine()
        settings.MACHINE = old.name
        revision = self.rendered(house)
        keys = dict(revision.renders.values_list("profile", "key"))
        assert set(revision.renders.values_list("made_with", flat=True)) == {MachineFacts.from_json(old.facts).renders_key}
        newer = machine(browser="shell 2")
        render_what_is_missing(revision.pk)
        assert not revision.renders.filter(state=Render.State.WAITING).exists()
        old.delete()
        render_what_is_missing(revision.pk)
        assert set(revision.renders.values_list("state", flat=True)) == {Render.State.WAITING}
        settings.MACHINE = newer.name
        render_now(revision, Work.objects.get(kind="renders").pk, FakeBrowser())
        assert set(revision.renders.values_list("made_with", flat=True)) == {MachineFacts.from_json(newer.facts).renders_key}
        assert all(keys[profile] != key for profile, key in revision.renders.values_list("profile", "key"))

    def test_no_browser_anywhere(self, settings: Any, house: Any) -> None:
        """What is there stays."""
        old = machine()
        settings.MACHINE = old.name
        revision = self.rendered(house)
        old.delete()
        machine(browser="")
        render_what_is_missing(revision.pk)
        assert not revision.renders.filter(state=Render.State.WAITING).exists()

    def test_two_makings_are_not_compared(self, settings: Any, house: Any) -> None:
        """The page says so, offers to render the older one anew, and that is done."""
        old = machine()
        settings.MACHINE = old.name
        revision = self.rendered(house)
        newer = machine(browser="shell 2")
        settings.MACHINE = newer.name
        second = add_revision(house.author, revision.mailing, ENGLISH.replace(b"Tuesday", b"Friday"), "b.eml")
        render_now(second, ask_for_renders(second).pk, FakeBrowser())
        settings.MACHINE = ""
        client = Client()
        client.force_login(house.reviewer)
        profile = second.renders.earliest("pk").profile
        address = f"/mailings/{revision.mailing_id}/r2/appearance/compare/"
        asked: dict[str, str] = {"left": profile, "right": profile, "against": "1"}
        page = client.get(address, asked).content.decode()
        assert "made with another browser, other fonts or other code" in page
        assert "What differs" not in page
        client.post(f"/mailings/{revision.mailing_id}/r1/renders/steer/", {"profile": profile, "mode": "own"})
        assert revision.renders.get(profile=profile, mode="own", reader="").state == Render.State.WAITING
        settings.MACHINE = newer.name
        render_now(revision, Work.objects.get(kind="renders", subject=f"revision:{revision.pk}").pk, FakeBrowser())
        page = client.get(address, asked).content.decode()
        assert "What differs" in page


class TestPagesEnqueueNothing:
    """What is due is asked for by what made it due."""

    def test_every_station_of_a_stale_message(self, house: Any) -> None:
        """Rows of work, jobs and runs are what they were; the page says that the answers are old."""
        revision = taken_in(house, ENGLISH)
        check_now(revision)
        Work.objects.all().update(state=Work.State.DONE)
        Mailing.objects.filter(pk=revision.mailing_id).update(kind="transactional")
        client = Client()
        client.force_login(house.reviewer)
        before = self.everything()
        for station in STATIONS:
            page = client.get(f"/mailings/{revision.mailing_id}/r1/{station.slug}/")
            assert page.status_code == 200
            assert "Circumstances have changed since these checks ran" in page.content.decode(), station.slug
        assert self.everything() == before

    def everything(self) -> dict[str, int]:
        """Rows of every table but sessions, and the highest number of a job."""
        with connection.cursor() as cursor:
            tables = [name for name in connection.introspection.table_names(cursor) if name != "django_session"]
            counted = {}
            for name in tables:
                cursor.execute(f'SELECT count(*) FROM "{name}"')
                counted[name] = int(cursor.fetchone()[0])
        return counted


class TestDue:
    """Events, and the clock of the workers."""

    def test_titles(self, house: Any) -> None:
        """Messages that have the title now, and those that had it along with this one until now."""
        one, two, three = (taken_in(house, ENGLISH) for _ in range(3))
        for revision, title in ((one, "Spring"), (two, "spring "), (three, "Summer")):
            Mailing.objects.filter(pk=revision.mailing_id).update(title=title)
        before = len(jobs_waiting("review.recheck_messages"))
        one.mailing.refresh_from_db()
        change_details(house.author, one.mailing, Details("SUMMER", "promotional", "", None, "UTC"))
        made = jobs_waiting("review.recheck_messages")[before:]
        assert [job["mailing_ids"] for job in made] == [[two.mailing_id, three.mailing_id]]

    def test_copies(self, house: Any) -> None:
        """A new revision of the message that they were made from."""
        revision = taken_in(house, ENGLISH)
        copy = start_copy(house.author, revision.mailing)
        before = len(jobs_waiting("review.recheck_messages"))
        add_revision(house.author, revision.mailing, ENGLISH.replace(b"Tuesday", b"Friday"), "b.eml")
        assert [job["mailing_ids"] for job in jobs_waiting("review.recheck_messages")[before:]] == [[copy.pk]]

    def test_a_planned_time_passes(self, house: Any) -> None:
        """It is told once."""
        revision = taken_in(house, ENGLISH)
        machine()
        look_after()
        Mailing.objects.filter(pk=revision.mailing_id).update(planned_at=timezone.now() - timedelta(seconds=30))
        before = len(jobs_waiting("review.recheck_messages"))
        Clock.objects.update(looked_at=timezone.now() - timedelta(minutes=1))
        look_after()
        look_after()
        assert [job["mailing_ids"] for job in jobs_waiting("review.recheck_messages")[before:]] == [[revision.mailing_id]]

    def test_machines_change_and_days_begin(self, house: Any) -> None:
        """The whole house is looked through, once."""
        machine()
        look_after()
        Work.objects.all().update(state=Work.State.DONE)
        before = rechecks_of(house)
        look_after()
        assert rechecks_of(house) == before
        machine(words={"en": "british", "de": "new"})
        look_after()
        assert rechecks_of(house) == before + 1
        Work.objects.all().update(state=Work.State.DONE)
        Clock.objects.update(looked_at=timezone.now() - timedelta(days=1))
        look_after()
        assert rechecks_of(house) == before + 2

    def test_only_what_is_out_of_date_is_asked_again(self, house: Any) -> None:
        """A recheck of a message whose answers hold asks for nothing."""
        revision = taken_in(house, ENGLISH)
        check_now(revision)
        Work.objects.all().update(state=Work.State.DONE)
        recheck_if_outdated(revision.pk)
        assert not Work.objects.filter(kind="checks").exclude(state=Work.State.DONE).exists()
        Mailing.objects.filter(pk=revision.mailing_id).update(kind="transactional")
        recheck_if_outdated(revision.pk)
        assert Work.objects.filter(kind="checks").exclude(state=Work.State.DONE).count() == 1
        assert ask_for_checks(revision).kind == "checks"
