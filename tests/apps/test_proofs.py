"""Test sends to allowed addresses, one message each, and what arrives."""

from typing import Any

import pytest
from django.db import IntegrityError, transaction

from jetwind.apps.intake.models import Mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.proofs import services
from jetwind.apps.proofs.models import Arrival, TestAddress, TestCopy, TestSend
from jetwind.apps.proofs.tasks import send_copies
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.models import SampleReader
from jetwind.core.message import read_bytes
from jetwind.engines.mail import Delivery, Handover
from tests.apps.helpers import taken_in
from tests.factories import GOOD_HTML, mail, package, picture


@pytest.fixture
def post(monkeypatch: pytest.MonkeyPatch) -> list[tuple[str, str, bytes]]:
    """The way out, ending in a list and in the Mailroom's own service; the engine's SMTP has tests of its own."""
    sent: list[tuple[str, str, bytes]] = []

    def hand_over(server: Any, sender: str, recipient: str, content: bytes) -> Handover:
        sent.append((sender, recipient, content))
        services.keep_arrival(Delivery(sender, (recipient,), content))
        return Handover(True, "250 Kept")

    monkeypatch.setattr(services, "hand_over", hand_over)
    return sent


def carry_out(send: TestSend) -> None:
    """What the worker does."""
    work = jobs.latest(services.SENDS, f"send:{send.pk}")
    assert work is not None
    send_copies.func(send_id=send.pk, work_id=work.pk)


class TestSending:
    """From the form to the arrival."""

    def test_one_message_to_each_address(self, house: Any, post: list[tuple[str, str, bytes]]) -> None:
        """Marked, merged, each with one recipient, and found again by its Message-ID."""
        revision = taken_in(house, mail(Subject="For {{ first_name | default: 'you' }}", To="all@kiln.org, more@kiln.org"))
        send = services.send_test(house.reviewer, revision, house.test_list, SampleReader.objects.get(name="Bo"))
        carry_out(send)
        assert [(sender, recipient) for sender, recipient, _ in post] == [
            ("test@kiln.org", "one@kiln.org"),
            ("test@kiln.org", "two@mail.kiln.org"),
        ]
        for _, recipient, content in post:
            arrived = read_bytes(content, "x.eml")
            assert [box.address for box in arrived.mailboxes("To")] == [recipient]
            assert arrived.subject == "[Test r1] For Bo"
        assert [arrival.copy.address for arrival in Arrival.objects.order_by("id")] == ["one@kiln.org", "two@mail.kiln.org"]  # type: ignore[union-attr]

    def test_a_task_that_runs_twice_sends_once(self, house: Any, post: list[tuple[str, str, bytes]]) -> None:
        """What was taken is not sent again."""
        send = services.send_test(house.reviewer, taken_in(house), house.test_list, None)
        carry_out(send)
        carry_out(send)
        assert len(post) == 2

    def test_a_refused_copy_says_why(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """The server's words stand beside the copy."""
        monkeypatch.setattr(services, "hand_over", lambda *_: Handover(False, "550 No such box"))
        revision = taken_in(house)
        carry_out(services.send_test(house.reviewer, revision, house.test_list, None))
        assert set(TestCopy.objects.values_list("state", "answer")) == {("refused", "550 No such box")}
        assert "550 No such box" in house.client(house.author).get(f"/mailings/{revision.mailing_id}/r1/test-sends/").content.decode()

    def test_through_the_page(self, house: Any, post: list[tuple[str, str, bytes]]) -> None:
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
            services.add_address(house.reviewer, house.test_list, address)

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
            services.add_address(house.reviewer, house.test_list, address)

    def test_domains_withdrawn_after_the_list_was_made(self, house: Any, post: list[tuple[str, str, bytes]]) -> None:
        """Refused as a whole before sending, and once more by the worker."""
        revision = taken_in(house)
        send = services.send_test(house.reviewer, revision, house.test_list, None)
        house.workspace.test_domains = ["mail.kiln.org"]
        house.workspace.save()
        carry_out(TestSend.objects.select_related("revision__mailing__workspace", "mailing__workspace").get(pk=send.pk))
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
            services.add_address(house.author, house.test_list, "x@kiln.org")

    def test_nothing_more_after_release(self, house: Any) -> None:
        """The service refuses, and so does the database."""
        revision = taken_in(house)
        Mailing.objects.filter(pk=revision.mailing_id).update(stage="released")
        with pytest.raises(Refused, match="released and locked"):
            services.send_test(house.reviewer, revision, house.test_list, None)
        with pytest.raises(IntegrityError, match="released and locked"), transaction.atomic():
            TestSend.objects.create(mailing=revision.mailing, revision=revision, list_name="x", mark="x", by=house.reviewer)


class TestMailroom:
    """What arrived, as it arrived."""

    def arrive(self, house: Any, raw: bytes) -> Arrival:
        """A test send of a message, arrived."""
        revision = taken_in(house, raw, "a.zip" if raw.startswith(b"PK") else "a.eml")
        carry_out(services.send_test(house.reviewer, revision, house.test_list, None))
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
        assert Arrival.objects.get().copy is None
        assert "not from a test send" in house.client(house.reviewer).get("/mailroom/").content.decode()
