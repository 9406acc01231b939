"""The choices of a test send: readers, subjects, mark, time; and exchanged unsubscribe addresses that note a press."""

from __future__ import annotations

import re
from datetime import timedelta
from email import message_from_bytes, policy
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from django.utils import timezone

from jetwind.apps.proofs import services, test_lists
from jetwind.apps.proofs.models import TestCopy, TestSend, WayOutPress
from jetwind.apps.proofs.ways_out import MOST_PRESSES
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.models import SampleReader
from jetwind.core.message.envelope import Envelope
from jetwind.engines.mail import Delivery
from tests.apps.helpers import Post, handed_over, page_of, taken_in
from tests.factories import GOOD_HTML, mail


def subjects(post: Post) -> list[tuple[str, str]]:
    """Recipient and subject of each mail."""
    return [(recipient, str(message_from_bytes(content, policy=policy.default)["Subject"])) for _, recipient, content in post]


@pytest.fixture
def revision(house: Any) -> Any:
    """A message with a field in its subject and two further subjects."""
    given = Envelope(
        subject="Hello {{ first_name | default: 'you' }}",
        sender_name="Kiln Works",
        sender_address="hello@kiln.org",
        subject_variants=("Second", "Third for {{ first_name | default: 'you' }}"),
    )
    return taken_in(house, GOOD_HTML.encode(), "sale.html", envelope=given)


class TestReadersAndSubjects:
    """A message to a person for each reader and each subject."""

    def test_each_person_has_a_reader(self, house: Any, post: Post, revision: Any) -> None:
        """The list names it; who has none gets defaults."""
        entry = house.test_list.addresses.get(address="one@kiln.org")
        test_lists.change_person(
            house.reviewer, entry, {"name": "One", "reader": SampleReader.objects.get(name="Bo").pk, "devices": "phone"}
        )
        send = services.send_test(house.reviewer, revision, house.test_list)
        handed_over(send)
        assert subjects(post) == [("one@kiln.org", "[Test r1] Hello Bo"), ("two@mail.kiln.org", "[Test r1] Hello you")]
        copy = send.copies.order_by("pk")[0]
        assert (copy.person, copy.devices, copy.reader_name) == ("One", "phone", "Bo")

    def test_several_of_both(self, house: Any, post: Post, revision: Any) -> None:
        """Two people, two readers, two subjects: eight messages, each with an identity and a return address of its own."""
        readers = tuple(SampleReader.objects.filter(workspace=house.workspace).order_by("pk"))
        send = services.send_test(
            house.reviewer, revision, house.test_list, services.Choices(readers=readers, variants=(0, 2), mark="(proof)")
        )
        handed_over(send)
        assert sorted(subjects(post)[:4]) == [
            ("one@kiln.org", "(proof) Hello Bo"),
            ("one@kiln.org", "(proof) Hello you"),
            ("one@kiln.org", "(proof) Third for Bo"),
            ("one@kiln.org", "(proof) Third for you"),
        ]
        assert len(post) == 8 == len({sender for sender, _, _ in post})
        assert all(len(copy.arrivals.all()) == 1 for copy in send.copies.all())

    def test_through_the_page(self, house: Any, post: Post, revision: Any) -> None:
        """The form offers the subjects and the readers, and sends what is ticked."""
        client, address = house.client(house.reviewer), f"/mailings/{revision.mailing_id}/r1/test-sends/"
        page = page_of(client.get(address))
        assert page.count('name="variant"') == 3 and page.count('name="readers"') == 2
        bo = SampleReader.objects.get(name="Bo")
        client.post(f"{address}send/", {"list": house.test_list.pk, "reader": "nobody", "variant": ["1"], "mark": ""})
        client.post(f"{address}send/", {"list": house.test_list.pk, "reader": "own", "readers": [bo.pk], "variant": ["2"], "mark": "x"})
        client.post(f"{address}send/", {"to": "me", "reader": bo.pk})
        for send in TestSend.objects.order_by("pk"):
            handed_over(send)
        assert [subject for _, subject in subjects(post)] == ["Second"] * 2 + ["x Third for Bo"] * 2 + ["[Test r1] Hello Bo"]
        page = page_of(client.get(address))
        assert "as Bo subject 3" in page

    @pytest.mark.parametrize(
        ("choices", "why"),
        [
            (services.Choices(variants=(3,)), "at least one of the subjects"),
            (services.Choices(variants=()), "at least one of the subjects"),
            (services.Choices(mark="m" * 41), "at most 40 characters"),
            (services.Choices(planned_at=timezone.now() - timedelta(minutes=1)), "a time to come"),
            (services.Choices(planned_at=timezone.now() + timedelta(days=61)), "within 60 days"),
        ],
    )
    def test_what_is_refused(self, house: Any, revision: Any, choices: services.Choices, why: str) -> None:
        """With a sentence; nothing is sent."""
        with pytest.raises(Refused, match=why):
            services.send_test(house.reviewer, revision, house.test_list, choices)
        assert not TestSend.objects.exists()

    def test_no_audience(self, house: Any, revision: Any) -> None:
        """A test send has an end."""
        for number in range(45):
            test_lists.add_person(house.reviewer, house.test_list, test_lists.Person(f"p{number}@kiln.org"))
        readers = tuple(SampleReader.objects.filter(workspace=house.workspace))
        with pytest.raises(Refused, match="These are 282 messages; one test send has at most 200"):
            services.send_test(house.reviewer, revision, house.test_list, services.Choices(readers=readers, variants=(0, 1, 2)))

    @pytest.mark.parametrize("at", ["tomorrow", "2027-13-01T10:00", "10:00", "9999999"])
    def test_no_time(self, house: Any, revision: Any, at: str) -> None:
        """Named in the refusal."""
        address = f"/mailings/{revision.mailing_id}/r1/test-sends/send/"
        page = house.client(house.reviewer).post(address, {"list": house.test_list.pk, "at": at}, follow=True).content.decode()
        assert "is not a time such as" in page
        assert not TestSend.objects.exists()


class TestPlanned:
    """A send that waits for its time."""

    def test_nothing_goes_before(self, house: Any, post: Post, revision: Any) -> None:
        """The work is put off until then; the page says when, and does not ask again every second."""
        at = timezone.now() + timedelta(hours=3)
        send = services.send_test(house.reviewer, revision, house.test_list, services.Choices(planned_at=at))
        work = handed_over(send)
        assert (work.is_open, work.doing, post) == (True, "waits for its time", [])
        page = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/test-sends/"))
        assert "<b>goes " in page and "Send it now" in page and '<div id="sends" hx-get=' not in page
        TestSend.objects.update(planned_at=timezone.now() - timedelta(seconds=1))
        handed_over(send)
        assert len(post) == 2

    def test_now_or_never(self, house: Any, post: Post, revision: Any) -> None:
        """One press has it go at once; another cancels it."""
        later = services.Choices(planned_at=timezone.now() + timedelta(hours=3))
        first, second = (services.send_test(house.reviewer, revision, house.test_list, later) for _ in range(2))
        client = house.client(house.reviewer)
        assert "goes now" in client.post(f"/test-sends/{first.pk}/decide/", {"do": "now"}, follow=True).content.decode()
        assert "does not wait for a time" in client.post(f"/test-sends/{first.pk}/decide/", {"do": "now"}, follow=True).content.decode()
        client.post(f"/test-sends/{second.pk}/decide/", {"do": "cancel"})
        handed_over(first)
        TestSend.objects.filter(pk=second.pk).update(planned_at=timezone.now())
        handed_over(second)
        assert len(post) == 2

    def test_in_the_viewer_s_zone(self, house: Any, revision: Any) -> None:
        """Ten o'clock is ten o'clock where the reviewer sits."""
        day = (timezone.now() + timedelta(days=5)).date()
        address = f"/mailings/{revision.mailing_id}/r1/test-sends/send/"
        house.client(house.reviewer).post(address, {"list": house.test_list.pk, "at": f"{day}T10:00"})
        planned = TestSend.objects.get().planned_at
        assert planned is not None and planned.astimezone(ZoneInfo("Europe/Amsterdam")).strftime("%H:%M") == "10:00"


class TestWayOut:
    """The exchanged unsubscribe addresses."""

    def copy(self, house: Any, post: Post) -> tuple[TestCopy, str, str]:
        """A copy that went out, and the addresses in its header and its HTML."""
        revision = taken_in(house, mail())
        house.client(house.reviewer).post(f"/mailings/{revision.mailing_id}/r1/test-sends/send/", {"list": house.test_list.pk})
        handed_over(TestSend.objects.get())
        read = message_from_bytes(post[0][2], policy=policy.default)
        html = read.get_body(("html",)).get_content()  # type: ignore[union-attr]
        found = re.search(r'href="(http://testserver/way-out/[^"]+)"', html)
        assert found is not None and "kiln.org/leave" not in html
        return TestCopy.objects.order_by("pk")[0], str(read["List-Unsubscribe"]).strip("<>").removeprefix("http://testserver"), found[1]

    def test_one_click(self, house: Any, post: Post, client: Any) -> None:
        """A mail program's POST, without cookies and from elsewhere, is answered without a redirect and noted with its program (RFC 8058 §3.1)."""
        copy, header, _ = self.copy(house, post)
        strict = type(client)(enforce_csrf_checks=True)
        answer = strict.post(header, {"List-Unsubscribe": "One-Click"}, headers={"User-Agent": "Agent/1.0\x01", "Origin": "null"})
        assert (answer.status_code, "Nobody was unsubscribed" in answer.content.decode()) == (200, True)
        (press,) = copy.presses.all()
        assert (press.how, press.place, press.client, press.came_from) == ("one-click", "header", "Agent/1.0 ", "127.0.0.1")
        page = page_of(house.client(house.reviewer).get(f"/mailings/{copy.send.mailing_id}/r1/test-sends/"))
        assert "way out pressed by one click of the mail program, in the List-Unsubscribe header" in page

    def test_on_the_page(self, house: Any, post: Post, client: Any) -> None:
        """Opening it writes nothing, as scanners of links do; a press is noted. No cookie is set, and the real address is nowhere."""
        copy, _, body = self.copy(house, post)
        opened = client.get(body)
        assert (opened.status_code, dict(client.cookies), copy.presses.count()) == (200, {}, 0)
        assert "Here a reader would leave the list" in opened.content.decode()
        assert "kiln.org/leave" not in opened.content.decode()
        assert "This way out works" in client.post(body).content.decode()
        assert [(press.how, press.place) for press in copy.presses.all()] == [("page", "body")]

    def test_by_mail(self, house: Any, post: Post) -> None:
        """A person's mail to the address that only this copy has; a machine's report there is none."""
        copy, *_ = self.copy(house, post)
        services.keep_arrival(Delivery("one@kiln.org", (post[0][0],), b"Subject: unsubscribe\r\n\r\n"))
        services.keep_arrival(Delivery("", (post[0][0],), b"Subject: Away\r\n\r\n"))
        assert [(press.how, press.came_from) for press in copy.presses.all()] == [("mail", "one@kiln.org")]

    @pytest.mark.parametrize("change", ["1:x/header/", "x/header/", "1/header/", "{token}/elsewhere/", "999999:y/header/", "٣:x/body/"])
    def test_forged(self, house: Any, post: Post, client: Any, change: str) -> None:
        """Another number, another place, no signature: there is no such page, and nothing is noted."""
        _, header, _ = self.copy(house, post)
        token = header.split("/")[2]
        assert client.post(f"/way-out/{change.format(token=token)}").status_code == 404
        assert client.post(f"/way-out/{int(token.split(':')[0]) + 1}:{token.split(':')[1]}/header/").status_code == 404
        assert not WayOutPress.objects.exists()

    def test_pressed_for_ever(self, house: Any, post: Post, client: Any) -> None:
        """The first so many presses are noted; the page answers all of them."""
        copy, header, _ = self.copy(house, post)
        for _ in range(MOST_PRESSES + 5):
            assert client.post(header, {"List-Unsubscribe": "One-Click"}).status_code == 200
        assert copy.presses.count() == MOST_PRESSES

    def test_left_as_they_are(self, house: Any, post: Post) -> None:
        """The switch."""
        revision = taken_in(house, mail())
        house.client(house.reviewer).post(
            f"/mailings/{revision.mailing_id}/r1/test-sends/send/", {"list": house.test_list.pk, "unchanged": "on"}
        )
        handed_over(TestSend.objects.get())
        assert b"List-Unsubscribe: <https://www.kiln.org/leave>\r\n" in post[0][2]
