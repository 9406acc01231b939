"""Many messages taken in at once: a line for each file, progress, stopped and gone on, once whatever dies."""

import io
import threading
import zipfile
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection

from jetwind.apps.intake import many
from jetwind.apps.intake.models import Batch, BatchFile, Mailing
from jetwind.apps.intake.tasks import take_in_many
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.ui.refusal import NotAllowed, Refused
from tests.apps.helpers import page_of
from tests.factories import archive, mail, package, picture

pytestmark = pytest.mark.django_db


def hundred() -> bytes:
    """A zip of a hundred messages in two folders, with clutter that a system left."""
    files = {f"{'spring' if number % 2 else 'autumn'}/{number:03}.eml": mail(Subject=f"Message {number}") for number in range(100)}
    return archive({**files, "__MACOSX/._001.eml": b"x", ".DS_Store": b"x"})


def work_of(batch: Batch) -> Work:
    """The newest work on a batch."""
    found = jobs.latest(many.BATCH, f"batch:{batch.pk}")
    assert found is not None
    return found


def carry_out(batch: Batch) -> Work:
    """What the worker does."""
    work = work_of(batch)
    take_in_many.func(batch_id=batch.pk, work_id=work.pk)
    work.refresh_from_db()
    return work


class TestMany:
    """From the form to the list."""

    def test_a_hundred_stopped_and_gone_on(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """Stopped after a few; going on takes in the rest, and none twice."""
        batch = many.bring(house.author, house.workspace, [("campaign.zip", hundred())])
        report, seen = jobs.report, []

        def stopping(work_id: int, **told: Any) -> None:
            seen.append(told["done"])
            if told["done"] == 7:
                house.client(house.author).post(f"/take-in/many/{batch.pk}/go-on/", {"do": "cancel"})
            report(work_id, **told)

        monkeypatch.setattr(jobs, "report", stopping)
        monkeypatch.setattr("jetwind.apps.intake.services.follows", lambda: _Quiet())
        assert carry_out(batch).state == "cancelled"
        assert Mailing.objects.count() == 7
        client = house.client(house.author)
        page = page_of(client.get(f"/take-in/many/{batch.pk}/"))
        assert "7 messages taken in." in page and "It was stopped." in page
        monkeypatch.setattr(jobs, "report", report)
        client.post(f"/take-in/many/{batch.pk}/go-on/")
        work = carry_out(batch)
        assert (work.state, work.done, work.total) == ("done", 100, 100)
        assert Mailing.objects.count() == 100
        assert BatchFile.objects.filter(batch=batch, refused="").count() == 100
        assert seen[:3] == [0, 1, 2]
        assert "100 messages taken in." in page_of(client.get(f"/take-in/many/{batch.pk}/"))

    def test_a_line_for_each_refusal(self, house: Any) -> None:
        """What is no message, empty, or broken inside is told by name; the others are taken in, a package among them."""
        files = {
            "good.eml": mail(Subject="Good"),
            "notes.txt": b"x",
            "empty.eml": b"",
            "broken.zip": b"PK\x03\x04 nothing",
            "site.zip": package('<img src="a.png" alt="A pot">', a_dot_png=picture()),
            "page.html": b"<p>Hello</p>",
        }
        batch = many.bring(house.author, house.workspace, [("mixed.zip", archive(files))])
        assert carry_out(batch).state == "done"
        told = {one.name: one.refused for one in batch.files.all()}
        assert [name for name, words in told.items() if not words] == ["good.eml", "site.zip", "page.html"]
        assert "no message" in told["notes.txt"] and "is empty" in told["empty.eml"] and "broken zip" in told["broken.zip"]
        page = page_of(house.client(house.author).get(f"/take-in/many/{batch.pk}/"))
        assert "3 messages taken in, 3 files refused." in page and ">Good</a>" in page

    def test_several_files(self, house: Any) -> None:
        """Chosen one by one; two of one name are two messages."""
        files = [SimpleUploadedFile("a.eml", mail(Subject=subject)) for subject in ("One", "Two")]
        client = house.client(house.author)
        answer = client.post("/take-in/many/", {"files": files})
        batch = Batch.objects.get()
        assert answer["Location"] == f"/take-in/many/{batch.pk}/"
        assert "Waiting for a worker" in page_of(client.get(answer["Location"]))
        carry_out(batch)
        assert set(Mailing.objects.values_list("title", flat=True)) == {"One", "Two"}
        assert house.client(house.outsider).get(answer["Location"]).status_code == 404
        assert "2 files" in page_of(client.get("/take-in/many/"))

    def test_two_files_of_one_name_in_a_zip(self, house: Any) -> None:
        """Each is taken in with its own content."""
        out = io.BytesIO()
        with pytest.warns(UserWarning, match="Duplicate name"), zipfile.ZipFile(out, "w") as made:
            for subject in ("One", "Two"):
                made.writestr("a.eml", mail(Subject=subject))
        carry_out(many.bring(house.author, house.workspace, [("a.zip", out.getvalue())]))
        assert set(Mailing.objects.values_list("title", flat=True)) == {"One", "Two"}

    def test_refused(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """Nothing, one message alone, too many, too much, a broken zip, a person who may not."""
        place = house.workspace
        with pytest.raises(Refused, match="No file came along"):
            many.bring(house.author, place, [])
        with pytest.raises(Refused, match="take it in on Departures"):
            many.bring(house.author, place, [("a.eml", mail())])
        with pytest.raises(Refused, match="one go takes 500"):
            many.bring(house.author, place, [("a.eml", b"x")] * 501)
        with pytest.raises(NotAllowed):
            many.bring(house.outsider, place, [("a.zip", hundred())])
        batch = many.bring(house.author, place, [("a.zip", b"PK\x03\x04 nothing")])
        work = carry_out(batch)
        assert (work.state, work.problem) == ("failed", "“a.zip” is a broken zip.")
        monkeypatch.setattr(many, "MOST", 3)
        batch = many.bring(house.author, place, [("b.zip", hundred())])
        assert "one go takes 3" in carry_out(batch).problem
        monkeypatch.setattr(many, "LARGEST", 10)
        with pytest.raises(Refused, match="MB together"):
            many.bring(house.author, place, [("c.zip", hundred())])


class _Quiet:
    """What follows a new message, left out where a hundred of them are taken in."""

    def __getattr__(self, name: str) -> Any:
        return lambda *given, **more: None


@pytest.mark.django_db(transaction=True)
def test_two_workers_at_one_file(house: Any) -> None:
    """The file becomes one message."""
    batch = many.bring(house.author, house.workspace, [("a.zip", archive({"one.eml": mail(Subject="One")}))])
    start = threading.Barrier(2)

    def take() -> None:
        try:
            start.wait(10)
            many.take_one(batch.pk, 0, "one.eml")
        except Exception as wrong:  # the second one finds the row of the first
            assert "one_row_of_a_file" in str(wrong)
        finally:
            connection.close()

    threads = [threading.Thread(target=take) for _ in range(2)]
    for one in threads:
        one.start()
    for one in threads:
        one.join(60)
    assert (Mailing.objects.count(), BatchFile.objects.count()) == (1, 1)
