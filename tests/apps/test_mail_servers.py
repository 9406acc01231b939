"""Mail servers of a team's own: passwords sealed, places judged, rates kept by several workers, and sends by real SMTP."""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from datetime import timedelta
from itertools import pairwise
from typing import Any

import pytest
from django.db import connection
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.instructions.services import send_back
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.proofs import handing_over, letters, mail_servers, services
from jetwind.apps.proofs.models import OwnMailServer, TestCopy, TestSend
from jetwind.apps.proofs.sealing import Unreadable, opened, seal
from jetwind.apps.proofs.tasks import try_server
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.engines.mail import Handover, HandoverOutcome
from jetwind.engines.practice import RunningPractice
from jetwind.engines.practice.directory import EXPIRED, MAIL
from jetwind.engines.practice.mail import PASSWORD, USER
from tests.apps.helpers import handed_over, page_of, taken_in

GIVEN = {"name": "Quay", "host": MAIL, "port": 587, "security": "starttls", "user": USER, "per_minute": None}


@pytest.fixture(scope="module")
def standing(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    """The practice field, with its mail servers."""
    folder = tmp_path_factory.mktemp("practice")
    field = RunningPractice(folder, pace=0.05)
    with field as directory:
        directory.write(folder / "directory.json")
        yield field, str(folder / "directory.json")


@pytest.fixture
def quay(house: Any, standing: Any, settings: Any) -> Any:
    """The house beside the practice field."""
    settings.PRACTICE_DIRECTORY = standing[1]
    del standing[0].web.mail.relay.taken[:]
    return house


def kept(house: Any, password: str = PASSWORD, row: OwnMailServer | None = None, **given: Any) -> OwnMailServer:
    """A mail server that the operator kept."""
    return mail_servers.keep(house.operator, house.workspace, GIVEN | given, password, row=row)


class TestSealing:
    """A password in the database is of no use without the installation's key."""

    def test_there_and_back(self, settings: Any) -> None:
        """With this key, and with an older one that the settings still name; never twice the same."""
        sealed = seal("tide")
        assert opened(sealed) == "tide"
        assert "tide" not in sealed and seal("tide") != sealed
        settings.SECRET_KEY, settings.SECRET_KEY_FALLBACKS = "another", [settings.SECRET_KEY]
        assert opened(sealed) == "tide"
        settings.SECRET_KEY_FALLBACKS = []
        with pytest.raises(Unreadable):
            opened(sealed)

    @pytest.mark.parametrize("broken", ["", "x", "gAAAA", "ünreadable", "\0"])
    def test_what_nobody_sealed(self, broken: str) -> None:
        """A text that was changed is not opened."""
        with pytest.raises(Unreadable):
            opened(broken)


class TestKeeping:
    """What may be kept, and what becomes of the password."""

    def test_the_password_is_never_seen_again(self, quay: Any) -> None:
        """Not in the row, not on a page, not in the log; an empty field leaves it."""
        row = kept(quay)
        client = quay.client(quay.operator)
        pages = [client.get(f"/settings/mail-servers/{row.pk}/"), client.get("/settings/mail-servers/"), client.get("/people/")]
        # The list of practice servers names the password of the practice server to everybody.
        assert PASSWORD not in pages[0].content.decode()
        assert row.sealed_password not in "".join(page.content.decode() for page in pages)
        assert PASSWORD not in str(list(LogEntry.objects.values_list("data", flat=True))) + str(OwnMailServer.objects.values_list())
        again = kept(quay, "", row, name="Harbour", per_minute=30)
        assert (again.name, opened(again.sealed_password)) == ("Harbour", PASSWORD)

    @pytest.mark.parametrize("change", [{"host": EXPIRED}, {"port": 465}, {"user": "other"}, {"security": "tls"}])
    def test_it_goes_with_its_place(self, quay: Any, change: dict[str, Any]) -> None:
        """Somebody who may change the host does not get the password sent to a host of their own."""
        row = kept(quay)
        with pytest.raises(Refused, match="Give the password again"):
            kept(quay, "", row, **change)
        row.refresh_from_db()
        assert (row.host, row.port, row.user, row.security) == (MAIL, 587, USER, "starttls")

    @pytest.mark.parametrize(
        ("given", "password", "why"),
        [
            ({"host": "not a host"}, "x", "is not the name of a host"),
            ({"host": "kiln.org\r\nX: y"}, "x", "is not the name of a host"),
            ({"host": "127.0.0.1"}, "x", "127.0.0.1 lies inside the network"),
            ({"host": "169.254.169.254"}, "x", "where machines keep their keys"),
            ({"host": "::1"}, "x", "lies inside the network"),
            ({"port": 22}, "x", "Port 22 is not among those of mail servers"),
            ({"user": ""}, "x", "needs the name of its login"),
            ({}, "", "Give the password again"),
            ({}, "glasúr", "ASCII alone"),
        ],
    )
    def test_what_is_refused(self, quay: Any, given: dict[str, Any], password: str, why: str) -> None:
        """With a sentence that names it; nothing is kept."""
        with pytest.raises(Refused, match=why):
            kept(quay, password, **given)
        assert not OwnMailServer.objects.exists()

    def test_a_host_inside_that_the_administrator_names(self, quay: Any, settings: Any) -> None:
        """With its port, and with no other."""
        settings.INWARD_HOSTS = frozenset({"10.0.0.5:587"})
        assert kept(quay, host="10.0.0.5").host == "10.0.0.5"
        with pytest.raises(Refused, match="may lie inside the network, but not with port 25"):
            kept(quay, name="Other", host="10.0.0.5", port=25)

    def test_names_and_numbers(self, quay: Any) -> None:
        """A name of other letters is kept as the DNS writes it (RFC 3490); a second server of one name is refused."""
        assert kept(quay, host="Mail.Glazür.example.").host == "mail.xn--glazr-nva.example"
        with pytest.raises(Refused, match="There is a mail server “Quay” already"):
            kept(quay)
        for number in range(mail_servers.MOST - 1):
            kept(quay, name=f"Number {number}")
        with pytest.raises(Refused, match="at most 10"):
            kept(quay, name="One more")

    def test_who_may(self, quay: Any) -> None:
        """An author sees the servers and changes none; another workspace sees none."""
        row = kept(quay)
        with pytest.raises(NotAllowed):
            mail_servers.keep(quay.author, quay.workspace, GIVEN, "x")
        author = quay.client(quay.author)
        assert "Add a mail server" not in author.get("/settings/mail-servers/").content.decode()
        assert author.post(f"/settings/mail-servers/{row.pk}/", {**GIVEN, "per_minute": ""}).status_code == 403
        other = quay.client(quay.outsider)
        assert MAIL + ", port" not in other.get("/settings/mail-servers/").content.decode()
        for method, path in (("get", ""), ("post", ""), ("post", "try/")):
            assert getattr(other, method)(f"/settings/mail-servers/{row.pk}/{path}").status_code == 404
        assert other.post("/settings/mail-servers/choose/", {"server": row.pk}).status_code == 404

    def test_through_the_pages(self, quay: Any) -> None:
        """Described, changed, chosen, removed; what is wrong stands in the form, with everything that was typed but the password."""
        client = quay.client(quay.operator)
        given = {**GIVEN, "per_minute": "", "password": PASSWORD}
        wrong = client.post("/settings/mail-servers/new/", {**given, "port": "22"})
        assert (wrong.status_code, "Port 22 is not among" in wrong.content.decode()) == (400, True)
        assert PASSWORD not in wrong.content.decode() and f'value="{MAIL}"' in wrong.content.decode()
        assert "Quay is kept." in client.post("/settings/mail-servers/new/", given, follow=True).content.decode()
        row = OwnMailServer.objects.get()
        page = page_of(client.post("/settings/mail-servers/choose/", {"server": row.pk}, follow=True))
        assert "New test sends go out by <b>Quay</b>." in page
        assert "Send by the Mailroom again" in page
        page = page_of(client.post(f"/settings/mail-servers/{row.pk}/", {"do": "remove"}, follow=True))
        assert "There is no mail server of your own yet." in page and "go out by <b>the Mailroom</b>" in page
        assert OwnMailServer.objects.get().sealed_password == ""


class TestConnectionTest:
    """The steps on the page."""

    def tried(self, house: Any, row: OwnMailServer, recipient: str = "rosa@kiln.org") -> Work:
        """Asked for and carried out."""
        mail_servers.ask_for_connection_test(house.operator, row, recipient)
        work = jobs.latest(mail_servers.CONNECTION_TESTS, mail_servers.subject_of(row))
        assert work is not None
        try_server.func(server_id=row.pk, recipient=recipient, work_id=work.pk)
        work.refresh_from_db()
        return work

    def test_every_step(self, quay: Any) -> None:
        """The page shows each step with its words; opening it asks nothing."""
        row = kept(quay)
        client = quay.client(quay.operator)
        assert "Connection test," not in client.get("/settings/mail-servers/").content.decode()
        assert self.tried(quay, row).state == Work.State.DONE
        page = page_of(client.get("/settings/mail-servers/"))
        assert page.count('<li class="passed">') == 7
        assert "rosa@kiln.org is taken." in page
        assert Work.objects.filter(kind=mail_servers.CONNECTION_TESTS).count() == 1

    def test_where_it_fails(self, quay: Any) -> None:
        """The expired certificate with its name and its dates."""
        self.tried(quay, kept(quay, host=EXPIRED))
        page = page_of(quay.client(quay.author).get("/settings/mail-servers/"))
        assert (page.count('<li class="passed">'), page.count('<li class="failed">')) == (3, 1)
        assert "The certificate does not hold: it has run out." in page

    def test_a_recipient_outside(self, quay: Any) -> None:
        """No name of a stranger is said to a server."""
        with pytest.raises(Refused, match="outside the domains"):
            mail_servers.ask_for_connection_test(quay.operator, kept(quay), "somebody@far.example")
        with pytest.raises(Refused, match="is not an e-mail address"):
            mail_servers.ask_for_connection_test(quay.operator, OwnMailServer.objects.get(), "nobody")

    def test_another_key(self, quay: Any, settings: Any) -> None:
        """A password that cannot be read any more is asked for again, on the page and at the hand-over."""
        row = kept(quay)
        mail_servers.choose(quay.operator, quay.workspace, row)
        send = services.send_test(quay.reviewer, taken_in(quay), quay.test_list, None)
        settings.SECRET_KEY = "another"
        work = self.tried(quay, row)
        assert (work.state, work.problem[:23]) == (Work.State.FAILED, "Give the password again")
        handed_over(send)
        answers = set(TestCopy.objects.values_list("state", flat=True)), TestCopy.objects.all()[0].answer
        assert answers[0] == {"refused"} and "the key of this installation was changed" in answers[1]


class TestSending:
    """Test sends by a server of a team's own."""

    def test_by_the_chosen_server(self, quay: Any, standing: Any) -> None:
        """Encrypted and signed in, by real SMTP; the page says by which server."""
        mail_servers.choose(quay.operator, quay.workspace, kept(quay))
        revision = taken_in(quay)
        send = services.send_test(quay.reviewer, revision, quay.test_list, None)
        assert handed_over(send).state == Work.State.DONE
        assert [recipients for _, recipients, _ in standing[0].web.mail.relay.taken] == [["one@kiln.org"], ["two@mail.kiln.org"]]
        assert set(send.copies.values_list("state", flat=True)) == {"handed-over"}
        page = page_of(quay.client(quay.reviewer).get(f"/mailings/{revision.mailing_id}/r1/test-sends/"))
        assert "; out by Quay" in page and "The messages go out by Quay." in page
        # Nobody waits for an arrival in the Mailroom: that server hands mail to whom it likes.
        assert "not arrived yet" not in page and '<div id="sends" hx-get=' not in page

    def test_letters_go_by_it_too(self, quay: Any, standing: Any) -> None:
        """A mail about what waits goes out by the server that the workspace chose, by real SMTP."""
        mail_servers.choose(quay.operator, quay.workspace, kept(quay))
        User.objects.filter(pk=quay.author.pk).update(email="a@kiln.org", proven_email="a@kiln.org", mailed="at-once")
        send_back(quay.reviewer, taken_in(quay), "The price is wrong")
        letter = letters.write_notices(quay.author.pk, quay.workspace.pk)
        assert letter is not None
        letters.send(letter.pk, jobs.latest(letters.LETTERS, f"letter:{letter.pk}").pk)  # type: ignore[union-attr]
        letter.refresh_from_db()
        assert letter.state == "handed-over"
        [(_, recipients, content)] = standing[0].web.mail.relay.taken
        assert recipients == ["a@kiln.org"] and b"The price is wrong" in content

    def test_no_answer_is_no_arrival(self, quay: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """The Mailroom is not asked for a copy that another server may have taken: a person is."""
        mail_servers.choose(quay.operator, quay.workspace, kept(quay))
        send = services.send_test(quay.reviewer, taken_in(quay), quay.test_list, None)
        monkeypatch.setattr(handing_over, "hand_over", lambda *_: Handover(HandoverOutcome.UNSURE, "cut"))
        handed_over(send)
        assert set(send.copies.values_list("state", flat=True)) == {"unsure"}

    def test_a_server_with_copies_stays(self, quay: Any) -> None:
        """Until they are cancelled; then it goes, and no copy goes by it or by another way."""
        row = kept(quay)
        mail_servers.choose(quay.operator, quay.workspace, row)
        send = services.send_test(quay.reviewer, taken_in(quay), quay.test_list, None)
        with pytest.raises(Refused, match=r"still wait to go out by it \(2\)"):
            mail_servers.remove(quay.operator, row)
        assert services.cancel(quay.reviewer, send) == 2
        mail_servers.remove(quay.operator, row)
        mail_servers.remove(quay.operator, row)
        services.send_to_lacking(quay.reviewer, TestSend.objects.get(pk=send.pk))
        handed_over(send)
        assert {(copy.state, "was removed" in copy.answer) for copy in send.copies.all()} == {("refused", True)}


class TestRate:
    """So many messages a minute, whichever workers hand them over."""

    def test_the_rest_waits(self, quay: Any, standing: Any) -> None:
        """Two a minute: the first goes, the second when its turn has come; the worker does other work meanwhile."""
        mail_servers.choose(quay.operator, quay.workspace, kept(quay, per_minute=2))
        send = services.send_test(quay.reviewer, taken_in(quay), quay.test_list, None)
        work = handed_over(send)
        assert (work.is_open, work.doing) == (True, "keeps to the rate of the mail server")
        assert len(standing[0].web.mail.relay.taken) == 1
        row = OwnMailServer.objects.get()
        assert row.next_at is not None and timedelta(seconds=20) < row.next_at - timezone.now() <= timedelta(seconds=30)
        OwnMailServer.objects.update(next_at=timezone.now())
        assert handed_over(send).state == Work.State.DONE
        assert len(standing[0].web.mail.relay.taken) == 2

    @pytest.mark.django_db(transaction=True)
    def test_several_workers_keep_one_rate(self, quay: Any) -> None:
        """Forty turns taken by four at once: each a turn of its own, a tenth of a second apart."""
        row = kept(quay, per_minute=600)
        turns: list[Any] = []

        def take() -> None:
            try:
                turns.extend(mail_servers.turn_of(row, timedelta(minutes=1)) for _ in range(10))
            finally:
                connection.close()

        side_by_side(*[take] * 4)
        turns.sort()
        assert len(turns) == 40
        assert min(later - sooner for sooner, later in pairwise(turns)) >= timedelta(seconds=0.1)

    def test_no_turn_is_taken_that_is_far(self, quay: Any) -> None:
        """Asking is not taking: who comes back later finds the same turn."""
        row = kept(quay, per_minute=1)
        first = mail_servers.turn_of(row, timedelta(seconds=2))
        later = [mail_servers.turn_of(row, timedelta(seconds=2)) for _ in range(3)]
        assert set(later) == {first + timedelta(minutes=1)}


class TestCancelling:
    """What has not gone does not go."""

    @pytest.fixture
    def post(self, monkeypatch: pytest.MonkeyPatch) -> list[str]:
        """The way out, ending in a list."""
        sent: list[str] = []

        def hand_over(server: Any, sender: str, recipient: str, content: bytes) -> Handover:
            sent.append(recipient)
            return Handover(HandoverOutcome.TAKEN, "250 Kept")

        monkeypatch.setattr(handing_over, "hand_over", hand_over)
        return sent

    def test_by_the_page_and_again(self, house: Any, post: list[str]) -> None:
        """Cancelled, then sent to those who lack it; a second press of either is refused."""
        revision = taken_in(house)
        send = services.send_test(house.reviewer, revision, house.test_list, None)
        client = house.client(house.reviewer)
        address = f"/test-sends/{send.pk}/decide/"
        assert house.client(house.approver).post(address, {"do": "cancel"}).status_code == 403
        assert house.client(house.outsider).post(address, {"do": "cancel"}).status_code == 404
        page = page_of(client.post(address, {"do": "cancel"}, follow=True))
        assert "Cancelled: 2 of the copies." in page and "Send again to the 2 people without a copy" in page
        assert "nothing to cancel" in client.post(address, {"do": "cancel"}, follow=True).content.decode()
        handed_over(send)
        assert post == []
        page = page_of(client.post(address, {"do": "again"}, follow=True))
        assert "Cancel the 2 copies that wait" in page
        assert "Nobody is known to lack" in client.post(address, {"do": "again"}, follow=True).content.decode()
        handed_over(send)
        assert post == ["one@kiln.org", "two@mail.kiln.org"]

    def test_while_it_is_written(self, house: Any, post: list[str], monkeypatch: pytest.MonkeyPatch) -> None:
        """Cancelled after a worker began with a copy and before it went: it does not go."""
        send = services.send_test(house.reviewer, taken_in(house), house.test_list, None)
        monkeypatch.setattr(handing_over.mail_servers, "turn_of", lambda *_: services.cancel(house.reviewer, send) and timezone.now())
        with pytest.raises(Refused):
            # The second copy finds nothing to cancel any more; the first one did not go.
            with handing_over._Writer(lambda **_: b"x") as writer:  # type: ignore[arg-type]
                handing_over._carry_on(send.copies.order_by("pk")[0], writer, None)
            services.cancel(house.reviewer, send)
        assert post == []
        assert set(send.copies.values_list("state", flat=True)) == {"cancelled"}


def side_by_side(*acts: Callable[[], None]) -> None:
    """Carry acts out at once."""
    threads = [threading.Thread(target=act) for act in acts]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(30)


@pytest.mark.django_db(transaction=True)
def test_two_people_choose(quay: Any) -> None:
    """Whoever is last, one server is chosen."""
    rows = [kept(quay, name=f"Number {number}") for number in range(2)]

    def choose(row: OwnMailServer) -> None:
        try:
            for _ in range(10):
                mail_servers.choose(quay.operator, quay.workspace, row)
        finally:
            connection.close()

    side_by_side(*[lambda row=row: choose(row) for row in rows])
    assert OwnMailServer.objects.filter(is_chosen=True).count() == 1
