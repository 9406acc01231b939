"""Work in the background: what is interrupted is taken up again, what cannot be says so."""

from contextlib import closing
from datetime import timedelta
from typing import Any

import psycopg
import pytest
from django.db import OperationalError, connection
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.intake.models import Revision
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import answers
from jetwind.apps.review.tasks import check_revision
from tests.apps.helpers import taken_in


def end_job(work: Work, status: str) -> None:
    """The job of a piece of work comes to its end in the queue, and nothing else does."""
    with connection.cursor() as cursor:
        cursor.execute("update procrastinate_jobs set status = 'doing' where id = %s", [work.job_id])
        cursor.execute("update procrastinate_jobs set status = %s where id = %s", [status, work.job_id])


@pytest.fixture
def work(house: Any) -> Work:
    """A check that waits for a worker."""
    revision = taken_in(house)
    Work.objects.all().delete()
    return answers.ask_for_checks(revision)


class TestSettling:
    """Rows of work and jobs of the queue never disagree for long."""

    def test_what_goes_on_is_left_alone(self, work: Work) -> None:
        """A job that waits or runs."""
        assert jobs.take_up_again() == []
        end_job(work, "doing")
        assert jobs.take_up_again() == []

    @pytest.mark.parametrize("status", ["failed", "succeeded", "aborted"])
    def test_a_job_that_ended_without_its_work(self, work: Work, status: str) -> None:
        """It is enqueued again, with the same task and arguments, and carried out."""
        before = work.job_id
        end_job(work, status)
        assert [found.pk for found in jobs.take_up_again()] == [work.pk]
        work.refresh_from_db()
        job = ProcrastinateJob.objects.get(pk=work.job_id)
        assert (work.state, work.interruptions, job.status, job.task_name) == ("waiting", 1, "todo", "review.check_revision")
        assert (work.job_id != before, job.args["work_id"]) == (True, work.pk)
        check_revision.func(**job.args)
        work.refresh_from_db()
        assert work.state == "done"

    def test_too_often(self, work: Work) -> None:
        """It stops with the reason, and can be asked for anew."""
        for _ in range(jobs.MOST_INTERRUPTIONS + 1):
            work.refresh_from_db()
            end_job(work, "failed")
            jobs.take_up_again()
        work.refresh_from_db()
        assert (work.state, work.problem) == ("failed", "It was interrupted 6 times")

    def test_cancelled_meanwhile(self, work: Work) -> None:
        """Nobody asked for it to go on."""
        Work.objects.update(state="running")
        work.refresh_from_db()
        jobs.cancel(work)
        end_job(work, "failed")
        jobs.take_up_again()
        work.refresh_from_db()
        assert work.state == "cancelled"

    def test_no_job_at_all(self, work: Work) -> None:
        """Deleted from the queue by hand."""
        Work.objects.update(job_id=None)
        jobs.take_up_again()
        work.refresh_from_db()
        assert work.state == "failed"


class TestEnds:
    """How the body of a task may end."""

    def test_the_database_goes_away(self, work: Work) -> None:
        """The work stays open, to be taken up again; it is no failure of its own."""
        with pytest.raises(OperationalError), jobs.carried_out(work.pk):
            raise OperationalError("the connection is closed")
        work.refresh_from_db()
        assert work.is_open

    def test_what_cannot_be_done(self, work: Work) -> None:
        """Its reason is told to people, and the queue has nothing to log."""
        with jobs.carried_out(work.pk):
            raise jobs.Failed("The files cannot be made: it takes too long.")
        work.refresh_from_db()
        assert (work.state, work.problem) == ("failed", "The files cannot be made: it takes too long.")

    def test_its_process_is_ending(self, work: Work) -> None:
        """What fails then is taken up again."""
        jobs.give_back_soon()
        try:
            with pytest.raises(RuntimeError), jobs.carried_out(work.pk):
                raise RuntimeError("cannot schedule new futures after shutdown")
        finally:
            jobs._stopping.clear()
        work.refresh_from_db()
        assert work.is_open

    def test_a_job_of_work_that_is_over(self, work: Work) -> None:
        """It comes late, as one that waited for its time does when the work was hurried: nothing is done twice, and the end stays."""
        arguments = ProcrastinateJob.objects.get(pk=work.job_id).args
        check_revision.func(**arguments)
        Work.objects.filter(pk=work.pk).update(state="failed", problem="x")
        answers.ask_for_checks(Revision.objects.get())
        check_revision.func(**arguments)
        work.refresh_from_db()
        assert (work.state, work.problem) == ("failed", "x")

    def test_a_worker_that_is_being_stopped(self, work: Work) -> None:
        """It gives its work back as a new job."""
        before = work.job_id
        jobs.give_back_soon()
        try:
            check_revision.func(**ProcrastinateJob.objects.get(pk=work.job_id).args)
        finally:
            jobs._stopping.clear()
        work.refresh_from_db()
        assert (work.state, work.interruptions, work.job_id != before) == ("waiting", 0, True)


@pytest.mark.django_db(transaction=True)
def test_a_worker_enqueues_in_its_own_transaction(house: Any) -> None:
    """What a task asks for is there for other workers when its work is, and not when that is taken back."""
    from django.db import transaction
    from procrastinate.contrib.django import app
    from procrastinate.contrib.django.django_connector import DjangoConnector

    revision = taken_in(house)
    Work.objects.all().delete()
    before = ProcrastinateJob.objects.count()
    # As the worker does it: the app talks to the queue over a connection of its own.
    connector = app.connector
    assert isinstance(connector, DjangoConnector)
    with app.replace_connector(connector.get_worker_connector().get_sync_connector()) as worker_app, worker_app.open():
        with pytest.raises(RuntimeError), transaction.atomic():
            answers.ask_for_checks(revision)
            raise RuntimeError
        assert (Work.objects.count(), ProcrastinateJob.objects.count()) == (0, before)
        answers.ask_for_checks(revision)
        assert (Work.objects.count(), ProcrastinateJob.objects.count()) == (1, before + 1)


@pytest.mark.django_db(transaction=True)
def test_a_paused_transaction_loses_its_locks(house: Any) -> None:
    """What a process holds that stops in the middle is free again after a while: PostgreSQL ends its session, as it is told to for all."""
    work = Work.objects.create(kind="checks", subject="revision:0", state=Work.State.RUNNING)
    with connection.cursor() as cursor:
        cursor.execute("show idle_in_transaction_session_timeout")
        assert cursor.fetchone() == ("2min",)
    with closing(psycopg.connect(**_of_the_test())) as paused:
        paused.execute("set idle_in_transaction_session_timeout = 200")
        paused.commit()
        paused.execute("select 1 from jobs_work where id = %s for update", [work.pk])
        # Waits for the lock, and gets it.
        assert Work.objects.filter(pk=work.pk).update(done=1) == 1
        with pytest.raises(psycopg.Error, match="idle-in-transaction"):
            paused.execute("select 1")


def _of_the_test() -> dict[str, Any]:
    known = connection.settings_dict
    return {"host": known["HOST"], "port": known["PORT"], "user": known["USER"], "password": known["PASSWORD"], "dbname": known["NAME"]}


@pytest.mark.django_db
def test_work_of_long_ago_is_forgotten() -> None:
    """The newest of each kind for a subject stays, and all that is open; jobs go when they have ended long ago."""
    long_ago = timezone.now() - jobs.REMEMBERED - timedelta(hours=1)
    old, newer, single, opened, recent = (
        Work.objects.create(kind=kind, subject=subject, state=state, job_id=number)
        for number, (kind, subject, state) in enumerate(
            [
                ("checks", "revision:1", "done"),
                ("checks", "revision:1", "failed"),
                ("renders", "revision:1", "cancelled"),
                ("checks", "revision:2", "waiting"),
                ("checks", "revision:3", "done"),
            ],
            1,
        )
    )
    Work.objects.create(kind="checks", subject="revision:3", state="done")
    Work.objects.exclude(pk=recent.pk).update(changed_at=long_ago)
    with connection.cursor() as cursor:
        for number, status, at in (
            (1, "succeeded", long_ago),
            (2, "failed", timezone.now()),
            (4, "succeeded", long_ago),
            (5, "todo", long_ago),
        ):
            cursor.execute(
                "INSERT INTO procrastinate_jobs (id, queue_name, task_name, status) VALUES (%s, 'default', 'x', 'todo')", [number]
            )
            cursor.execute("DELETE FROM procrastinate_events WHERE job_id = %s", [number])
            cursor.execute("UPDATE procrastinate_jobs SET status = %s WHERE id = %s", [status, number])
            cursor.execute("DELETE FROM procrastinate_events WHERE job_id = %s", [number])
            cursor.execute("INSERT INTO procrastinate_events (job_id, type, at) VALUES (%s, 'deferred', %s)", [number, at])
    assert jobs.sweep() == (1, 1)
    assert set(Work.objects.values_list("pk", flat=True)) >= {newer.pk, single.pk, opened.pk, recent.pk}
    assert not Work.objects.filter(pk=old.pk).exists()
    assert set(ProcrastinateJob.objects.values_list("pk", flat=True)) == {2, 4, 5}
