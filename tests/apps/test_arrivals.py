"""What arrived is held against the copy in the background, told by the checks, and shown; saved mails of other programs, too."""

from __future__ import annotations

import mailbox
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.jobs import services as jobs
from jetwind.apps.proofs import comparing, handing_over, services
from jetwind.apps.proofs.models import Arrival, TestCopy, TestSend
from jetwind.apps.proofs.tasks import compare_one, send_copies
from jetwind.apps.review.models import CheckRun, FindingRecord
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.engines.bounded import PastBudget
from jetwind.engines.mail import BOXES, Delivery, Handover, HandoverOutcome
from jetwind.engines.mail.boxes import changed, written_about
from tests.apps.helpers import checked, page_of, taken_in
from tests.factories import GOOD_HTML, GOOD_TEXT, mail

Change = Callable[[bytes], bytes]


@pytest.fixture
def way(monkeypatch: pytest.MonkeyPatch) -> dict[str, Change]:
    """The way out, ending in the Mailroom's own service; what stands in the table under an address is done to its mail."""
    changes: dict[str, Change] = {}

    def hand_over(server: Any, sender: str, recipient: str, content: bytes) -> Handover:
        services.keep_arrival(Delivery(sender, (recipient,), changes.get(recipient, bytes)(content)))
        return Handover(HandoverOutcome.TAKEN, "250 Kept")

    monkeypatch.setattr(handing_over, "hand_over", hand_over)
    return changes


def box(name: str) -> Change:
    """What a practice mailbox makes of a mail."""
    return lambda raw: changed(BOXES[name], raw)


def sent(house: Any, revision: Revision) -> list[Arrival]:
    """A test send to the list of the house, with its arrivals compared."""
    return carried_out(services.send_test(house.reviewer, revision, house.test_list, None))


def carried_out(send: TestSend) -> list[Arrival]:
    """A test send as a worker carries it out, with its arrivals compared."""
    work = jobs.latest(services.SENDS, f"send:{send.pk}")
    assert work is not None
    send_copies.func(send_id=send.pk, work_id=work.pk)
    found = list(Arrival.objects.filter(copy__send=send).order_by("pk"))
    for arrival in found:
        compare_one.func(arrival_id=arrival.pk)
    return list(Arrival.objects.filter(copy__send=send).order_by("pk"))


def told(revision: Revision) -> dict[str, str]:
    """The newest findings about arrivals, by check: their level."""
    checked(revision.mailing)
    run = CheckRun.objects.filter(revision=revision).order_by("pk").last()
    return {one.check_id: one.level for one in FindingRecord.objects.filter(run=run, check_id__startswith="sending.arrival-")}


class TestCompared:
    """From the hand-over to the finding."""

    def test_as_it_was_sent(self, house: Any, way: dict[str, Change]) -> None:
        """The very octets are kept, the arrival is compared, and nothing is told."""
        revision = taken_in(house, mail())
        arrivals = sent(house, revision)
        assert [arrival.compared["differences"] for arrival in arrivals if arrival.compared] == [[], []]
        copy = TestCopy.objects.order_by("pk")[0]
        assert store.fetch(copy.copy_sha256) == store.fetch(arrivals[0].blob_sha256)
        assert told(revision) == {}
        page = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/test-sends/"))
        assert page.count(", as it was sent") == 2

    def test_what_a_box_changed(self, house: Any, way: dict[str, Change]) -> None:
        """Findings of the station, each in one sentence for the copies that have it; a stop blocks."""
        way["one@kiln.org"] = box("strips-headers")
        way["two@mail.kiln.org"] = box("rewrites-links")
        revision = taken_in(house, mail())
        sent(house, revision)
        assert told(revision) == {"sending.arrival-header-lost": "stop", "sending.arrival-link-rewritten": "fix"}
        page = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/test-sends/"))
        assert "2 headers did not arrive as they were sent." in page
        assert "2 differences" in page

    def test_a_broken_signature(self, house: Any, way: dict[str, Change]) -> None:
        """Copies of the practice field's house are signed; one that is written anew before anybody verified it has a broken signature."""
        house.workspace.test_sender = "review@saltmarsh-kiln.example"
        house.workspace.save()
        way["one@kiln.org"] = box("breaks-signature")
        revision = taken_in(house, mail())
        (broken, whole) = sent(house, revision)
        assert told(revision) == {"sending.arrival-signature-broken": "fix"}
        assert whole.compared is not None and whole.compared["differences"] == []
        assert broken.compared is not None
        (difference,) = broken.compared["differences"]
        assert difference["data"] == {"domain": "saltmarsh-kiln.example", "why": "the body was changed after it was signed"}

    def test_a_later_send_takes_its_place(self, house: Any, way: dict[str, Change]) -> None:
        """The newest arrival at each address speaks; a send to somebody else takes nothing back."""
        revision = taken_in(house, mail())
        way["one@kiln.org"] = box("adds-footer")
        sent(house, revision)
        assert set(told(revision)) == {"sending.arrival-added-content"}
        way.clear()
        to_self = services.send_to_self(house.reviewer, revision, None)
        carried_out(to_self)
        assert set(told(revision)) == {"sending.arrival-added-content"}
        sent(house, revision)
        assert told(revision) == {}

    def test_twice(self, house: Any, way: dict[str, Change]) -> None:
        """A copy that came twice."""
        revision = taken_in(house, mail())
        (first, _) = sent(house, revision)
        again = services.keep_arrival(Delivery("test@kiln.org", ("one@kiln.org",), store.fetch(first.blob_sha256)))
        compare_one.func(arrival_id=again.pk)
        assert set(told(revision)) == {"sending.arrival-doubled"}

    def test_asked_for_with_the_arrival(self, house: Any, way: dict[str, Change]) -> None:
        """Keeping an arrival asks for its comparison in the same transaction; a stray has none."""
        sent(house, taken_in(house, mail()))
        before = ProcrastinateJob.objects.filter(task_name="proofs.compare_arrival").count()
        assert before == 2
        stray = services.keep_arrival(Delivery("", ("one@kiln.org",), mail(Message_ID="<1@elsewhere.org>")))
        compare_one.func(arrival_id=stray.pk)
        assert ProcrastinateJob.objects.filter(task_name="proofs.compare_arrival").count() == before
        assert stray.compared is None

    def test_too_costly(self, house: Any, way: dict[str, Change], monkeypatch: pytest.MonkeyPatch) -> None:
        """The page says so, and the checks say nothing."""

        def past(*_: Any, **__: Any) -> None:
            raise PastBudget("it took more than 20 s of processor time")

        monkeypatch.setattr(comparing, "judged_bounded", past)
        revision = taken_in(house, mail())
        (arrival, _) = sent(house, revision)
        assert "more than 20 s" in arrival.not_compared
        assert "more than 20 s" in page_of(house.client(house.reviewer).get(f"/mailroom/{arrival.pk}/"))
        assert told(revision) == {}


class TestPage:
    """One arrival."""

    def test_differences_and_way(self, house: Any, way: dict[str, Change], django_assert_max_num_queries: Any) -> None:
        """Both sides of each difference, stops first; hops with their delays; the receiver's word."""
        traces = (
            b"Authentication-Results: mx.kiln.org; spf=fail smtp.mailfrom=kiln.org; dkim=none\r\n"
            b"Received: from relay.kiln.org by mx.kiln.org with ESMTPS; Tue, 1 Dec 2026 09:30:00 +0000\r\n"
            b"Received: from desk by relay.kiln.org with ESMTP; Tue, 1 Dec 2026 09:00:00 +0000\r\n"
        )
        way["one@kiln.org"] = lambda raw: traces + box("strips-headers")(box("adds-footer")(raw))
        (arrival, _) = sent(house, taken_in(house, mail()))
        client = house.client(house.reviewer)
        with django_assert_max_num_queries(10):
            page = page_of(client.get(f"/mailroom/{arrival.pk}/"))
        assert page.index("Header lost or changed") < page.index("Content added on the way")
        assert "<del>List-Unsubscribe=One-Click</del>" in page
        assert "<ins>This message was checked by the gateway of Saltmarsh.</ins>" in page
        shown = page_of(client.get(f"/mailroom/{arrival.pk}/?view=way"))
        assert "30 min" in shown and "mx.kiln.org" in shown
        assert "<td>SPF</td><td>kiln.org</td><td>fail</td>" in shown

    def test_nothing_is_taken_for_markup(self, house: Any, way: dict[str, Change]) -> None:
        """Names of servers, words and addresses of a stranger."""
        evil = b"<script>alert(1)</script>"
        trace = b'Received: from a by <script>x</script> with y; Tue, 1 Dec 2026 09:00:00 +0000\r\nAuthentication-Results: "<b>x"; spf=<i>fail\r\n'
        way["one@kiln.org"] = lambda raw: (
            trace + raw.replace(b"List-Unsubscribe: <https://www.kiln.org/leave>", b"List-Unsubscribe: " + evil)
        )
        (arrival, _) = sent(house, taken_in(house, mail()))
        for view in ("differences", "way"):
            page = page_of(house.client(house.reviewer).get(f"/mailroom/{arrival.pk}/?view={view}"))
            assert "<script>alert" not in page and "<script>x" not in page and "<i>fail" not in page

    def test_practice_boxes_are_listed(self, house: Any) -> None:
        """Where test sends may reach them; each with what it does."""
        assert "boxes.saltmarsh-kiln.example" not in page_of(house.client(house.reviewer).get("/settings/test-lists/"))
        house.workspace.test_domains = ["kiln.org", "saltmarsh-kiln.example"]
        house.workspace.save()
        page = page_of(house.client(house.reviewer).get("/settings/test-lists/"))
        assert all(f"<td>{one.address}</td><td>{one.does}</td>" in page for one in BOXES.values())


class TestSavedMail:
    """A mail that somebody saved from a mail program."""

    def keep(self, house: Any, revision: Revision, raw: bytes, who: Any = None) -> Any:
        """Through the page."""
        file = SimpleUploadedFile("saved.eml", raw)
        return house.client(who or house.reviewer).post(f"/mailings/{revision.mailing_id}/r1/test-sends/keep/", {"mail": file}, follow=True)

    def test_by_its_message_id(self, house: Any, way: dict[str, Change]) -> None:
        """It is compared with its own copy, logged, and kept once."""
        revision = taken_in(house, mail())
        (_, second) = sent(house, revision)
        saved = box("drops-styles")(box("rewrites-links")(store.fetch(second.blob_sha256)))
        answer = self.keep(house, revision, saved)
        assert "Kept as what arrived at two@mail.kiln.org" in page_of(answer)
        kept = Arrival.objects.get(is_dropped=True)
        assert (kept.copy_id, kept.by) == (second.copy_id, house.reviewer)
        compare_one.func(arrival_id=kept.pk)
        assert set(told(revision)) == {"sending.arrival-link-rewritten"}
        self.keep(house, revision, saved)
        assert Arrival.objects.filter(is_dropped=True).count() == 1

    def test_by_its_content(self, house: Any, way: dict[str, Change]) -> None:
        """A program that saves a mail under another Message-ID; the recipient tells which copy."""
        revision = taken_in(house, mail())
        (_, second) = sent(house, revision)
        raw = store.fetch(second.blob_sha256)
        raw = raw.replace(second.message_id.encode(), b"<other@program.example>")
        assert self.keep(house, revision, raw).status_code == 200
        assert Arrival.objects.get(is_dropped=True).copy_id == second.copy_id

    @pytest.mark.parametrize(
        ("raw", "said"),
        [
            (b"", "The file is no mail"),
            (b"<html><p>page</p></html>", "The file is no mail"),
            (
                mail("<p>Something about zebras in a zoo far away</p>", "Zebras in a zoo far away", Message_ID="<9@a.org>"),
                "belongs to no test copy",
            ),
        ],
    )
    def test_refused_with_a_sentence(self, house: Any, way: dict[str, Change], raw: bytes, said: str) -> None:
        """Nothing is kept."""
        revision = taken_in(house, mail())
        sent(house, revision)
        assert said in page_of(self.keep(house, revision, raw))
        assert not Arrival.objects.filter(is_dropped=True).exists()

    def test_who_may(self, house: Any, way: dict[str, Change]) -> None:
        """Those who may send tests; nobody of another workspace."""
        revision = taken_in(house, mail())
        (first, _) = sent(house, revision)
        assert self.keep(house, revision, store.fetch(first.blob_sha256), house.approver).status_code == 403
        assert self.keep(house, revision, store.fetch(first.blob_sha256), house.outsider).status_code == 404
        with pytest.raises(NotAllowed):
            services.keep_saved(house.approver, revision, store.fetch(first.blob_sha256))

    def test_too_large(self, house: Any, way: dict[str, Change], monkeypatch: pytest.MonkeyPatch) -> None:
        """Refused before it is read."""
        monkeypatch.setattr(services, "LARGEST_INPUT", 1_000)
        with pytest.raises(Refused, match="larger than"):
            services.keep_saved(house.reviewer, taken_in(house, mail()), b"From: a\nTo: b\n\n" + b"x" * 2_000)


class TestMailbox:
    """A mailbox file that a mail program wrote."""

    def written(self, tmp_path: Path, *mails: bytes) -> bytes:
        """By the standard library, which writes a mark before lines that begin as a separator does."""
        box = mailbox.mbox(tmp_path / "a.mbox")
        for one in mails:
            box.add(one)
        box.close()
        return (tmp_path / "a.mbox").read_bytes()

    def test_each_mail_with_its_copy(self, house: Any, way: dict[str, Change], tmp_path: Path) -> None:
        """A line that begins with From is no new mail; a mail of somebody else is counted and not kept."""
        revision = taken_in(house, mail(text=GOOD_TEXT + "\nFrom the kiln, with love.\n"))
        (first, second) = sent(house, revision)
        other = mail("<p>Something about zebras in a zoo far away</p>", "Zebras in a zoo far away", Message_ID="<9@a.org>")
        raw = self.written(
            tmp_path, *(b"X-Saved: yes\r\n" + one for one in (store.fetch(first.blob_sha256), other, store.fetch(second.blob_sha256)))
        )
        file = SimpleUploadedFile("a.mbox", raw)
        page = page_of(
            house.client(house.reviewer).post(f"/mailings/{revision.mailing_id}/r1/test-sends/keep/", {"mail": file}, follow=True)
        )
        assert "Mails of the mailbox that belong to no test copy of this message: 1." in page
        kept = Arrival.objects.filter(is_dropped=True).order_by("pk")
        assert [arrival.copy_id for arrival in kept] == [first.copy_id, second.copy_id]
        for arrival in kept:
            compare_one.func(arrival_id=arrival.pk)
        assert told(revision) == {}

    def test_refused(self, house: Any, way: dict[str, Change], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        """None that belongs here, too many, or not permitted: nothing is kept."""
        revision = taken_in(house, mail())
        (first, _) = sent(house, revision)
        zebras = mail("<p>Something about zebras in a zoo far away</p>", "Zebras in a zoo far away", Message_ID="<9@a.org>")
        with pytest.raises(Refused, match="None of the mails"):
            services.keep_saved_file(house.reviewer, revision, self.written(tmp_path, zebras))
        with pytest.raises(NotAllowed):
            services.keep_saved_file(house.approver, revision, b"From a\n\n")
        monkeypatch.setattr(services, "MOST_SAVED", 1)
        with pytest.raises(Refused, match="more than 1 mails"):
            services.keep_saved_file(house.reviewer, revision, self.written(tmp_path, store.fetch(first.blob_sha256), zebras))
        assert not Arrival.objects.filter(is_dropped=True).exists()


class TestReports:
    """Bounces, complaints and answers by machines reach the copy that they are about."""

    def reported(self, arrival: Arrival, name: str) -> bytes:
        """What a practice mailbox writes about an arrival."""
        written = written_about(BOXES[name], store.fetch(arrival.blob_sha256), "test@saltmarsh-kiln.example")
        assert written is not None
        return written

    @pytest.mark.parametrize(
        ("name", "said"),
        [
            ("bounces-later", "bounced</a>: there is no such mailbox"),
            ("complains", "complained about</a>"),
            ("answers-by-itself", "answered by a machine</a>"),
        ],
    )
    def test_by_the_mailroom(self, house: Any, way: dict[str, Change], name: str, said: str) -> None:
        """The station, the Mailroom and the page of the report tell it; the report is not compared with the copy."""
        revision = taken_in(house, mail())
        (first, second) = sent(house, revision)
        report = services.keep_arrival(Delivery("", ("test@saltmarsh-kiln.example",), self.reported(second, name)))
        assert (report.copy, report.reports_on) == (None, second.copy)
        assert not ProcrastinateJob.objects.filter(task_name="proofs.compare_arrival", args__arrival_id=report.pk).exists()
        client = house.client(house.reviewer)
        page = page_of(client.get(f"/mailings/{revision.mailing_id}/r1/test-sends/"))
        assert page.count(said) == 1
        assert f"/mailroom/{report.pk}/" in page_of(client.get("/mailroom/"))
        assert "The copy to two@mail.kiln.org was" in page_of(client.get(f"/mailroom/{report.pk}/"))
        assert house.client(house.outsider).get(f"/mailroom/{report.pk}/").status_code == 404
        assert first.copy is not None
        assert not first.copy.reports.exists()

    def test_a_bounced_copy_is_sent_again(self, house: Any, way: dict[str, Change]) -> None:
        """Once: the bounce is of the past then, and a copy that did not bounce is not sent again."""
        revision = taken_in(house, mail())
        (_, second) = sent(house, revision)
        assert second.copy is not None
        with pytest.raises(Refused, match="it is not sent again"):
            services.send_again(house.reviewer, second.copy)
        services.keep_arrival(Delivery("", ("test@saltmarsh-kiln.example",), self.reported(second, "bounces-later")))
        assert "Send again" in page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/test-sends/"))
        assert "Send again" not in page_of(house.client(house.approver).get(f"/mailings/{revision.mailing_id}/r1/test-sends/"))
        services.send_again(house.reviewer, second.copy)
        second.copy.refresh_from_db()
        assert second.copy.state == TestCopy.State.WAITING
        assert second.copy.reports.get().is_past
        with pytest.raises(Refused, match="it is not sent again"):
            services.send_again(house.reviewer, second.copy)

    def test_a_saved_report(self, house: Any, way: dict[str, Change]) -> None:
        """Somebody drops the bounce that came to another mailbox; of another message it is refused."""
        revision = taken_in(house, mail())
        (_, second) = sent(house, revision)
        report = self.reported(second, "bounces-later")
        file = SimpleUploadedFile("bounce.eml", report)
        page = page_of(
            house.client(house.reviewer).post(f"/mailings/{revision.mailing_id}/r1/test-sends/keep/", {"mail": file}, follow=True)
        )
        assert "Kept: the copy to two@mail.kiln.org was bounced." in page
        assert services.keep_saved(house.reviewer, revision, report) == Arrival.objects.get(report="bounced")
        other = taken_in(house, mail(Subject="Another one"))
        with pytest.raises(Refused, match="belongs to no test copy of this message"):
            services.keep_saved(house.reviewer, other, report)

    def test_by_the_return_address(self, house: Any, way: dict[str, Change]) -> None:
        """A machine's mail in a form that no standard knows comes to the address that only this copy was sent from; a person's is no report."""
        revision = taken_in(house, mail())
        (_, second) = sent(house, revision)
        assert second.sender == f"test+{second.message_id.partition('@')[0][1:]}@kiln.org"
        raw = b"From: daemon@far.example\nSubject: Sorry, nobody here\n\nIt did not work.\n"
        report = services.keep_arrival(Delivery("", (second.sender.upper(),), raw))
        assert (report.reports_on, report.report, report.report_words) == (second.copy, "answered", "Sorry, nobody here")
        assert services.keep_arrival(Delivery("bo@far.example", (second.sender,), raw)).about is None
        assert services.keep_arrival(Delivery("", ("test+0.1@kiln.org",), raw)).about is None

    def test_broken_reports_are_kept(self, house: Any) -> None:
        """As mail: nothing in them is refused by the database, and the Mailroom takes them."""
        for raw in (
            b"\0",
            b"Auto-Submitted: auto-replied\nIn-Reply-To: <\0@a> <\xff@a>\nSubject: \0\xff\n\n\0",
            b"Content-Type: multipart/report\n\n",
        ):
            assert services.keep_arrival(Delivery("", ("test@kiln.org",), raw)).about is None

    def test_of_no_copy(self, house: Any, way: dict[str, Change]) -> None:
        """A bounce of something else is a stray."""
        (first, _) = sent(house, taken_in(house, mail()))
        report = self.reported(first, "bounces-later").replace(first.message_id.encode(), b"<else@where.example>")
        kept = services.keep_arrival(Delivery("", ("test@saltmarsh-kiln.example",), report))
        assert (kept.about, kept.report) == (None, "")


@pytest.mark.django_db(transaction=True)
def test_two_people_drop_the_same_file(house: Any, way: dict[str, Change]) -> None:
    """At the same moment: it is kept once."""
    revision = taken_in(house, mail(GOOD_HTML))
    (first, _) = sent(house, revision)
    raw = box("adds-footer")(store.fetch(first.blob_sha256))
    barrier = threading.Barrier(2)
    kept: list[int] = []

    def drop() -> None:
        barrier.wait()
        try:
            kept.append(
                services.keep_saved(house.reviewer, Revision.objects.select_related("mailing__workspace").get(pk=revision.pk), raw).pk
            )
        finally:
            connection.close()

    threads = [threading.Thread(target=drop) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(kept) == 2 and len(set(kept)) == 1
    assert Arrival.objects.filter(is_dropped=True).count() == 1
