"""What waits for a person: put there by what others do, taken off by a press or when it is settled."""

from __future__ import annotations

import threading
from typing import Any

import pytest
from django.db import connection

from jetwind.apps.approvals.services import sign
from jetwind.apps.instructions.services import send_back
from jetwind.apps.intake.models import Mailing
from jetwind.apps.intake.services import add_revision
from jetwind.apps.notices import services
from jetwind.apps.notices.models import Notice
from jetwind.apps.proofs import replies
from jetwind.apps.proofs.models import TestCopy
from jetwind.apps.proofs.services import Choices, keep_arrival, send_test
from jetwind.engines.mail import BOXES, Delivery
from jetwind.engines.mail.boxes import written_about
from tests.apps.helpers import checked, page_of, taken_in
from tests.factories import mail


def waiting(person: Any, house: Any) -> list[tuple[str, str]]:
    """The kinds and words of what waits unread."""
    found = services.waiting_for(person, house.workspace)
    return [(notice.kind, notice.words) for notice in found if notice.read_at is None]


class TestEvents:
    """Everything that puts a thing on somebody's list."""

    def test_sent_back(self, house: Any) -> None:
        """To the author, with the words; the next revision takes it off."""
        revision = taken_in(house)
        send_back(house.reviewer, revision, "The price is wrong")
        assert waiting(house.author, house) == [("sent-back", "Reviewer: The price is wrong")]
        assert waiting(house.reviewer, house) == []
        add_revision(house.author, Mailing.objects.get(pk=revision.mailing_id), mail(Subject="Anew"), "b.eml")
        assert waiting(house.author, house) == []

    def test_asked_and_voided(self, house: Any) -> None:
        """The approver is asked when another signed; a new revision voids the sign-off and tells its signer, and nobody is asked any more."""
        revision = taken_in(house)
        sign(house.reviewer, revision)
        assert waiting(house.approver, house) == [("asked", "Reviewer signed revision 1; it needs another sign-off.")]
        assert waiting(house.reviewer, house) == waiting(house.author, house) == []
        add_revision(house.author, Mailing.objects.get(pk=revision.mailing_id), mail(Subject="Anew"), "b.eml")
        assert waiting(house.reviewer, house) == [("voided", "Revision 2 came in.")]
        assert waiting(house.approver, house) == []

    def test_signed(self, house: Any) -> None:
        """Who has signed is asked no more."""
        revision = taken_in(house)
        sign(house.reviewer, revision)
        sign(house.approver, revision)
        assert waiting(house.approver, house) == waiting(house.reviewer, house) == []

    def test_answered(self, house: Any) -> None:
        """To the sender of the test: two answers at one place are one thing."""
        send = send_test(house.reviewer, taken_in(house), house.test_list, Choices(asks=True))
        for link in send.reply_links.all():
            replies.answer(link, replies.Given(looks_right=False, words="Too loud"))
        assert waiting(house.reviewer, house) == [("answered", "two@mail.kiln.org: something is wrong. Too loud")]
        assert Notice.objects.get().times == 2

    def test_bounced(self, house: Any) -> None:
        """A report that a copy came back; an answer of a machine is none."""
        send = send_test(house.reviewer, taken_in(house), house.test_list)
        copy = send.copies.order_by("pk")[0]
        TestCopy.objects.filter(pk=copy.pk).update(state="handed-over")
        raw = mail().replace(b"Subject:", f"Message-ID: {copy.message_id}\r\nSubject:".encode(), 1)
        for name in ("answers-by-itself", "bounces-later"):
            report = written_about(BOXES[name], raw, "test@kiln.org")
            assert report is not None
            keep_arrival(Delivery("", ("test@kiln.org",), report))
        assert waiting(house.reviewer, house) == [("bounced", "The copy to one@kiln.org came back: there is no such mailbox.")]


class TestList:
    """The page, and the top line of every page."""

    def test_from_the_top_line_to_the_place(self, house: Any) -> None:
        """Opening the list reads nothing off it; a press leads there and does. A second press does nothing."""
        revision = taken_in(house)
        send_back(house.reviewer, revision, "The price is wrong")
        client = house.client(house.author)
        assert ">1 waits</b>" in page_of(client.get("/readers/")).replace("<b>1", ">1").replace(">>", ">")
        page = page_of(client.get("/waiting/"))
        assert "<b>Sent back to you</b>" in page and "Reviewer: The price is wrong" in page
        assert len(waiting(house.author, house)) == 1
        notice = Notice.objects.get()
        for _ in range(2):
            answer = client.post(f"/waiting/{notice.pk}/")
            assert (answer.status_code, answer["Location"]) == (302, f"/instructions/{revision.sendings_back.get().pk}/")
        assert "Nothing waits" in page_of(client.get("/readers/"))
        assert "Sent back to you" in page_of(client.get("/waiting/"))

    def test_all(self, house: Any) -> None:
        """Everything at once, of this person and this workspace alone."""
        for number in range(3):
            send_back(house.reviewer, taken_in(house, mail(Subject=f"Number {number}"), f"{number}.eml"), "No")
        sign(house.reviewer, taken_in(house, mail(Subject="Fine"), "fine.eml"))
        client = house.client(house.author)
        assert "Taken for read: 3." in client.post("/waiting/read/", follow=True).content.decode()
        assert len(waiting(house.approver, house)) == 1

    def test_whose_it_is(self, house: Any) -> None:
        """Nobody reads or settles another's things."""
        send_back(house.reviewer, taken_in(house), "The price is wrong")
        notice = Notice.objects.get()
        for other in (house.reviewer, house.outsider):
            assert house.client(other).post(f"/waiting/{notice.pk}/").status_code == 404
            assert "The price is wrong" not in house.client(other).get("/waiting/").content.decode()
        assert len(waiting(house.author, house)) == 1

    def test_no_question_more(self, house: Any, django_assert_num_queries: Any) -> None:
        """The top line tells the number with the question that each page asks for memberships anyway."""
        client = house.client(house.author)
        client.get("/settings/test-lists/")
        asked: list[str] = []
        with connection.execute_wrapper(_noting(asked)):
            client.get("/settings/test-lists/")
        assert sum("notices_notice" in sql for sql in asked) == 1
        assert sum("workspace_membership" in sql for sql in asked if "notices_notice" in sql) == 1


def _noting(asked: list[str]) -> Any:
    def note(execute: Any, sql: str, params: Any, many: bool, context: Any) -> Any:
        asked.append(sql)
        return execute(sql, params, many, context)

    return note


@pytest.mark.django_db(transaction=True)
def test_told_from_several_sides_at_once(house: Any) -> None:
    """Forty things of one kind at one place are one row that counts them."""
    mailing = taken_in(house).mailing

    def tell() -> None:
        try:
            for _ in range(10):
                services.tell([house.author], Notice.Kind.BOUNCED, mailing, "It came back", "/x/")
        finally:
            connection.close()

    threads = [threading.Thread(target=tell) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert Notice.objects.get().times == 40
    assert checked(mailing) is not None
