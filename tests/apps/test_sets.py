"""Sets of automatic messages: expected members, what differs from the model, causes excused at once, and parts that messages share."""

from __future__ import annotations

import json
import threading
from typing import Any

import pytest
from django.db import connection

from jetwind.apps.approvals.models import SignOff
from jetwind.apps.approvals.services import sign
from jetwind.apps.approvals.standing import reconsider_now
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.intake.selectors import newest_open
from jetwind.apps.intake.services import add_revision, start_copy
from jetwind.apps.previews.models import Render
from jetwind.apps.review.models import Excuse, FindingRecord
from jetwind.apps.review.services import look_at
from jetwind.apps.sets import selectors, services
from jetwind.apps.sets.models import Member, MessageSet, NotedPieces, PieceUse
from jetwind.apps.sets.noting import note_pieces, users_of_earlier
from jetwind.apps.sets.selectors import causes_of, changed_of, coverage_of, findings_of, parts_of, rows_of, shared_of, sheet_of
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.core.renders.measured import Block, Measured
from tests.apps.helpers import checked, page_of, taken_in
from tests.core.test_sets import ADDRESS, COPY

OLD = "Saltmarsh Kiln Works, 3 Harbour Row, Saltmarsh SM4 2HR"


def slot(copy: str = COPY, footer: str = ADDRESS) -> bytes:
    """A short automatic message with a picture without a source at its head: every one of them has the same finding."""
    html = f'<html><body><h1>A slot</h1>{copy}<p><a href="https://example.com/x">See your slot</a></p><p>{footer}</p></body></html>'
    headers = "From: Kiln <studio@kiln.org>\r\nTo: {{ email }}\r\nSubject: A slot\r\nMIME-Version: 1.0\r\n"
    return f"{headers}Content-Type: text/html; charset=utf-8\r\n\r\n{html}".encode()


@pytest.fixture
def papers(house: Any) -> Any:
    """A set of three, of which the receipt is missing: booked, which is the model, and refund."""
    made = services.make_set(house.author, house.workspace, "Slot papers", ["Booked", "Refund", "Receipt"])
    for name, copy in (("Booked", COPY), ("Refund", "<p>Your money comes back within five days, to the account it came from.</p>")):
        revision = taken_in(house, slot(copy), f"{name}.eml")
        note_pieces(revision)
        services.put_in(house.author, made.members.select_related("of__workspace").get(name=name), revision.mailing)
    services.choose_model(house.author, made, made.members.get(name="Booked").mailing_id or 0)
    return MessageSet.objects.select_related("workspace").get(pk=made.pk)


def member(shown: Any, name: str) -> Any:
    """A member as it is now."""
    return Member.objects.select_related("of__workspace", "mailing").get(of=shown, name=name)


def told_in(shown: Any) -> Any:
    """The causes of a set as they are now."""
    rows = rows_of(shown)
    return causes_of(rows, findings_of(rows))


class TestExpected:
    """A set names the messages that it is to have, and says which are missing."""

    def test_page(self, house: Any, papers: Any) -> None:
        """The missing one is named; the model is told; every station has its count."""
        page = page_of(house.client(house.reviewer).get(f"/sets/{papers.pk}/"))
        assert "2 of 3 messages are there." in page and "Missing: Receipt." in page and "the model of this set" in page
        assert page.count("0 of 2") == 11
        listed = page_of(house.client(house.reviewer).get("/sets/"))
        assert "Slot papers" in listed and "2 of 3" in listed

    def test_through_its_pages(self, house: Any) -> None:
        """Made, extended, filled, emptied and removed with the forms; the log tells each step."""
        client = house.client(house.author)
        first, second = (
            taken_in(house, slot(), "a.eml").mailing,
            taken_in(house, slot("<p>Another copy altogether, of forty letters.</p>"), "b.eml").mailing,
        )
        client.post("/sets/", {"name": "Papers", "expected": "Booked\n\n Moved \nBooked"})
        made = MessageSet.objects.get()
        assert list(made.members.values_list("name", flat=True)) == ["Booked", "Moved"]
        address = f"/sets/{made.pk}/"
        client.post(address, {"act": "expect", "expected": "Refund\nMoved"})
        client.post(address, {"act": "put-in", "member": member(made, "Booked").pk, "mailing": first.pk})
        client.post(address, {"act": "put-in", "member": member(made, "Moved").pk, "mailing": second.pk})
        client.post(address, {"act": "model", "mailing": second.pk})
        made.refresh_from_db()
        assert made.model_id == second.pk
        client.post(address, {"act": "take-out", "member": member(made, "Moved").pk})
        client.post(address, {"act": "forget", "member": member(made, "Moved").pk})
        made.refresh_from_db()
        assert made.model_id is None
        assert dict(made.members.values_list("name", "mailing")) == {"Booked": first.pk, "Refund": None}
        client.post(address, {"act": "remove"})
        assert not MessageSet.objects.exists() and not Member.objects.exists()
        first.refresh_from_db()
        told = [entry.sentence for entry in LogEntry.objects.filter(action__startswith="set.").order_by("id")]
        assert told[0] == "made the set “Papers”, which expects Booked, Moved" and told[-1] == "removed the set “Papers”"
        assert len(told) == 8

    def test_refusals(self, house: Any, papers: Any) -> None:
        """A message is in one set once; names are short; elsewhere is closed; nothing is half done."""
        booked, receipt = member(papers, "Booked"), member(papers, "Receipt")
        for act, sentence in (
            (lambda: services.make_set(house.author, house.workspace, "Slot papers", []), "There is a set"),
            (lambda: services.make_set(house.author, house.workspace, " ", []), "1 to 80 characters"),
            (lambda: services.make_set(house.author, house.workspace, "Other", ["x" * 81]), "1 to 80 characters"),
            (lambda: services.expect(house.author, papers, [f"Paper {number}" for number in range(38)]), "at most 40 messages"),
            (lambda: services.expect(house.author, papers, ["Booked"]), "Type the name"),
            (lambda: services.put_in(house.author, receipt, booked.mailing), "belongs to a set already"),
            (lambda: services.forget(house.author, booked), "take the message out first"),
            (lambda: services.choose_model(house.author, papers, 0), "a message of the set"),
        ):
            with pytest.raises(Refused, match=sentence):
                act()
        with pytest.raises(NotAllowed):
            services.expect(house.operator, papers, ["x"])
        with pytest.raises(NotAllowed):
            services.remove_set(house.outsider, papers)
        assert house.client(house.outsider).get(f"/sets/{papers.pk}/").status_code == 404
        assert (MessageSet.objects.count(), papers.members.count()) == (1, 3)

    def test_two_put_it_in_at_once(self, house: Any, papers: Any) -> None:
        """Of two people who choose a message for one name, the second is told."""
        shown = member(papers, "Receipt")
        services.put_in(
            house.author,
            member(papers, "Receipt"),
            taken_in(house, slot("<p>One receipt of more than forty letters.</p>"), "1.eml").mailing,
        )
        other = taken_in(house, slot("<p>Another receipt of more than forty letters.</p>"), "2.eml").mailing
        with pytest.raises(Refused, match="a moment ago"):
            services.put_in(house.reviewer, shown, other)


class TestModel:
    """What members have otherwise than the model is told, and signatures rest on it."""

    def test_told(self, house: Any, papers: Any) -> None:
        """A member with another footer is told; one like the model is not."""
        assert [row.differences for row in rows_of(papers)] == [(), (), ()]
        refund = member(papers, "Refund").mailing
        add_revision(
            house.author, refund, slot("<p>Your money comes back within five days, to the account it came from.</p>", OLD), "r.eml"
        )
        note_pieces(checked(refund))
        (told,) = rows_of(papers)[1].differences
        assert told.side == "footer" and OLD in told.sentence
        assert OLD in page_of(house.client(house.reviewer).get(f"/sets/{papers.pk}/"))

    def test_a_change_of_the_model_voids_what_it_must(self, house: Any, papers: Any) -> None:
        """The model's new footer voids the signature of the member that still has the old one; another model that says the same voids nothing."""
        refund = checked(member(papers, "Refund").mailing)
        look_at(house.reviewer, refund, "footer")
        for record in FindingRecord.objects.filter(run__revision=refund, level="stop"):
            Excuse.objects.create(mailing=refund.mailing, check_id=record.check_id, fingerprint=record.fingerprint, members=record.members, reason="known", level="stop", by=house.approver)  # fmt: skip
        sign(house.reviewer, refund)
        reconsider_now(refund.mailing_id)
        assert SignOff.objects.get().voided_at is None
        booked = member(papers, "Booked").mailing
        add_revision(house.author, booked, slot(COPY, OLD), "b.eml")
        note_pieces(checked(booked))
        reconsider_now(refund.mailing_id)
        signed = SignOff.objects.get()
        assert signed.voided_at is not None
        assert signed.changed[0].startswith("Differs from the model of its set since: The footer says")

    def test_outlined(self, house: Any, papers: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """The footer that differs is outlined on its render where it was measured; of measurements that are too large, nothing is read."""
        refund = member(papers, "Refund").mailing
        add_revision(
            house.author, refund, slot("<p>Your money comes back within five days, to the account it came from.</p>", OLD), "r.eml"
        )
        newest = checked(refund)
        note_pieces(newest)
        (element,) = newest.pieces.get(kind="footer").elements
        layout = Measured(800, 600, 800, 600, blocks=(Block(element, "text", x=80, y=300, width=400, height=30),))
        Render.objects.filter(revision=newest, profile="desktop-pane").update(
            state="done", width=800, height=600, measured=layout.as_json()
        )
        (card,) = sheet_of(rows_of(papers)[1:2], "desktop-pane")
        assert card.boxes == [("footer", (10.0, 50.0, 50.0, 5.0))]
        monkeypatch.setattr(selectors, "LARGEST_MEASURED", 10)
        assert sheet_of(rows_of(papers)[1:2], "desktop-pane")[0].boxes == []

    def test_coverage(self, house: Any, papers: Any) -> None:
        """A station counts as done for a member that was looked at and has nothing open there."""
        refund = checked(member(papers, "Refund").mailing)
        look_at(house.reviewer, refund, "plain-text")
        done = {
            station.slug: (marks[1].mark, number)
            for station, marks, number in coverage_of(rows_of(papers)[:2], findings_of(rows_of(papers)[:2]))
            if marks[1] is not None
        }
        assert done["envelope"][1] == 0
        is_open = FindingRecord.objects.filter(run__revision=refund, station="plain-text").exclude(level="note").exists()
        assert done["plain-text"] == (("half", 0) if is_open else ("full", 1))


class TestCauses:
    """Findings of one cause are told once with all members, and excused at once."""

    def test_once(self, house: Any, papers: Any) -> None:
        """The stand-in address stands in both messages: one cause, two members."""
        cause = next(one for one in told_in(papers) if "example.com" in one.cause.first.sentence)
        assert [row.member.name for row in cause.members] == ["Booked", "Refund"]
        page = page_of(house.client(house.reviewer).get(f"/sets/{papers.pk}/"))
        assert page.count(cause.cause.first.sentence.replace("'", "&#x27;")) >= 1

    def test_one_excuse_for_all(self, house: Any, papers: Any) -> None:
        """One press excuses it in both; a second press finds nothing to excuse; a reason is needed, and a role."""
        cause = next(one for one in told_in(papers) if "example.com" in one.cause.first.sentence)
        given = (papers, cause.cause.first.check, cause.cause.first.fingerprint)
        with pytest.raises(Refused, match="reason"):
            services.excuse_in_all(house.reviewer, *given, " ")
        with pytest.raises(NotAllowed):
            services.excuse_in_all(house.author, *given, "It is the address of the page.")
        assert not Excuse.objects.exists()
        client = house.client(house.reviewer)
        sent = {"check": given[1], "fingerprint": given[2], "reason": "The page moves there in March."}
        client.post(f"/sets/{papers.pk}/excuse/", sent)
        assert sorted(Excuse.objects.values_list("mailing__member__name", "reason")) == [
            ("Booked", "The page moves there in March."),
            ("Refund", "The page moves there in March."),
        ]
        assert not next(one for one in told_in(papers) if one.cause.first.check == given[1] and given[2] in {f.fingerprint for f in one.cause.findings}).is_open  # fmt: skip
        with pytest.raises(Refused, match="open in no message"):
            services.excuse_in_all(house.reviewer, *given, "Once more, with a reason.")

    def test_what_is_released_stays(self, house: Any, papers: Any) -> None:
        """A released member keeps what was said of it; the others are excused."""
        cause = next(one for one in told_in(papers) if "example.com" in one.cause.first.sentence)
        booked = member(papers, "Booked").mailing
        type(booked).objects.filter(pk=booked.pk).update(stage="released")
        assert services.excuse_in_all(house.reviewer, papers, cause.cause.first.check, cause.cause.first.fingerprint, "It is known.") == 1
        assert Excuse.objects.get().mailing == member(papers, "Refund").mailing


class TestParts:
    """Parts that messages share, told by content."""

    def test_users(self, house: Any, papers: Any) -> None:
        """The footer of both is one part; each paragraph of its own is none."""
        newest = newest_open(house.workspace)
        found = parts_of(newest, shared_of(newest))
        assert ("footer", ADDRESS, 2) in [(one.kind, one.words, len(one.users)) for one in found]
        assert all("pots are fired" not in one.words for one in found)
        page = page_of(house.client(house.author).get("/sets/parts/"))
        assert ADDRESS in page

    def test_changed_here(self, house: Any, papers: Any) -> None:
        """A new footer in one: the other still has the old one, and is checked again."""
        booked = member(papers, "Booked").mailing
        add_revision(house.author, booked, slot(COPY, OLD), "b.eml")
        newest = checked(booked)
        note_pieces(newest)
        assert users_of_earlier(newest) == [member(papers, "Refund").mailing_id]
        (changed,) = [one for one in changed_of(newest_open(house.workspace)) if one.kind == "footer"]
        assert (changed.before, changed.now, [one.mailing.pk for one in changed.still]) == (
            ADDRESS,
            OLD,
            [member(papers, "Refund").mailing_id],
        )
        # Mended there too, nobody has the old one: what an earlier revision had does not count.
        refund = member(papers, "Refund").mailing
        page = page_of(house.client(house.author).get("/sets/parts/"))
        assert "has a footer of its own now" in page and "1 message still has the earlier one" in page
        with connection.cursor() as cursor:
            cursor.execute("select args::text from procrastinate_jobs where task_name = 'review.recheck_messages'")
            assert [refund.pk] in [json.loads(args)["mailing_ids"] for (args,) in cursor.fetchall()]
        add_revision(
            house.author, refund, slot("<p>Your money comes back within five days, to the account it came from.</p>", OLD), "r.eml"
        )
        note_pieces(checked(refund))
        assert users_of_earlier(newest) == [] and not [one for one in changed_of(newest_open(house.workspace)) if one.kind == "footer"]

    def test_a_copy_says_something_else(self, house: Any) -> None:
        """A paragraph that a copy changed is no part that was forgotten in the message it was made from."""
        first = taken_in(house, slot(), "a.eml")
        note_pieces(first)
        copy = start_copy(house.author, first.mailing)
        note_pieces(checked(copy))
        add_revision(house.author, copy, slot("<p>Your pots are fired on Friday, and cool until Sunday at noon.</p>"), "c.eml")
        note_pieces(checked(copy))
        assert changed_of(newest_open(house.workspace)) == []

    def test_noted_once(self, house: Any) -> None:
        """Noted twice, the rows are the same; a message without HTML is noted, too."""
        revision = taken_in(house, slot(), "a.eml")
        for _ in range(2):
            note_pieces(revision)
        assert PieceUse.objects.filter(revision=revision).count() == len(set(PieceUse.objects.values_list("kind", "digest"))) == 2
        plain = taken_in(house, b"From: a@kiln.org\r\nSubject: x\r\n\r\nHello there\r\n", "b.eml")
        note_pieces(plain)
        assert NotedPieces.objects.filter(revision=plain).exists() and not plain.pieces.exists()


@pytest.mark.django_db(transaction=True)
def test_two_excuse_at_once(house: Any) -> None:
    """Two people excuse one cause at the same moment, ten times: each message has one excuse in force, and nobody sees a failure."""
    made = services.make_set(house.author, house.workspace, "Slot papers", ["Booked", "Refund"])
    for name, copy in (("Booked", COPY), ("Refund", "<p>Your money comes back within five days, to the account it came from.</p>")):
        revision = taken_in(house, slot(copy), f"{name}.eml")
        services.put_in(house.author, member(made, name), revision.mailing)
    shown = MessageSet.objects.select_related("workspace").get(pk=made.pk)
    cause = next(one for one in told_in(shown) if "example.com" in one.cause.first.sentence)
    for _ in range(10):
        Excuse.objects.all().delete()
        ends: list[Any] = []
        together = threading.Barrier(2)

        def press(user: Any, ends: list[Any] = ends, together: threading.Barrier = together) -> None:
            together.wait()
            try:
                ends.append(services.excuse_in_all(user, shown, cause.cause.first.check, cause.cause.first.fingerprint, "It is known."))
            except Refused:
                ends.append("refused")
            finally:
                connection.close()

        both = [threading.Thread(target=press, args=(user,)) for user in (house.reviewer, house.approver)]
        for one in both:
            one.start()
        for one in both:
            one.join(60)
        assert sorted(map(str, ends)) == ["2", "refused"]
        assert Excuse.objects.filter(lifted_at=None).count() == 2
