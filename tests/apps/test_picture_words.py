"""Words in pictures: read in the background, entered by people, and what the checks make of them."""

from __future__ import annotations

import hashlib
import pickle
from dataclasses import replace
from typing import Any

import pytest

from jetwind.apps.audit.models import LogEntry
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs import machines
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import picture_words
from jetwind.apps.review.models import CheckRun, PicturesRead, PictureWords
from jetwind.apps.review.picture_words import enter, words_for_checks
from jetwind.apps.review.questions import is_outdated, newest_run
from jetwind.apps.review.tasks import check_revision, read_pictures
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.engines.picture_words import FakeReader
from tests.apps.helpers import checked, taken_in
from tests.factories import archive, picture

POT, BOWL = picture(300, 100), picture(200, 100, "#A61B29")
BODY = b"<p>Hello, this is what we have.</p><img src='pot.png' alt='A pot'><p>And more than that.</p><img src='bowl.png' alt='A bowl'>"


def digest(data: bytes) -> str:
    """What a picture's words are kept by."""
    return hashlib.sha256(data).hexdigest()


@pytest.fixture
def reads(settings: Any, monkeypatch: pytest.MonkeyPatch) -> FakeReader:
    """A program that finds words in the pot and none in the bowl; asked in this process, where it keeps what it was asked."""
    settings.HELPERS_START = "here"
    reader = FakeReader({digest(POT): "Spring glazes\nuntil Sunday", digest(BOWL): ""})
    monkeypatch.setattr(picture_words, "reader", lambda: reader)
    here = replace(machines.facts_here(), reading=reader.name)
    monkeypatch.setattr(machines, "facts_here", lambda: here)
    return reader


def shown(house: Any) -> Revision:
    """A message with two pictures, checked."""
    return taken_in(house, archive({"a.html": BODY, "pot.png": POT, "bowl.png": BOWL}), "a.zip")


def outcome(revision: Revision) -> list[Any]:
    """What the check said last: outcome and reason."""
    run = newest_run(revision)
    assert run is not None
    return list(run.outcomes["access.alt-words"][:2])


def work_of(kind: str) -> Work:
    """The work of a kind that is open."""
    return Work.objects.get(kind=kind, state__in=[Work.State.WAITING, Work.State.RUNNING])


def fresh(revision: Revision) -> Revision:
    """As the next page reads it."""
    return Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)


def test_read_in_the_background(house: Any, reads: FakeReader) -> None:
    """After the checks the pictures are read, each once, and the check that waited for it is asked again."""
    revision = shown(house)
    said = outcome(revision)
    assert said[0] == "cannot_tell" or "not read" in said[1]
    Work.objects.filter(kind="checks").update(state=Work.State.WAITING)
    check_revision(revision.pk, Work.objects.filter(kind="checks").latest("pk").pk)
    read_pictures(revision.pk, work_of("reading").pk)
    assert sorted(reads.asked) == sorted([digest(POT), digest(BOWL)])
    assert PicturesRead.objects.get(revision=revision).pictures == sorted([digest(POT), digest(BOWL)])
    check_revision(revision.pk, work_of("checks").pk)
    run = newest_run(revision)
    assert run is not None
    (found,) = run.findings.filter(check_id="access.alt-words")
    assert (
        found.sentence == "pot.png shows words that its alternative text leaves out: “Spring glazes until Sunday” (read by fake reader 1)."
    )
    # Nothing is left to read: not again, and not in a copy of the message.
    assert not Work.objects.filter(kind="reading", state=Work.State.WAITING).exists()
    assert picture_words.ask_for_reading(fresh(revision)) is None
    shown(house)
    assert len(reads.asked) == 2


def test_nobody_reads(house: Any) -> None:
    """Without a program the outcome says so, and what a person enters is enough."""
    revision = shown(house)
    assert "tesseract is not installed; enter them at the Images station" in outcome(revision)[1]
    assert picture_words.ask_for_reading(revision) is None
    client = house.client(house.reviewer)
    address = f"/mailings/{revision.mailing_id}/r1/"
    page = client.get(f"{address}images/").content.decode()
    assert "No program that reads words in pictures is installed" in page
    assert page.count("Enter its words") == 2
    for data, words in ((POT, "  Spring \r\n\r\n<b>glazes</b> "), (BOWL, "")):
        assert client.post(f"{address}picture-words/{digest(data)}/", {"words": words, "before": ""}).status_code == 302
    checked(revision.mailing)
    assert outcome(revision)[0] == "findings"
    page = client.get(f"{address}images/").content.decode()
    assert "Spring\n&lt;b&gt;glazes&lt;/b&gt;" in page
    assert f"by {house.reviewer.shown_name}" in page
    assert '<span class="muted">none</span>' in page
    assert LogEntry.objects.filter(action="picture.words-entered").count() == 2
    # An entered word is enough for a finding; without words in it the picture is in order.
    run = newest_run(revision)
    assert run is not None
    (found,) = run.findings.filter(check_id="access.alt-words")
    assert "“Spring glazes”" in found.sentence


def test_what_is_refused(house: Any) -> None:
    """By role, by picture, by length, by what somebody else entered meanwhile; a released message stays."""
    revision = shown(house)
    with pytest.raises(NotAllowed):
        enter(house.author, revision, digest(POT), "Spring", "")
    with pytest.raises(Refused, match="does not show this picture"):
        enter(house.reviewer, revision, "0" * 64, "Spring", "")
    with pytest.raises(Refused, match="room for 2,000"):
        enter(house.reviewer, revision, digest(POT), "x" * 2_001, "")
    enter(house.reviewer, revision, digest(POT), "Spring", "")
    with pytest.raises(Refused, match="Somebody else has entered words for pot"):
        enter(house.approver, revision, digest(POT), "Autumn", "")
    # The same words twice are one entry; with what stands there now, another may be made.
    enter(house.reviewer, revision, digest(POT), "Spring", "")
    enter(house.approver, revision, digest(POT), "Autumn", "Spring")
    assert LogEntry.objects.filter(action="picture.words-entered").count() == 2
    Mailing.objects.filter(pk=revision.mailing_id).update(stage=Mailing.Stage.RELEASED)
    with pytest.raises(Refused):
        enter(house.reviewer, revision, digest(POT), "Winter", "Autumn")
    assert PictureWords.objects.get(picture=digest(POT)).entered == "Autumn"


def test_a_person_before_a_program(house: Any, reads: FakeReader) -> None:
    """What was entered holds, is not read over, and makes the answers of other messages with that picture old."""
    one, other = shown(house), shown(house)
    for revision in (one, other):
        work = picture_words.ask_for_reading(revision)
        if work is not None:
            picture_words.read_now(revision, work.pk)
        checked(revision.mailing)
    assert not is_outdated(fresh(other))
    enter(house.reviewer, one, digest(POT), "", "Spring glazes\nuntil Sunday")
    assert is_outdated(fresh(other))
    checked(one.mailing)
    assert outcome(one)[0] == "clear"
    words = words_for_checks(fresh(one))["picture_words"].value
    assert words.by_picture[digest(POT)].text == ""
    # The process of the checks is handed the words themselves.
    handed = pickle.loads(pickle.dumps(words))
    assert handed.by_picture == words.by_picture and handed.reader == "fake reader 1"
    assert CheckRun.objects.filter(revision=one).count() >= 2
