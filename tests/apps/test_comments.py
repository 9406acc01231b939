"""Comments: begun at a place, answered, settled, carried on to later revisions, and holding a message back where the house wants it."""

from __future__ import annotations

import threading
from typing import Any

import pytest
from django.db import connection

from jetwind.apps.approvals.services import blockers, release, sign
from jetwind.apps.comments import services
from jetwind.apps.comments.models import Comment, Thread
from jetwind.apps.comments.selectors import open_threads
from jetwind.apps.comments.services import Place
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.services import add_revision
from jetwind.apps.notices.models import Notice
from jetwind.apps.review.selectors import walk_of
from jetwind.apps.ui.refusal import NotAllowed, Refused
from tests.apps.helpers import checked, listed_in, page_of, taken_in, walked
from tests.factories import mail

STATION = Place(Thread.Kind.STATION, "links", "the station Links")


def station(house: Any, revision: Revision, slug: str = "links", who: Any = None) -> str:
    """A station's page."""
    return page_of(house.client(who or house.reviewer).get(f"/mailings/{revision.mailing_id}/r{revision.number}/{slug}/"))


def say_at(house: Any, revision: Revision, slug: str, **given: Any) -> Any:
    """What a press on “Comment” at a station answers."""
    address = f"/mailings/{revision.mailing_id}/r{revision.number}/{slug}/say/"
    return house.client(house.reviewer).post(address, {"words": "Which page?", **given}, follow=True)


class TestPlaces:
    """Each place that a thread may be begun at."""

    def test_a_station(self, house: Any) -> None:
        """It stands on that station, and no other."""
        revision = taken_in(house)
        page = page_of(say_at(house, revision, "links", about="station"))
        assert "The station Links" in page and "Which page?" in page
        assert "Which page?" not in station(house, revision, "wording")
        assert ">1 comment</a>" in station(house, revision, "wording")

    def test_the_subject(self, house: Any) -> None:
        """A later revision with another subject says what it was."""
        revision = taken_in(house, mail(Subject="Glazes are in"))
        say_at(house, revision, "envelope", about="subject")
        assert "“Glazes are in”" in station(house, revision, "envelope")
        later = add_revision(house.author, Mailing.objects.get(pk=revision.mailing_id), mail(Subject="Clay is in"), "b.eml")
        assert "The subject has changed since; it was “Glazes are in”." in station(house, later, "envelope")

    def test_a_finding(self, house: Any) -> None:
        """It stands by the finding wherever that is selected; a revision without the finding says that it is gone."""
        revision = taken_in(house, mail("<p>Come</p><a href='#'>to the kiln</a>"))
        found = revision.check_runs.get().findings.get(check_id="links.empty")
        say_at(house, revision, "links", about=found.fingerprint)
        thread = Thread.objects.get()
        assert (thread.kind, thread.station, thread.named) == ("finding", "links", found.sentence)
        chosen = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/wording/?finding={found.fingerprint}"))
        assert "Which page?" in chosen
        later = add_revision(house.author, revision.mailing, mail("<p>Come</p><a href='https://kiln.org/'>to the kiln</a>"), "b.eml")
        assert "is not there any more" not in station(house, later)  # nobody knows before the checks ran
        assert "The finding is not there any more." in station(house, checked(later.mailing))

    @pytest.mark.parametrize("about", ["0" * 16, "", "x'\"<"])
    def test_what_is_no_place(self, house: Any, about: str) -> None:
        """A finding that is not there is told, and the words are kept for the next try, once."""
        revision = taken_in(house)
        page = page_of(say_at(house, revision, "links", about=about, words="kept <words>"))
        assert "The finding is not there any more" in page and "kept &lt;words&gt;</textarea>" in page
        assert "kept &lt;words" not in station(house, revision)
        assert not Thread.objects.exists()
        assert "There is no station" in page_of(
            say_at(house, revision, "nowhere", about="station", back=f"/mailings/{revision.mailing_id}/r1/links/")
        )

    def test_not_on_an_earlier_revision(self, house: Any) -> None:
        """What was said about a later revision does not stand at an earlier one."""
        revision = taken_in(house)
        later = add_revision(house.author, revision.mailing, mail(Subject="Anew"), "b.eml")
        services.say(house.reviewer, later, STATION, "Which page?")
        assert "Which page?" not in station(house, revision)
        assert "Which page?" in station(house, later)


class TestThreads:
    """Answers, people who are told, and settling."""

    def test_who_is_told(self, house: Any) -> None:
        """The people for whom a comment is meant, and who spoke before; nobody of what they say themselves, and each once."""
        revision = taken_in(house)
        thread = services.say(house.reviewer, revision, STATION, "Which page?", [house.author.pk, house.reviewer.pk])
        assert [(one.user, one.kind) for one in Notice.objects.all()] == [(house.author, "mentioned")]
        assert "to Author, Reviewer" in station(house, revision)
        services.answer(house.author, thread, "The shop", [house.reviewer.pk])
        services.answer(house.approver, thread, "I agree")
        told = sorted((one.user.username, one.kind, one.words) for one in Notice.objects.exclude(kind="mentioned", user=house.author))
        assert told == [
            ("author", "commented", "Approver: I agree"),
            ("reviewer", "commented", "Approver: I agree"),
            ("reviewer", "mentioned", "Author: The shop"),
        ]
        answer = house.client(house.author).get(Notice.objects.get(user=house.author, kind="mentioned").path)
        assert answer["Location"] == f"/mailings/{revision.mailing_id}/r1/links/#thread-{thread.pk}"

    def test_only_people_of_the_house(self, house: Any) -> None:
        """Somebody of elsewhere, or who has left, is told nothing; nothing is kept."""
        revision = taken_in(house)
        for number in (house.outsider.pk, 10**9):
            with pytest.raises(Refused, match="does not belong"):
                services.say(house.reviewer, revision, STATION, "Which page?", [number])
        assert not Thread.objects.exists()
        assert "Outsider" not in station(house, revision)

    def test_settled_and_opened_again(self, house: Any) -> None:
        """By the one who began it, or a reviewer; it stands on the page of all comments with who settled it, and an answer opens it again."""
        revision = taken_in(house)
        thread = services.say(house.author, revision, STATION, "Is the shop meant?")
        with pytest.raises(NotAllowed, match="began this thread"):
            services.settle(house.operator, thread)
        services.settle(house.reviewer, thread)
        services.settle(house.author, thread)
        assert Thread.objects.get().settled_by == house.reviewer
        assert "Is the shop meant?" not in station(house, revision)
        every = page_of(house.client(house.operator).get(f"/mailings/{revision.mailing_id}/r1/comments/"))
        assert "Settled by Reviewer" in every and "Is the shop meant?" in every
        client = house.client(house.author)
        assert "your comment opened it again" in client.post(f"/comments/{thread.pk}/", {"words": "Still"}, follow=True).content.decode()
        services.settle(house.author, thread)
        client.post(f"/comments/{thread.pk}/", {"do": "open"})
        assert [said.words for said in open_threads(revision)[0].comments] == ["Is the shop meant?", "Still"]

    @pytest.mark.parametrize(("words", "why"), [("", "a few words"), (" \n\t", "a few words"), ("x" * 2001, "2,001 characters")])
    def test_refused_answers_are_not_lost(self, house: Any, words: str, why: str) -> None:
        """The sentence stands on the page, and what was typed in its own thread."""
        revision = taken_in(house)
        thread = services.say(house.reviewer, revision, STATION, "Which page?")
        page = page_of(house.client(house.author).post(f"/comments/{thread.pk}/", {"words": words}, follow=True))
        assert why in page
        assert not words.strip() or f"{words[:2000]}" in page
        assert Comment.objects.count() == 1

    def test_who_may(self, house: Any) -> None:
        """Everybody who works on messages; an owner alone does not, and people of elsewhere find nothing."""
        revision = taken_in(house)
        with pytest.raises(NotAllowed):
            services.say(house.owner, revision, STATION, "Which page?")
        thread = services.say(house.reviewer, revision, STATION, "Which page?")
        for method in ("get", "post"):
            assert getattr(house.client(house.outsider), method)(f"/comments/{thread.pk}/", {"words": "x"}).status_code == 404
        assert Comment.objects.count() == 1

    def test_markup_stays_text(self, house: Any) -> None:
        """What people type is never markup."""
        revision = taken_in(house, mail(Subject="<script>a()</script>"))
        say_at(house, revision, "envelope", about="subject", words="<img src=x onerror=b()>\n{{ 7 }}")
        page = station(house, revision, "envelope")
        assert "<script>a()" not in page and "<img src=x" not in page
        assert "&lt;img src=x onerror=b()&gt;<br>{{ 7 }}" in page

    def test_a_second_click(self, house: Any) -> None:
        """One press twice is one comment."""
        revision = taken_in(house)
        for _ in range(2):
            say_at(house, revision, "links", about="station", intent="6e4f2f37-7c53-4b0e-a3c6-5d1f0c7a2b11")
        assert Comment.objects.count() == 1

    def test_bounds(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """As many threads and comments as there is room for, told with what to do."""
        monkeypatch.setattr(services, "MOST_THREADS", 2)
        monkeypatch.setattr(services, "MOST_COMMENTS", 2)
        revision = taken_in(house)
        thread = services.say(house.reviewer, revision, STATION, "One")
        services.say_from_outside(revision, STATION, "Two", "Una")
        for act in (
            lambda: services.say(house.reviewer, revision, STATION, "Three"),
            lambda: services.say_from_outside(revision, STATION, "Three", "Una"),
        ):
            with pytest.raises(Refused, match="2 threads are open on this message; settle some"):
                act()
        services.answer(house.author, thread, "Two")
        with pytest.raises(Refused, match="There are 2 comments here"):
            services.answer(house.author, thread, "Three")
        services.settle(house.reviewer, thread)
        services.say(house.reviewer, revision, STATION, "Three")
        with pytest.raises(Refused, match="2 threads are open"):
            services.open_again(house.reviewer, thread)


class TestHolding:
    """Where a house has open comments hold a message back."""

    def test_until_each_is_settled(self, house: Any) -> None:
        """Signing is refused, the list says why, and settling lets it go; without the setting comments hold nothing."""
        revision = walked(house, taken_in(house))
        thread = services.say(house.author, revision, STATION, "Which page?")
        assert blockers(walk_of(revision)) == []
        house.workspace.clearing = {"every": {"comments": False}}
        house.workspace.save()
        revision = Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)
        assert blockers(walk_of(revision)) == ["1 comment is open."]
        with pytest.raises(Refused, match="1 comment is open"):
            sign(house.reviewer, revision)
        [row] = listed_in(house.workspace)
        assert row.readiness.holding == walk_of(revision).readiness.holding == "1 comment is open."
        services.say(house.author, revision, STATION, "And this?")
        assert listed_in(house.workspace)[0].readiness.holding == "2 comments are open."
        for one in Thread.objects.all():
            services.settle(house.reviewer, one)
        assert sign(house.reviewer, revision)
        assert thread.mailing_id == revision.mailing_id

    def test_a_released_message_takes_none(self, house: Any) -> None:
        """Neither a thread, nor an answer, nor settling; in the database too."""
        revision = walked(house, taken_in(house))
        thread = services.say(house.reviewer, revision, STATION, "Which page?")
        sign(house.reviewer, revision)
        sign(house.approver, revision)
        release(house.operator, revision)
        for act in (
            lambda: services.say(house.reviewer, revision, STATION, "More"),
            lambda: services.answer(house.reviewer, thread, "More"),
            lambda: services.settle(house.reviewer, thread),
            lambda: services.open_again(house.reviewer, thread),
            lambda: services.say_from_outside(revision, STATION, "More", "Una"),
        ):
            with pytest.raises(Refused, match="released and locked"):
                act()
        page = station(house, revision)
        assert "Which page?" in page and "/say/" not in page


@pytest.mark.django_db(transaction=True)
def test_several_people_at_once(house: Any) -> None:
    """Every comment of four people is kept, whoever settles meanwhile; and what is open at the end has an answer after its settling."""
    revision = taken_in(house)
    thread = services.say(house.reviewer, revision, STATION, "Which page?")

    def act(number: int) -> None:
        try:
            for step in range(5):
                services.answer((house.author, house.approver)[number % 2], thread, f"{number}.{step}")
                if number == 3:
                    services.settle(house.reviewer, thread)
        finally:
            connection.close()

    threads = [threading.Thread(target=act, args=(number,)) for number in range(4)]
    for one in threads:
        one.start()
    for one in threads:
        one.join(60)
    assert Comment.objects.count() == 21
    assert len({said.words for said in Comment.objects.all()}) == 21
