"""Test sends to allowed addresses, one message each, and what arrives."""

import contextlib
import re
import threading
import uuid
from datetime import timedelta
from typing import Any

import pytest
from django.db import IntegrityError, connection, transaction
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.intake.models import Mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.proofs import handing_over, services, test_lists
from jetwind.apps.proofs.models import Arrival, TestAddress, TestCopy, TestSend
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace import domains
from jetwind.apps.workspace.models import ProvenDomain, SampleReader, Workspace
from jetwind.core.message import read_bytes
from jetwind.engines.mail import Delivery, Handover, HandoverOutcome
from tests.apps.helpers import Post, handed_over, taken_in
from tests.factories import GOOD_HTML, mail, package, picture


class TestSending:
    """From the form to the arrival."""

    def test_one_message_to_each_address(self, house: Any, post: Post) -> None:
        """Marked, merged, each with one recipient, and found again by its Message-ID."""
        revision = taken_in(house, mail(Subject="For {{ first_name | default: 'you' }}", To="all@kiln.org, more@kiln.org"))
        send = services.send_test(
            house.reviewer, revision, house.test_list, services.Choices(readers=(SampleReader.objects.get(name="Bo"),))
        )
        handed_over(send)
        # Each with a return address of its own.
        assert [(re.sub(r"\+[0-9a-f]{24}\.\d+@", "@", sender), recipient) for sender, recipient, _ in post] == [
            ("test@kiln.org", "one@kiln.org"),
            ("test@kiln.org", "two@mail.kiln.org"),
        ]
        assert len({sender for sender, _, _ in post}) == 2
        for _, recipient, content in post:
            arrived = read_bytes(content, "x.eml")
            assert [box.address for box in arrived.mailboxes("To")] == [recipient]
            assert arrived.subject == "[Test r1] For Bo"
        assert [arrival.copy.address for arrival in Arrival.objects.order_by("id")] == ["one@kiln.org", "two@mail.kiln.org"]  # type: ignore[union-attr]

    def test_a_task_that_runs_twice_sends_once(self, house: Any, post: Post) -> None:
        """What was taken is not sent again."""
        send = services.send_test(house.reviewer, taken_in(house), house.test_list, None)
        handed_over(send)
        handed_over(send)
        assert len(post) == 2

    def test_asked_for_again_meanwhile(self, house: Any, post: Post, monkeypatch: pytest.MonkeyPatch) -> None:
        """A copy that somebody sends again while others are handed over goes in the same work, and one of its last moment in the next."""
        revision = taken_in(house)
        send = services.send_test(house.reviewer, revision, house.test_list)
        first = send.copies.order_by("pk")[0]
        TestCopy.objects.filter(pk=first.pk).update(state="refused")
        hand_over = handing_over.hand_over
        presses = [
            lambda: services.send_again(house.reviewer, TestCopy.objects.select_related("send__mailing__workspace").get(pk=first.pk))
        ]

        def press(*given: Any) -> Handover:
            if presses:
                presses.pop()()
            return hand_over(*given)

        monkeypatch.setattr(handing_over, "hand_over", press)
        handed_over(send)
        assert [recipient for _, recipient, _ in post] == ["two@mail.kiln.org", "one@kiln.org"]
        # Between the last look and the end of the work.
        TestCopy.objects.filter(pk=first.pk).update(state="refused")
        report = jobs.report

        def report_and_press(work_id: int, *, doing: str, **more: Any) -> None:
            report(work_id, doing=doing, **more)
            if doing == "handed over" and TestCopy.objects.get(pk=first.pk).state == "refused":
                TestCopy.objects.filter(pk=first.pk).update(state="waiting")

        monkeypatch.setattr(handing_over.jobs, "report", report_and_press)
        services.send_again(house.reviewer, TestCopy.objects.select_related("send__mailing__workspace").get(pk=first.pk))
        TestCopy.objects.filter(pk=first.pk).update(state="refused")
        handed_over(send)
        assert len(post) == 2
        assert Work.objects.filter(kind=services.SENDS, state__in=("waiting", "running")).count() == 1
        handed_over(send)
        assert len(post) == 3

    def test_the_page_shows_every_arrival(self, house: Any, post: Post, django_assert_max_num_queries: Any) -> None:
        """Each copy with its way, and ten questions to the database however many there are."""
        revision = taken_in(house)
        for _ in range(3):
            handed_over(services.send_test(house.reviewer, revision, house.test_list, None))
        client = house.client(house.reviewer)
        with django_assert_max_num_queries(10):
            page = client.get(f"/mailings/{revision.mailing_id}/r1/test-sends/").content.decode()
        assert page.count(">arrived ") == 6
        assert all(f'href="/mailroom/{arrival.pk}/"' in page for arrival in Arrival.objects.all())

    def test_a_refused_copy_says_why(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """The server's words stand beside the copy."""
        monkeypatch.setattr(handing_over, "hand_over", lambda *_: Handover(HandoverOutcome.REFUSED, "550 No such box"))
        revision = taken_in(house)
        handed_over(services.send_test(house.reviewer, revision, house.test_list, None))
        assert set(TestCopy.objects.values_list("state", "answer")) == {("refused", "550 No such box")}
        assert "550 No such box" in house.client(house.author).get(f"/mailings/{revision.mailing_id}/r1/test-sends/").content.decode()

    def test_an_open_page_asks_for_a_while(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """A copy that never arrives does not keep a page asking for ever."""
        monkeypatch.setattr(handing_over, "hand_over", lambda *_: Handover(HandoverOutcome.TAKEN, "250 Kept"))
        revision = taken_in(house)
        send = services.send_test(house.reviewer, revision, house.test_list, None)
        handed_over(send)
        address = f"/mailings/{revision.mailing_id}/r1/test-sends/"
        asks = '<div id="sends" hx-get='
        assert asks in house.client(house.reviewer).get(address).content.decode()
        TestSend.objects.filter(pk=send.pk).update(at=timezone.now() - timedelta(minutes=16))
        page = house.client(house.reviewer).get(address).content.decode()
        assert asks not in page
        assert "handed over, not arrived yet" in page

    def test_to_oneself(self, house: Any, post: Post) -> None:
        """One press, merged for the reader that is chosen; not where the own address is outside."""
        revision = taken_in(house)
        address = f"/mailings/{revision.mailing_id}/r1/test-sends/send/"
        client = house.client(house.reviewer)
        house.reviewer.email = "rosa@far.example"
        house.reviewer.save()
        assert "outside the domains" in client.post(address, {"to": "me"}, follow=True).content.decode()
        house.reviewer.email = "rosa@kiln.org"
        house.reviewer.save()
        assert "goes to you, at rosa@kiln.org" in client.post(address, {"to": "me", "reader": ""}, follow=True).content.decode()
        assert list(TestCopy.objects.values_list("address", flat=True)) == ["rosa@kiln.org"]
        house.reviewer.email = ""
        house.reviewer.save()
        assert "You have no address yet" in client.post(address, {"to": "me"}, follow=True).content.decode()
        assert house.client(house.approver).post(address, {"to": "me"}).status_code == 403

    def test_through_the_page(self, house: Any, post: Post) -> None:
        """The form sends; an author may, an approver may not."""
        revision = taken_in(house)
        address = f"/mailings/{revision.mailing_id}/r1/test-sends/send/"
        assert house.client(house.author).post(address, {"list": house.test_list.pk, "reader": ""}).status_code == 302
        assert TestSend.objects.count() == 1
        assert house.client(house.approver).post(address, {"list": house.test_list.pk}).status_code == 403
        assert house.client(house.author).post(address, {"list": 0}).status_code == 404


class TestAllowed:
    """Test sends reach only allowed addresses."""

    @pytest.mark.parametrize("address", ["x@elsewhere.net", "x@kiln.org.evil.net", "x@notkiln.org", "x@kiln.orgs"])
    def test_outside_addresses_are_refused(self, house: Any, address: str) -> None:
        """When they are put on a list."""
        with pytest.raises(Refused, match="outside the domains"):
            test_lists.add_person(house.reviewer, house.test_list, test_lists.Person(address))

    @pytest.mark.parametrize(
        ("address", "said"),
        [
            ("nobody", "is not an e-mail address"),
            ("ONE@kiln.org", "is on “Team” already"),
            ("a@kiln.org, b@kiln.org", "is not an e-mail address"),
        ],
    )
    def test_addresses_that_are_none(self, house: Any, address: str, said: str) -> None:
        """Named in the refusal."""
        with pytest.raises(Refused, match=said):
            test_lists.add_person(house.reviewer, house.test_list, test_lists.Person(address))

    def test_domains_withdrawn_after_the_list_was_made(self, house: Any, post: Post) -> None:
        """Refused as a whole before sending, and once more by the worker."""
        revision = taken_in(house)
        send = services.send_test(house.reviewer, revision, house.test_list, None)
        house.workspace.test_domains = ["mail.kiln.org"]
        house.workspace.save()
        handed_over(TestSend.objects.select_related("revision__mailing__workspace", "mailing__workspace").get(pk=send.pk))
        assert [recipient for _, recipient, _ in post] == ["two@mail.kiln.org"]
        revision.mailing.workspace.refresh_from_db()
        with pytest.raises(Refused, match=r"one@kiln.org is outside .* nothing was sent"):
            services.send_test(house.reviewer, revision, house.test_list, None)

    def test_an_empty_list_and_a_stranger(self, house: Any) -> None:
        """Both are told what is missing."""
        revision = taken_in(house)
        TestAddress.objects.all().delete()
        with pytest.raises(Refused, match="has no addresses yet"):
            services.send_test(house.reviewer, revision, house.test_list, None)
        with pytest.raises(NotAllowed):
            test_lists.add_person(house.author, house.test_list, test_lists.Person("x@kiln.org"))

    def test_nothing_more_after_release(self, house: Any) -> None:
        """The service refuses, and so does the database."""
        revision = taken_in(house)
        Mailing.objects.filter(pk=revision.mailing_id).update(stage="released")
        with pytest.raises(Refused, match="released and locked"):
            services.send_test(house.reviewer, revision, house.test_list, None)
        with pytest.raises(IntegrityError, match="released and locked"), transaction.atomic():
            TestSend.objects.create(mailing=revision.mailing, revision=revision, list_name="x", mark="x", by=house.reviewer)


class Server:
    """A mail server that answers as it is told to, and keeps what it takes; an exception ends the worker in the middle."""

    def __init__(self, *answers: Handover | type[BaseException]) -> None:
        self.answers = list(answers)
        self.taken: list[str] = []

    def __call__(self, server: Any, sender: str, recipient: str, content: bytes) -> Handover:
        answer = self.answers.pop(0) if self.answers else Handover(HandoverOutcome.TAKEN, "250 Kept")
        if isinstance(answer, type):
            raise answer
        if answer.outcome in (HandoverOutcome.TAKEN, HandoverOutcome.UNSURE):
            self.taken.append(recipient)
        return answer


class Killed(BaseException):
    """The worker is gone."""


LOST = Handover(HandoverOutcome.LOST, "no server")
UNSURE = Handover(HandoverOutcome.UNSURE, "connection lost")


class TestOnce:
    """Each copy once, whatever dies; what passes is tried again."""

    @pytest.fixture
    def send(self, house: Any) -> TestSend:
        """A test send to one address."""
        house.test_list.addresses.last().delete()
        return services.send_test(house.reviewer, taken_in(house), house.test_list, None)

    def handed_over(self, send: TestSend, monkeypatch: pytest.MonkeyPatch, server: Server) -> TestCopy:
        """What the worker does."""
        monkeypatch.setattr(handing_over, "hand_over", server)
        with contextlib.suppress(Killed):
            handed_over(send)
        return send.copies.get()

    def due(self, send: TestSend) -> None:
        """Time passes until the next try."""
        send.copies.update(next_try_at=timezone.now())

    def test_no_server_for_a_while(self, send: TestSend, monkeypatch: pytest.MonkeyPatch) -> None:
        """It is tried again soon, and not before; the work stays open until then."""
        copy = self.handed_over(send, monkeypatch, Server(LOST))
        assert (copy.state, copy.tries, copy.answer) == ("put-off", 1, "no server")
        work = jobs.latest(services.SENDS, f"send:{send.pk}")
        assert work is not None
        job = ProcrastinateJob.objects.get(pk=work.job_id)
        assert (work.state, work.doing, job.scheduled_at) == ("waiting", "waits to try again", copy.next_try_at)
        server = Server()
        assert self.handed_over(send, monkeypatch, server).state == "put-off"
        assert server.taken == []
        self.due(send)
        assert self.handed_over(send, monkeypatch, server).state == "handed-over"
        assert server.taken == ["one@kiln.org"]
        work.refresh_from_db()
        assert work.state == "done"

    def test_a_temporary_refusal(self, send: TestSend, monkeypatch: pytest.MonkeyPatch) -> None:
        """Twice in the first hour, then every two hours, for four days (RFC 5321 §4.5.4.1)."""
        pauses = []
        for _ in range(80):
            self.due(send)
            copy = self.handed_over(send, monkeypatch, Server(Handover(HandoverOutcome.PUT_OFF, "450 later")))
            if copy.state != "put-off":
                break
            assert copy.next_try_at is not None
            pause = copy.next_try_at - timezone.now()
            pauses.append(round(pause.total_seconds() / 60))
            TestCopy.objects.update(first_try_at=(copy.first_try_at or timezone.now()) - pause)
        assert pauses[:4] == [30, 30, 120, 120]
        assert 4 * 24 - 2 <= sum(pauses) / 60 <= 4 * 24
        assert (copy.state, copy.answer) == ("refused", "Given up after 4 days. 450 later")

    def test_killed_before_the_answer(self, send: TestSend, monkeypatch: pytest.MonkeyPatch, settings: Any) -> None:
        """The Mailroom is asked: what it has is not sent again, what it has not is."""
        copy = self.handed_over(send, monkeypatch, Server(Killed))
        assert copy.state == "on-its-way"
        Arrival.objects.create(message_id=copy.message_id, octets=1, blob_sha256="0" * 64, copy=copy)
        server = Server()
        assert self.handed_over(send, monkeypatch, server).state == "handed-over"
        assert server.taken == []
        Arrival.objects.all().delete()
        TestCopy.objects.update(state="on-its-way")
        Work.objects.update(state="running")
        assert self.handed_over(send, monkeypatch, server).state == "put-off"
        self.due(send)
        assert self.handed_over(send, monkeypatch, server).state == "handed-over"
        assert server.taken == ["one@kiln.org"]

    def test_another_server_cannot_be_asked(self, house: Any, send: TestSend, monkeypatch: pytest.MonkeyPatch, settings: Any) -> None:
        """So a person is: it is not sent again by itself."""
        settings.HAS_MAILROOM = False
        server = Server(UNSURE)
        for _ in range(3):
            copy = self.handed_over(send, monkeypatch, server)
        assert (copy.state, server.taken) == ("unsure", ["one@kiln.org"])
        client = house.client(house.reviewer)
        shown = client.get(f"/mailings/{send.mailing_id}/r1/test-sends/").content.decode()
        assert "It may have arrived; look before you send it again." in shown
        client.post(f"/test-copies/{copy.pk}/decide/", {"do": "arrived"})
        copy.refresh_from_db()
        assert copy.state == "handed-over"
        with pytest.raises(Refused, match="is handed over"):
            services.send_again(house.reviewer, copy)
        TestCopy.objects.update(state="unsure")
        client.post(f"/test-copies/{copy.pk}/decide/", {"do": "again"})
        assert self.handed_over(send, monkeypatch, server).state == "handed-over"
        assert server.taken == ["one@kiln.org", "one@kiln.org"]
        with pytest.raises(NotAllowed):
            services.send_again(house.approver, copy)
        assert house.client(house.outsider).post(f"/test-copies/{copy.pk}/decide/", {"do": "again"}).status_code == 404

    def test_try_now(self, house: Any, send: TestSend, monkeypatch: pytest.MonkeyPatch) -> None:
        """A copy that waits for its time is hurried; the job that waited finds nothing left."""
        self.handed_over(send, monkeypatch, Server(Handover(HandoverOutcome.PUT_OFF, "450 later")))
        services.send_again(house.reviewer, send.copies.get())
        work = jobs.latest(services.SENDS, f"send:{send.pk}")
        assert work is not None
        assert ProcrastinateJob.objects.get(pk=work.job_id).scheduled_at is None
        server = Server()
        for _ in range(2):
            assert self.handed_over(send, monkeypatch, server).state == "handed-over"
        assert server.taken == ["one@kiln.org"]


@pytest.mark.django_db(transaction=True)
def test_two_workers_at_once(house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """A worker that was paused goes on while another has taken its job: the copy that is on its way is left to the first."""
    send = services.send_test(house.reviewer, taken_in(house), house.test_list, None)
    taken: list[str] = []
    go_on = threading.Event()
    begun = threading.Event()

    def slow(server: Any, sender: str, recipient: str, content: bytes) -> Handover:
        taken.append(recipient)
        begun.set()
        go_on.wait(20)
        return Handover(HandoverOutcome.TAKEN, "250 Kept")

    monkeypatch.setattr(handing_over, "hand_over", slow)
    work = jobs.latest(services.SENDS, f"send:{send.pk}")
    assert work is not None

    def first() -> None:
        handing_over.hand_over_copies(TestSend.objects.get(pk=send.pk), work.pk)
        connection.close()

    one = threading.Thread(target=first)
    one.start()
    assert begun.wait(20)
    monkeypatch.setattr(handing_over, "hand_over", Server())
    handing_over.hand_over_copies(TestSend.objects.get(pk=send.pk), work.pk)
    go_on.set()
    one.join(20)
    assert set(send.copies.values_list("state", flat=True)) == {"handed-over"}
    assert taken == ["one@kiln.org"]


@pytest.mark.django_db(transaction=True)
def test_a_form_sent_twice_at_once(house: Any) -> None:
    """Both requests are answered, and one test is sent: the key in the form is unique in the database."""
    revision = taken_in(house)
    clients = [house.client(house.reviewer) for _ in range(4)]
    answers: list[int] = []

    def press(client: Any, key: str) -> None:
        answers.append(
            client.post(f"/mailings/{revision.mailing_id}/r1/test-sends/send/", {"list": house.test_list.pk, "intent": key}).status_code
        )
        connection.close()

    for number in range(1, 11):
        key = str(uuid.uuid4())
        presses = [threading.Thread(target=press, args=(client, key)) for client in clients]
        for thread in presses:
            thread.start()
        for thread in presses:
            thread.join(30)
        assert TestSend.objects.count() == number
    assert answers == [302] * 40


class TestMailroom:
    """What arrived, as it arrived."""

    def arrive(self, house: Any, raw: bytes) -> Arrival:
        """A test send of a message, arrived."""
        revision = taken_in(house, raw, "a.zip" if raw.startswith(b"PK") else "a.eml")
        handed_over(services.send_test(house.reviewer, revision, house.test_list, None))
        found = Arrival.objects.first()
        assert found is not None
        return found

    @pytest.mark.parametrize(
        ("view", "shown"),
        [
            ("headers", "[Test r1] Twelve glazes"),
            ("text", "Spring glaze sale"),
            ("raw", "Message-ID: &lt;"),
            ("html", "sandbox"),
        ],
    )
    def test_views(self, house: Any, post: list[Any], view: str, shown: str) -> None:
        """Headers, plain text, raw, and HTML in a frame of its own."""
        arrival = self.arrive(house, mail())
        client = house.client(house.reviewer)
        assert "Twelve glazes" in client.get("/mailroom/").content.decode()
        assert shown in client.get(f"/mailroom/{arrival.pk}/?view={view}").content.decode()

    def test_the_frame_is_locked_down(self, house: Any, post: list[Any]) -> None:
        """Hostile HTML is served with a policy under which nothing runs and nothing is fetched; its pictures are inside it."""
        arrival = self.arrive(
            house, package('<script>alert(1)</script><img src="a.png"><img src="https://track.net/x.gif">' + GOOD_HTML, a_dot_png=picture())
        )
        answer = house.client(house.reviewer).get(f"/mailroom/{arrival.pk}/html/")
        policy = answer["Content-Security-Policy"]
        assert "default-src 'none'" in policy
        assert "sandbox" in policy
        assert "script-src" not in policy
        assert "data:image/png;base64," in answer.content.decode()
        assert answer["X-Frame-Options"] == "SAMEORIGIN"

    def test_for_the_team_only(self, house: Any, post: list[Any]) -> None:
        """Another workspace sees nothing of it."""
        arrival = self.arrive(house, mail())
        client = house.client(house.outsider)
        assert client.get(f"/mailroom/{arrival.pk}/").status_code == 404
        assert "Twelve glazes" not in client.get("/mailroom/").content.decode()

    def test_a_stray_is_kept_apart(self, house: Any) -> None:
        """Mail that no test send explains."""
        services.keep_arrival(Delivery("x@y.net", ("z@kiln.org",), mail(Subject="Stray\x00bird".replace("\x00", ""))))
        stray = Arrival.objects.get()
        assert stray.copy is None
        # A domain that is only written into the settings shows nothing.
        assert "not from a test send" not in house.client(house.reviewer).get("/mailroom/").content.decode()
        assert house.client(house.reviewer).get(f"/mailroom/{stray.pk}/").status_code == 404
        domains.prove(house.workspace, "kiln.org", ProvenDomain.How.ADMINISTRATOR)
        assert "not from a test send" in house.client(house.reviewer).get("/mailroom/").content.decode()
        # Only those see it whose the domain is known to be, whatever others write into their settings.
        Workspace.objects.exclude(pk=house.workspace.pk).update(test_domains=["kiln.org"])
        assert "not from a test send" not in house.client(house.outsider).get("/mailroom/").content.decode()
        assert house.client(house.outsider).get(f"/mailroom/{stray.pk}/").status_code == 404
