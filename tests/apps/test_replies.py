"""Answers of recipients: signed links, the page, photos, taps, reminders, and the matrix of people and devices."""

from __future__ import annotations

import io
import re
import threading
from datetime import timedelta
from email import message_from_bytes, policy
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection
from django.test import Client
from django.utils import timezone
from PIL import Image

from jetwind.apps.blobs import store
from jetwind.apps.comments.models import Comment, Thread
from jetwind.apps.comments.services import settle
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.previews.models import Render
from jetwind.apps.proofs import handing_over, replies, services, test_lists
from jetwind.apps.proofs.looked import asked_of, links_of_send, matrix_of
from jetwind.apps.proofs.models import Arrival, Reply, ReplyLink, ReplyPhoto, TestCopy, TestSend
from jetwind.apps.proofs.tasks import place_reply
from jetwind.apps.ui.refusal import Refused
from jetwind.core.renders.measured import Block, Measured
from tests.apps.helpers import Post, handed_over, page_of, taken_in
from tests.factories import mail, picture


@pytest.fixture
def asked(house: Any, post: Post) -> TestSend:
    """A send whose two recipients were asked; the first has a name and two devices."""
    entry = house.test_list.addresses.get(address="one@kiln.org")
    test_lists.change_person(house.reviewer, entry, {"name": "Una", "reader": None, "devices": "phone; old desktop"})
    revision = taken_in(house, mail())
    address = f"/mailings/{revision.mailing_id}/r1/test-sends/send/"
    house.client(house.reviewer).post(address, {"list": house.test_list.pk, "ask": "on"})
    send = TestSend.objects.get()
    handed_over(send)
    return send


def path_of(link: ReplyLink) -> str:
    """The path of a person's answer page."""
    return replies.address_of(link).removeprefix("http://testserver")


def first(send: TestSend) -> ReplyLink:
    """The link of the first recipient."""
    return send.reply_links.order_by("pk")[0]


def station(house: Any, send: TestSend) -> str:
    """The station as the reviewer sees it."""
    return page_of(house.client(house.reviewer).get(f"/mailings/{send.mailing_id}/r1/test-sends/"))


def photo(name: str = "photo.jpg", **exif: Any) -> SimpleUploadedFile:
    """A photo of a phone: turned by its Exif, with a place and a camera in it."""
    made = Image.new("RGB", (60, 40), "navy")
    tags = made.getexif()
    tags[0x0112] = 6
    tags[0x010F] = "A camera"
    tags.get_ifd(0x8825)[1] = "N"
    out = io.BytesIO()
    made.save(out, "JPEG", exif=tags)
    return SimpleUploadedFile(name, out.getvalue(), "image/jpeg")


class TestNotes:
    """The short mail beside the copy."""

    def test_each_gets_a_link_of_their_own(self, house: Any, asked: TestSend, post: Post) -> None:
        """A copy and a note for each; the note is plain text from a machine, and its link opens the page."""
        assert [recipient for _, recipient, _ in post] == ["one@kiln.org", "two@mail.kiln.org"] * 2
        note = message_from_bytes(post[2][2], policy=policy.default)
        assert (note["Auto-Submitted"], note.get_content_type()) == ("auto-generated", "text/plain")
        text = note.get_content().replace("\r\n", "\n")
        assert text.startswith("Hello Una,\n\nReviewer sent you a test of “")
        link = re.search(r"http://testserver(/reply/\S+)", text)
        assert link is not None and Client().get(link[1]).status_code == 200
        assert len({replies.address_of(one) for one in asked.reply_links.all()}) == 2

    def test_a_note_is_no_copy(self, house: Any, asked: TestSend) -> None:
        """Its arrival is compared with nothing, has no lane, and is in no count of copies."""
        assert TestCopy.objects.filter(purpose="note").count() == 2
        notes = Arrival.objects.filter(copy__purpose="note")
        assert notes.count() == 2
        assert set(notes.values_list("compared", "not_compared")) == {(None, "")}
        assert station(house, asked).count('<div class="small who">') == 2

    def test_nobody_is_asked_who_was_not(self, house: Any, post: Post) -> None:
        """Without the tick there are no links and no notes."""
        handed_over(services.send_test(house.reviewer, taken_in(house), house.test_list))
        assert (len(post), ReplyLink.objects.count()) == (2, 0)

    def test_withdrawn_before_it_went(self, house: Any, post: Post) -> None:
        """A note whose link works no more is not sent."""
        send = services.send_test(house.reviewer, taken_in(house), house.test_list, services.Choices(asks=True, base="http://testserver"))
        replies.withdraw(house.reviewer, first(send))
        handed_over(send)
        assert len(post) == 3
        assert TestCopy.objects.get(purpose="note", address="one@kiln.org").state == "cancelled"


class TestAnswering:
    """The page, without an account."""

    def test_looks_right(self, house: Any, asked: TestSend) -> None:
        """One tap and one press; the station says who, on what, and shows it on the lane."""
        link = first(asked)
        client = Client()
        page = page_of(client.get(path_of(link)))
        assert "Una, Reviewer sent you a test of this message" in page
        assert "<option>phone</option><option>old desktop</option>" in page.replace(" </option>", "</option>").replace(
            "<option >", "<option>"
        )
        answer = page_of(client.post(path_of(link), {"verdict": "right", "device": "phone"}, follow=True))
        assert "Your answer is with Reviewer." in answer
        shown = station(house, asked)
        assert '<i class="moment right"></i> looks right' in shown
        assert "answered: it looks right" in shown
        assert shown.count("no answer yet") == 2

    def test_something_is_wrong_with_photos(self, house: Any, asked: TestSend) -> None:
        """Words with their lines, and photos made anew: turned upright, and without the place, the camera and whatever stood behind the picture."""
        given = {"verdict": "wrong", "words": "The button\nis cut off", "other": "a borrowed tablet", "photo": [photo(), photo("b.jpg")]}
        assert "It has 2 photos." in page_of(Client().post(path_of(first(asked)), given, follow=True))
        reply = Reply.objects.get()
        assert (reply.looks_right, reply.words, reply.device) == (False, "The button\nis cut off", "a borrowed tablet")
        kept = reply.photos.all()[0]
        made = Image.open(io.BytesIO(store.fetch(kept.blob_sha256)))
        assert (made.format, made.size, dict(made.getexif()), (kept.width, kept.height)) == ("JPEG", (40, 60), {}, (40, 60))
        assert b"camera" not in store.fetch(kept.blob_sha256)
        shown = house.client(house.author).get(f"/reply-photos/{kept.pk}/")
        assert (shown.status_code, shown["Content-Type"]) == (200, "image/jpeg")
        assert house.client(house.outsider).get(f"/reply-photos/{kept.pk}/").status_code == 404
        assert Client().get(f"/reply-photos/{kept.pk}/").status_code == 302
        assert "a borrowed tablet" in station(house, asked)

    @pytest.mark.parametrize(
        ("given", "why"),
        [
            ({}, "Say whether it looks right"),
            ({"verdict": "maybe"}, "Say whether it looks right"),
            ({"verdict": "wrong", "words": " "}, "Say in a few words what is wrong"),
            ({"verdict": "wrong", "words": "x" * 2001}, "there is room for 2,000"),
            ({"verdict": "right", "other": "x" * 121}, "more than 120 characters"),
        ],
    )
    def test_what_is_refused_is_not_lost(self, house: Any, asked: TestSend, given: dict[str, str], why: str) -> None:
        """The sentence stands on the page, and so does everything that was typed."""
        answer = Client().post(path_of(first(asked)), {"words": "kept words", **given})
        page = answer.content.decode()
        assert (answer.status_code, why in page) == (400, True)
        assert (given.get("words", "kept words"))[:50] in page
        assert not Reply.objects.exists()

    @pytest.mark.parametrize(
        "octets",
        [b"", b"no picture", b"<svg xmlns='http://www.w3.org/2000/svg' onload='x()'/>", picture(200, 200)[:90], b"GIF89a" + b"\xff" * 200],
        ids=["empty", "words", "drawing", "cut", "junk"],
    )
    def test_photos_that_are_none(self, asked: TestSend, octets: bytes) -> None:
        """Named by their number; nothing is kept. An empty file is what an input sends that nobody filled in."""
        answer = Client().post(
            path_of(first(asked)), {"verdict": "right", "words": "kept words", "photo": SimpleUploadedFile("p.jpg", octets, "image/jpeg")}
        )
        assert answer.status_code == (400 if octets else 302)
        assert octets == b"" or "Photo 1 cannot be opened" in answer.content.decode()
        assert not ReplyPhoto.objects.exists()

    def test_a_bomb_of_pixels(self, asked: TestSend) -> None:
        """A small file of many pixels is not unpacked."""
        out = io.BytesIO()
        Image.new("1", (20_000, 20_000)).save(out, "PNG")
        answer = Client().post(
            path_of(first(asked)), {"verdict": "right", "photo": SimpleUploadedFile("p.png", out.getvalue(), "image/png")}
        )
        assert (answer.status_code, "of up to 40 million pixels" in answer.content.decode()) == (400, True)

    def test_too_many(self, asked: TestSend) -> None:
        """Four photos, and the eleventh answer."""
        client, path = Client(), path_of(first(asked))
        assert "room for 3 photos" in client.post(path, {"verdict": "right", "photo": [photo() for _ in range(4)]}).content.decode()
        for _ in range(replies.MOST_REPLIES):
            assert client.post(path, {"verdict": "right"}).status_code == 302
        assert "as often as one link takes" in client.post(path, {"verdict": "right"}).content.decode()
        assert Reply.objects.count() == replies.MOST_REPLIES

    def test_hostile_words(self, house: Any, asked: TestSend) -> None:
        """They are words, wherever they are shown."""
        words = "<script>alert(1)</script>\u202e\x1b[31m"
        Client().post(path_of(first(asked)), {"verdict": "wrong", "words": words, "other": '"><img src=x>'})
        page = station(house, asked)
        assert "<script>alert" not in page and "<img src=x>" not in page and "\x1b" not in page and "\u202e" not in page
        assert "&lt;script&gt;alert(1)" in page

    def test_opening_writes_nothing(self, asked: TestSend, django_assert_num_queries: Any) -> None:
        """A scanner of links that opens the page changes nothing."""
        path = path_of(first(asked))
        with connection.execute_wrapper(_no_writing):
            assert Client().get(path).status_code == 200
            assert Client().get(f"{path}render/").status_code == 404

    def test_a_form_of_another_site(self, asked: TestSend) -> None:
        """A page elsewhere cannot answer in a person's name."""
        strict = Client(enforce_csrf_checks=True)
        assert strict.post(path_of(first(asked)), {"verdict": "right"}).status_code == 403


def _no_writing(execute: Any, sql: str, params: Any, many: bool, context: Any) -> Any:
    assert sql.lstrip().upper().startswith(("SELECT", "SAVEPOINT", "RELEASE")), sql
    return execute(sql, params, many, context)


class TestLinks:
    """One send, one person, and a time."""

    def test_late_and_withdrawn(self, house: Any, asked: TestSend) -> None:
        """It works no more, for looking and for answering; the answers that came stay."""
        link = first(asked)
        path = path_of(link)
        Client().post(path, {"verdict": "right"})
        ReplyLink.objects.filter(pk=link.pk).update(expires_at=timezone.now() - timedelta(seconds=1))
        for answer in (Client().get(path), Client().post(path, {"verdict": "wrong", "words": "x"}), Client().get(f"{path}render/")):
            assert answer.status_code == 404
        other = asked.reply_links.order_by("pk")[1]
        assert house.client(house.approver).post(f"/reply-links/{other.pk}/withdraw/").status_code == 403
        assert house.client(house.outsider).post(f"/reply-links/{other.pk}/withdraw/").status_code == 404
        house.client(house.reviewer).post(f"/reply-links/{other.pk}/withdraw/")
        again = house.client(house.reviewer).post(f"/reply-links/{other.pk}/withdraw/", follow=True).content.decode()
        assert "was withdrawn already" in again
        assert Client().get(path_of(other)).status_code == 404
        assert Reply.objects.count() == 1

    @pytest.mark.parametrize("forge", ["other number", "other nonce", "no signature", "other purpose", "huge", "letters"])
    def test_with_other_numbers(self, asked: TestSend, forge: str) -> None:
        """Nobody reaches another's page by changing a link."""
        mine, other = asked.reply_links.order_by("pk")
        token = path_of(mine).split("/")[2]
        body, _, signature = token.rpartition(":")
        tokens = {
            "other number": f"{other.pk}.{mine.nonce}:{signature}",
            "other nonce": f"{mine.pk}.{other.nonce}:{signature}",
            "no signature": body,
            "other purpose": handing_over.own_ways_out("", asked.copies.all()[0], "x@y").body.split("/")[2],
            "huge": f"{'9' * 400}.{mine.nonce}:{signature}",
            "letters": "x",
        }
        assert Client().get(f"/reply/{tokens[forge]}/").status_code == 404
        assert Client().post(f"/reply/{tokens[forge]}/", {"verdict": "right"}).status_code == 404

    def test_a_number_that_was_signed_for_somebody_else(self, asked: TestSend) -> None:
        """The random part has to be the link's own, whatever was signed."""
        mine, other = asked.reply_links.order_by("pk")
        assert replies.link_of(replies._SIGNER.sign(f"{other.pk}.{mine.nonce}")) is None

    @pytest.mark.django_db(transaction=True)
    def test_sent_ten_times_at_once(self, asked: TestSend) -> None:
        """No more answers than one link takes, however many arrive together."""
        link = first(asked)
        refused: list[str] = []

        def answer() -> None:
            try:
                for _ in range(4):
                    replies.answer(link, replies.Given(looks_right=True))
            except Refused as why:
                refused.append(why.sentence)
            finally:
                connection.close()

        threads = [threading.Thread(target=answer) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(60)
        assert Reply.objects.count() == replies.MOST_REPLIES
        assert refused


class TestTap:
    """A place on the render becomes a comment at the element there."""

    @pytest.fixture
    def shown(self, asked: TestSend) -> Render:
        """A render with a heading and a button."""
        document = message_of(asked.revision).document
        assert document is not None
        heading = next(document.elements("h1"))
        block = Block(heading.index, "text", 0, 0, 400, 60, characters=17, size=20)
        return Render.objects.create(
            revision=asked.revision,
            profile="phone-upright",
            key="k",
            state="done",
            blob_sha256=store.keep(picture(40, 80)),
            content_type="image/png",
            width=400,
            height=800,
            measured=Measured(400, 800, 400, 600, blocks=(block,)).as_json(),
        )

    def test_it_lands_as_a_comment(self, house: Any, asked: TestSend, shown: Render) -> None:
        """With the person's name and words, at the element, once; it is answered, carried on and settled as other comments are."""
        path = path_of(first(asked))
        assert Client().get(f"{path}render/").content == store.fetch(shown.blob_sha256)
        Client().post(path, {"verdict": "wrong", "words": "Too loud", "left": "50", "top": "4"})
        reply = Reply.objects.get()
        assert (reply.render, reply.left, reply.top) == (shown, 50.0, 4.0)
        place_reply.func(reply_id=reply.pk)
        place_reply.func(reply_id=reply.pk)
        thread, comment = Thread.objects.get(), Comment.objects.get()
        assert thread.anchor is not None
        assert (comment.words, comment.said_by, thread.anchor["tag"], thread.kind) == ("Too loud", "Una", "h1", "point")
        assert (thread.left, round(thread.top or 0, 1)) == (50.0, 53.3)
        assert f"/comments/{thread.pk}/" in station(house, asked)
        page = page_of(house.client(house.reviewer).get(f"/mailings/{asked.mailing_id}/r1/appearance/"))
        assert "<b>Una</b>, by the answer page" in page
        settle(house.reviewer, thread)

    def test_beside_everything(self, asked: TestSend, shown: Render) -> None:
        """A tap where nothing of the message is keeps its place; the comment is about the station."""
        Client().post(path_of(first(asked)), {"verdict": "wrong", "words": "Here", "left": "50", "top": "99"})
        place_reply.func(reply_id=Reply.objects.get().pk)
        assert (Thread.objects.get().kind, Thread.objects.get().station) == ("station", "test-sends")

    def test_without_a_tap(self, house: Any, asked: TestSend) -> None:
        """Words alone are a comment about the station; that everything looks right is none."""
        Client().post(path_of(first(asked)), {"verdict": "right"})
        place_reply.func(reply_id=Reply.objects.get().pk)
        assert not Thread.objects.exists()
        Client().post(path_of(first(asked)), {"verdict": "wrong", "words": "The button\nis cut off"})
        place_reply.func(reply_id=Reply.objects.latest("pk").pk)
        assert (Thread.objects.get().station, Comment.objects.get().words) == ("test-sends", "The button\nis cut off")

    @pytest.mark.parametrize(
        ("left", "top"), [("nan", "1"), ("inf", "1"), ("-1", "1"), ("101", "1"), ("x", "1"), ("1", ""), ("1e999", "1")]
    )
    def test_no_place(self, asked: TestSend, shown: Render, left: str, top: str) -> None:
        """Numbers that are none are no tap."""
        Client().post(path_of(first(asked)), {"verdict": "wrong", "words": "x", "left": left, "top": top})
        assert Reply.objects.get().left is None


class TestReminding:
    """One press for those who have not answered."""

    def test_those_who_have_not(self, house: Any, asked: TestSend, post: Post) -> None:
        """Only they get a reminder, and not twice within the hour."""
        Client().post(path_of(first(asked)), {"verdict": "right"})
        del post[:]
        client, address = house.client(house.reviewer), f"/test-sends/{asked.pk}/decide/"
        assert "Remind the 1 person without an answer" in station(house, asked)
        assert "Reminded: 1 of the recipients." in client.post(address, {"do": "remind"}, follow=True).content.decode()
        assert "within the last hour" in client.post(address, {"do": "remind"}, follow=True).content.decode()
        handed_over(asked)
        assert [recipient for _, recipient, _ in post] == ["two@mail.kiln.org"]
        assert "has no answer of yours yet" in message_from_bytes(post[0][2], policy=policy.default).get_content()
        assert "reminded 1 time" in station(house, asked)
        ReplyLink.objects.update(reminded_at=timezone.now() - timedelta(hours=2))
        assert services.remind(house.reviewer, TestSend.objects.get(pk=asked.pk)) == 1

    def test_answered_before_it_went(self, house: Any, asked: TestSend, post: Post) -> None:
        """A reminder to somebody who has answered meanwhile does not go."""
        services.remind(house.reviewer, asked)
        Client().post(path_of(first(asked)), {"verdict": "right"})
        del post[:]
        handed_over(asked)
        assert [recipient for _, recipient, _ in post] == ["two@mail.kiln.org"]

    def test_nobody_is_left(self, house: Any, asked: TestSend) -> None:
        """Everybody answered, or cannot any more."""
        for link in asked.reply_links.all():
            Client().post(path_of(link), {"verdict": "right"})
        with pytest.raises(Refused, match="Nobody is left"):
            services.remind(house.reviewer, asked)


def test_the_matrix(house: Any, asked: TestSend) -> None:
    """A column for each device, the newest answer in its cell, and one for those who did not say."""
    una, other = asked.reply_links.order_by("pk")
    replies.answer(una, replies.Given(looks_right=False, words="x", device="phone"))
    replies.answer(una, replies.Given(looks_right=True, device="phone"))
    replies.answer(una, replies.Given(looks_right=False, words="y", device="tablet"))
    replies.answer(other, replies.Given(looks_right=True))
    found = TestSend.objects.annotate(rows=links_of_send()).get()
    matrix = matrix_of(asked_of(found.rows))
    assert matrix.devices == ["phone", "old desktop", "tablet", ""]
    assert [row.cells for row in matrix.rows] == [["right", "waiting", "wrong", ""], ["", "", "", "right"]]
    assert matrix.waiting == 0
