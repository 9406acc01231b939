"""Sending back: what is chosen, what the author gets, ticks, and which of them hold in the next revision."""

from __future__ import annotations

import io
import threading
from collections.abc import Callable
from typing import Any

import pytest
from django.db import connection
from PIL import Image

from jetwind.apps.approvals.services import release, sign
from jetwind.apps.blobs import store
from jetwind.apps.comments import services as comments
from jetwind.apps.comments.models import Thread
from jetwind.apps.comments.services import Place, anchored
from jetwind.apps.instructions import services
from jetwind.apps.instructions.models import Instruction, SendingBack
from jetwind.apps.instructions.selectors import hold_of
from jetwind.apps.instructions.services import Chosen, choices_of, send_back
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.services import add_revision
from jetwind.apps.previews.models import Render
from jetwind.apps.review.selectors import walk_of
from jetwind.apps.review.services import excuse
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.core.profiles import REFERENCE
from jetwind.core.renders.measured import Block, Measured
from tests.apps.helpers import checked, page_of, taken_in, walked
from tests.factories import GOOD_HTML, mail, picture

FAULTY = '<html lang="en"><body><h1>Spring sale</h1><p>Come</p><a href="#">to the kiln</a><img src="cid:pot" width="40" height="20"></body></html>'


@pytest.fixture
def revision(house: Any) -> Revision:
    """A revision with several faults."""
    return taken_in(house, mail(FAULTY, images={"pot": picture()}))


def fingerprint(revision: Revision, check: str) -> str:
    """The fingerprint of the first finding of a check."""
    return str(revision.check_runs.latest("created_at").findings.filter(check_id=check).values_list("fingerprint", flat=True)[0])


def page(house: Any, sending: SendingBack, who: Any = None) -> str:
    """The page of instructions."""
    return page_of(house.client(who or house.author).get(f"/instructions/{sending.pk}/"))


class TestChoosing:
    """The page on which a message is sent back."""

    def test_what_is_open_in_the_order_of_the_source(self, house: Any, revision: Revision) -> None:
        """Headers, HTML by its characters, then what has no place; a comment at its element; excused findings are not offered."""
        document = message_of(revision).document
        assert document is not None
        anchor = anchored(next(document.elements("h1")), document)
        comments.say(house.reviewer, revision, Place(Thread.Kind.ELEMENT, "appearance", "Heading", anchor=anchor), "Too loud")
        comments.say(house.reviewer, revision, Place(Thread.Kind.STATION, "footer", "the station Footer"), "Is this all?")
        excuse(house.reviewer, revision, fingerprint(revision, "links.empty"), "it is a draft", only_this_revision=True)
        found = choices_of(walk_of(revision))
        starts = [
            one.finding.start for one in found if one.finding is not None and one.finding.part == "html" and one.finding.start is not None
        ]
        assert starts == sorted(starts)
        assert not [one for one in found if one.finding is not None and one.finding.check_id == "links.empty"]
        threads = [(one.thread.thread.named, number) for number, one in enumerate(found) if one.thread is not None]
        image = next(number for number, one in enumerate(found) if one.finding is not None and one.finding.check_id == "access.alt-missing")
        assert threads[0][0] == "Heading" and threads[0][1] < image
        assert threads[1] == ("the station Footer", len(found) - 1)

    def test_stops_fixes_and_comments_are_chosen_first(self, house: Any, revision: Revision) -> None:
        """Notes are left to a press."""
        comments.say(house.reviewer, revision, Place(Thread.Kind.STATION, "footer", "the station Footer"), "Is <this> all?")
        shown = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/send-back/"))
        for one in choices_of(walk_of(revision)):
            if one.finding is not None:
                box = f'value="{one.finding.fingerprint}"'
                assert (f"{box} checked>" in shown) == (one.finding.level != "note"), one.finding.sentence
        assert "Reviewer: Is &lt;this&gt; all?" in shown

    def test_refused_comes_back_as_it_was(self, house: Any, revision: Revision) -> None:
        """Without words nothing is sent, and what was chosen stays chosen."""
        wanted = fingerprint(revision, "links.empty")
        address = f"/mailings/{revision.mailing_id}/r1/send-back/"
        answer = house.client(house.reviewer).post(address, {"comment": " ", "finding": wanted})
        shown = page_of(answer)
        assert answer.status_code == 400 and "Say in a sentence what the author should change." in shown
        assert f'value="{wanted}" checked>' in shown and shown.count("checked>") == 1
        long = house.client(house.reviewer).post(address, {"comment": "x" * 2001, "finding": wanted}).content.decode()
        assert "2,001 characters" in long and "x" * 2001 in long
        assert not SendingBack.objects.exists()

    def test_only_the_newest(self, house: Any, revision: Revision) -> None:
        """And the button is gone from an older one."""
        add_revision(house.author, Mailing.objects.get(pk=revision.mailing_id), mail(Subject="New"), "b.eml")
        with pytest.raises(Refused, match="is not the newest"):
            send_back(house.reviewer, revision, "look again")
        assert "/send-back/" not in page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/links/"))

    def test_stages(self, house: Any, revision: Revision) -> None:
        """Sent back; a new revision brings it under review again."""
        send_back(house.reviewer, revision, "the price is last year's")
        mailing = Mailing.objects.get(pk=revision.mailing_id)
        assert mailing.stage == "sent-back"
        add_revision(house.author, mailing, mail(Subject="New"), "b.eml")
        mailing.refresh_from_db()
        assert mailing.stage == "under-review"

    def test_who_may(self, house: Any, revision: Revision) -> None:
        """Not the author; and nobody a released message."""
        with pytest.raises(NotAllowed):
            send_back(house.author, revision, "look again")
        fine = walked(house, taken_in(house, mail(Subject="Fine"), "fine.eml"))
        sign(house.reviewer, fine)
        sign(house.approver, fine)
        release(house.operator, fine)
        with pytest.raises(Refused, match="released and locked"):
            send_back(house.reviewer, fine, "too late")

    def test_too_many(self, house: Any, revision: Revision, monkeypatch: pytest.MonkeyPatch) -> None:
        """As many instructions as there is room for."""
        monkeypatch.setattr(services, "MOST", 1)
        prints = frozenset(one.finding.fingerprint for one in choices_of(walk_of(revision)) if one.finding is not None)
        with pytest.raises(Refused, match="there is room for 1"):
            send_back(house.reviewer, revision, "all", Chosen(prints))

    def test_what_is_gone_is_left_out(self, house: Any, revision: Revision) -> None:
        """And told."""
        wanted = [fingerprint(revision, "links.empty"), "0" * 16]
        address = f"/mailings/{revision.mailing_id}/r1/send-back/"
        shown = page_of(
            house.client(house.reviewer).post(address, {"comment": "Mend it", "finding": wanted, "thread": ["7", "x"]}, follow=True)
        )
        assert "What was not there any more was left out: 2." in shown
        assert Instruction.objects.count() == 1


class TestInstructions:
    """What the author gets."""

    def test_with_the_exact_characters(self, house: Any, revision: Revision) -> None:
        """Line, characters, why and how to mend, as they were then, though the check may word them otherwise later."""
        sending = send_back(house.reviewer, revision, "Mend <it>\nplease", Chosen({fingerprint(revision, "links.empty")}))
        one = sending.instructions.get()
        [place] = one.places
        lines = FAULTY.splitlines()
        assert (place["characters"], lines[place["line"] - 1][place["column"] - 1]) == ("#", "#")
        shown = page(house, sending)
        assert "Mend &lt;it&gt;<br>please" in shown and "<mark>#</mark>" in shown
        assert one.fix in shown and one.why in shown and f"line {place['line']}" in shown

    def test_its_picture(self, house: Any, revision: Revision) -> None:
        """Cut from a render, with the element outlined; none where no render shows it."""
        document = message_of(revision).document
        assert document is not None
        link = next(document.elements("a")).index
        sheet = Image.new("RGB", (800, 1000), "#FFFFFF")
        out = io.BytesIO()
        sheet.save(out, "PNG")
        block = Block(link, "link", 100, 500, 200, 40, characters=11, size=16)
        Render.objects.filter(revision=revision, profile=REFERENCE).update(
            state="done",
            blob_sha256=store.keep(out.getvalue()),
            content_type="image/png",
            width=800,
            height=1000,
            measured=Measured(800, 1000, 800, 600, blocks=(block,)).as_json(),
        )
        wanted = {fingerprint(revision, "links.empty"), fingerprint(revision, "access.alt-missing")}
        one = send_back(house.reviewer, revision, "Mend it", Chosen(wanted)).instructions.exclude(blob_sha256="").get()
        answer = house.client(house.author).get(f"/instructions/{one.pk}/place.png")
        cut = Image.open(io.BytesIO(answer.content)).convert("RGB")
        assert cut.size == (256, 96)
        assert (cut.getpixel((26, 48)), cut.getpixel((2, 2))) == ((185, 60, 10), (255, 255, 255))
        assert house.client(house.outsider).get(f"/instructions/{one.pk}/place.png").status_code == 404

    def test_as_files(self, house: Any, revision: Revision) -> None:
        """Markdown and CSV, named after the message; another form is none."""
        sending = send_back(house.reviewer, revision, "Mend it", Chosen({fingerprint(revision, "links.empty")}))
        client = house.client(house.author)
        markdown, table = (client.get(f"/instructions/{sending.pk}/as.{form}") for form in ("md", "csv"))
        assert markdown["Content-Disposition"] == f'attachment; filename="instructions-{revision.mailing_id}-r1.md"'
        assert "```\n#\n```" in markdown.content.decode() and b",#," in table.content
        assert client.get(f"/instructions/{sending.pk}/as.pdf").status_code == 404
        assert house.client(house.outsider).get(f"/instructions/{sending.pk}/as.md").status_code == 404

    def test_comments_go_along(self, house: Any, revision: Revision) -> None:
        """A thread is an instruction with everything that is said in it, later words too."""
        thread = comments.say(house.reviewer, revision, Place(Thread.Kind.SUBJECT, "envelope", "“Twelve”"), "Shorter?")
        sending = send_back(house.reviewer, revision, "Mend it", Chosen(threads={thread.pk}))
        comments.answer(house.author, thread, "By how much?")
        shown = page(house, sending)
        assert "Shorter?" in shown and "By how much?" in shown
        assert "**Author:**\n\nBy how much?" in house.client(house.author).get(f"/instructions/{sending.pk}/as.md").content.decode()

    def test_a_comment_about_a_chosen_finding_goes_with_it(self, house: Any, revision: Revision) -> None:
        """One thing to change is one instruction; the thread alone is one too."""
        found = revision.check_runs.get().findings.get(check_id="links.empty")
        place = Place(Thread.Kind.FINDING, "links", found.sentence, fingerprint=found.fingerprint)
        thread = comments.say(house.reviewer, revision, place, "The shop is meant")
        both = send_back(house.reviewer, revision, "Mend it", Chosen({found.fingerprint}, {thread.pk})).instructions.get()
        assert (both.level, both.thread, found.fingerprint in both.names) == (found.level, thread, True)
        alone = send_back(house.reviewer, revision, "Mend it", Chosen(threads={thread.pk})).instructions.get()
        assert (alone.level, alone.thread, alone.names) == ("comment", thread, [])
        shown = page_of(
            house.client(house.reviewer).post(
                f"/mailings/{revision.mailing_id}/r1/send-back/",
                {"comment": "Mend it", "finding": found.fingerprint, "thread": thread.pk},
                follow=True,
            )
        )
        assert "left out" not in shown and "The shop is meant" in shown


class TestTicks:
    """What the author ticks off, and what holds in the next revision."""

    def test_which_hold(self, house: Any, revision: Revision) -> None:
        """One mended, one ticked and still there, one excused, one comment settled; told on the page and in the strip of the Walkaround."""
        thread = comments.say(house.reviewer, revision, Place(Thread.Kind.STATION, "links", "the station Links"), "Is the shop meant?")
        mended, still, excused = (fingerprint(revision, check) for check in ("links.empty", "access.alt-missing", "access.title-missing"))
        sending = send_back(house.reviewer, revision, "Mend it", Chosen({mended, still, excused}, {thread.pk}))
        client = house.client(house.author)
        for one in sending.instructions.all():
            client.post(f"/instructions/{one.pk}/tick/", {"ticked": "yes"})
        assert "0 met</a>" in page_of(client.get(f"/mailings/{revision.mailing_id}/r1/links/"))
        later = checked(
            add_revision(
                house.author, revision.mailing, mail(FAULTY.replace('"#"', '"https://kiln.org/"'), images={"pot": picture()}), "b.eml"
            ).mailing
        )
        excuse(house.reviewer, later, excused, "there is none", only_this_revision=False)
        comments.settle(house.reviewer, thread)
        held = {}
        for one in sending.instructions.all():
            row = {"thread": one.thread_id, "names": one.names, "check_id": one.check_id}
            found = hold_of(row, walk_of(later), 1, set())
            held[one.check_id or "comment"] = (found.holds, found.words)
        assert held == {
            "links.empty": (True, "it is not there any more"),
            "access.alt-missing": (False, "it is still there"),
            "access.title-missing": (True, "it is excused"),
            "comment": (True, "its comment is settled"),
        }
        shown = page(house, sending)
        assert "Ticked off by Author, yet it is still there." in shown and "Ticked off by Author; it is not there any more." in shown
        assert ">4/4 ticked, 3 met</a>" in page_of(client.get(f"/mailings/{revision.mailing_id}/r2/links/"))

    def test_before_the_checks_ran_nobody_knows(self, house: Any, revision: Revision) -> None:
        """An instruction is neither met nor unmet while the next revision is not checked."""
        sending = send_back(house.reviewer, revision, "Mend it", Chosen({fingerprint(revision, "links.empty")}))
        add_revision(house.author, revision.mailing, mail(GOOD_HTML), "b.eml")
        assert "The checks have not run yet." in page(house, sending)

    def test_taken_back_and_twice(self, house: Any, revision: Revision) -> None:
        """A second press changes nothing; who is not an author or reviewer ticks nothing."""
        sending = send_back(house.reviewer, revision, "Mend it", Chosen({fingerprint(revision, "links.empty")}))
        one = sending.instructions.get()
        for done in (True, True, False, False):
            services.tick(house.author, one, is_done=done)
        one.refresh_from_db()
        assert (one.ticked_at, one.ticked_by) == (None, None)
        with pytest.raises(NotAllowed):
            services.tick(house.operator, one, is_done=True)
        assert house.client(house.outsider).post(f"/instructions/{one.pk}/tick/", {"ticked": "yes"}).status_code == 404

    def test_several_times(self, house: Any, revision: Revision) -> None:
        """Each sending back has a page, which leads to the others."""
        first = send_back(house.reviewer, revision, "Mend the link", Chosen({fingerprint(revision, "links.empty")}))
        second = send_back(house.approver, revision, "And the picture")
        assert f"/instructions/{first.pk}/" in page(house, second)
        assert "And the picture" in page(house, first)


@pytest.mark.django_db(transaction=True)
def test_two_at_once(house: Any) -> None:
    """Two reviewers who send the same revision back at once: both are kept whole, one after the other."""
    revision = taken_in(house, mail(FAULTY, images={"pot": picture()}))
    wanted = fingerprint(revision, "links.empty")

    def act(who: Any) -> Callable[[], None]:
        def carry_out() -> None:
            try:
                send_back(who, revision, f"from {who.username}", Chosen({wanted}))
            finally:
                connection.close()

        return carry_out

    threads = [threading.Thread(target=act(who)) for who in (house.reviewer, house.approver)]
    for one in threads:
        one.start()
    for one in threads:
        one.join(60)
    assert [(one.words, one.instructions.count()) for one in SendingBack.objects.order_by("words")] == [
        ("from approver", 1),
        ("from reviewer", 1),
    ]
