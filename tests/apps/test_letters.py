"""Mails about what waits, and of instructions: only to who wants them at an address known to be theirs, once, and tried again."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from email import policy
from email.parser import BytesParser
from typing import Any

import pytest
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps import follows
from jetwind.apps.accounts.models import User
from jetwind.apps.blobs import store
from jetwind.apps.instructions.services import Chosen, send_back
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import mail_daily, tell
from jetwind.apps.proofs import letters
from jetwind.apps.proofs.models import Letter
from jetwind.apps.proofs.tasks import mail_instructions, mail_notices, send_letter
from jetwind.engines.mail import Handover, HandoverOutcome
from tests.apps.helpers import Post, taken_in
from tests.factories import mail


@pytest.fixture
def author(house: Any) -> User:
    """The author, whose address is known, and who wants mail at once."""
    User.objects.filter(pk=house.author.pk).update(
        email="amos@kiln.org", proven_email="amos@kiln.org", mailed="at-once", mailed_from="http://testserver"
    )
    house.author.refresh_from_db()
    found: User = house.author
    return found


@pytest.fixture
def sent(monkeypatch: pytest.MonkeyPatch) -> Post:
    """What was handed over to the mail server."""
    taken: Post = []

    def hand_over(server: Any, sender: str, recipient: str, content: bytes) -> Handover:
        taken.append((sender, recipient, content))
        return Handover(HandoverOutcome.TAKEN, "250 Kept")

    monkeypatch.setattr(letters, "hand_over", hand_over)
    return taken


def asked() -> list[dict[str, Any]]:
    """The arguments of every job that asks for a mail about what waits."""
    return list(ProcrastinateJob.objects.filter(task_name="proofs.mail_notices").values_list("args", flat=True))


def carried_out(letter: Letter) -> Work:
    """What the worker does with a letter; the work as it ended."""
    work = jobs.latest(letters.LETTERS, f"letter:{letter.pk}")
    assert work is not None
    send_letter.func(letter_id=letter.pk, work_id=work.pk)
    work.refresh_from_db()
    return work


class TestWhatWaits:
    """At once, once a day, never."""

    def test_at_once(self, house: Any, author: User, sent: Post) -> None:
        """One mail with all that is new, with the way to each thing; nothing of it a second time."""
        revision = taken_in(house)
        send_back(house.reviewer, revision, "The price\nis wrong")
        tell([author], Notice.Kind.MENTIONED, revision.mailing, "Rosa: and the date?", "/comments/7/")
        assert asked() == [{"user_id": author.pk, "workspace_id": house.workspace.pk}] * 2
        for given in asked():
            mail_notices.func(**given)
        assert carried_out(Letter.objects.get()).state == Work.State.DONE
        [(sender, recipient, content)] = sent
        assert (sender, recipient) == (house.workspace.test_sender, "amos@kiln.org")
        read = BytesParser(policy=policy.default).parsebytes(content)
        assert (read["Subject"], read["Auto-Submitted"]) == ("2 things wait for you at Jetwind", "auto-generated")
        text = read.get_body().get_content().replace("\r\n", "\n")  # type: ignore[union-attr]
        assert "Sent back to you: Twelve glazes, a fifth off\n  Reviewer: The price is wrong\n  http://testserver/instructions/" in text
        assert "A comment for you: Twelve glazes, a fifth off\n  Rosa: and the date?\n  http://testserver/comments/7/" in text

    def test_the_same_again_is_no_mail(self, house: Any, author: User) -> None:
        """Ten bounces at one place ask once."""
        mailing = taken_in(house).mailing
        for _ in range(10):
            tell([author], Notice.Kind.BOUNCED, mailing, "It came back", "/x/")
        assert len(asked()) == 1

    @pytest.mark.parametrize("why", ["never", "address", "left", "inactive", "read"])
    def test_who_gets_none(self, house: Any, author: User, why: str) -> None:
        """Who wants none any more, whose address is not known, who has left, and who has read it meanwhile."""
        send_back(house.reviewer, taken_in(house), "No")
        if why == "left":
            house.workspace.memberships.filter(user=author).update(deactivated_at=datetime(2027, 1, 1, tzinfo=UTC))
        elif why == "read":
            Notice.objects.update(read_at=datetime(2027, 1, 1, tzinfo=UTC))
        else:
            kinds: dict[str, dict[str, Any]] = {
                "never": {"mailed": "never"},
                "address": {"email": "else@kiln.org"},
                "inactive": {"is_active": False},
            }
            User.objects.filter(pk=author.pk).update(**kinds[why])
        mail_notices.func(**asked()[0])
        assert not Letter.objects.exists()

    def test_once_a_day(self, house: Any, author: User) -> None:
        """At seven in the morning where the person is; nothing where nothing is new."""
        User.objects.filter(pk=author.pk).update(mailed="daily", time_zone="America/Halifax")
        mailing = taken_in(house).mailing
        tell([User.objects.get(pk=author.pk)], Notice.Kind.BOUNCED, mailing, "It came back", "/x/")
        assert asked() == []
        morning = datetime(2027, 3, 1, 11, tzinfo=UTC)  # 07:00 at UTC-4, from memory
        mail_daily(morning - timedelta(hours=3), morning - timedelta(minutes=1))
        mail_daily(morning, morning + timedelta(hours=5))
        assert asked() == []
        follows.time_passed(morning - timedelta(minutes=1), morning)
        assert asked() == [{"user_id": author.pk, "workspace_id": house.workspace.pk}]
        mail_notices.func(**asked()[0])
        mail_daily(morning - timedelta(minutes=1), morning)
        assert len(asked()) == 1

    def test_never_is_the_default(self, house: Any) -> None:
        """Nobody is mailed who did not ask for it."""
        send_back(house.reviewer, taken_in(house), "No")
        assert asked() == []

    def test_chosen_on_ones_own_page(self, house: Any) -> None:
        """With the address of Jetwind at which the person is."""
        client = house.client(house.author)
        client.post("/me/", {"do": "details", "email": "amos@kiln.org", "time_zone": "UTC", "theme": "system", "mailed": "daily"})
        person = User.objects.get(pk=house.author.pk)
        assert (person.mailed, person.mailed_from) == ("daily", "http://testserver")


class TestInstructions:
    """The mail to an author."""

    def test_to_the_author(self, house: Any, author: User, sent: Post) -> None:
        """With the words, the instructions and the address of their page."""
        revision = taken_in(house, mail("<p>Come</p><a href='#'>to the kiln</a>"))
        found = revision.check_runs.get().findings.get(check_id="links.empty")
        address = f"/mailings/{revision.mailing_id}/r1/send-back/"
        house.client(house.reviewer).post(address, {"comment": "Mend it", "finding": found.fingerprint, "by_mail": "yes"})
        [job] = ProcrastinateJob.objects.filter(task_name="proofs.mail_instructions")
        mail_instructions.func(**job.args)
        carried_out(Letter.objects.get())
        [(_, recipient, content)] = sent
        text = BytesParser(policy=policy.default).parsebytes(content).get_body().get_content()  # type: ignore[union-attr]
        assert recipient == "amos@kiln.org" and found.sentence in text and "http://testserver/instructions/" in text

    @pytest.mark.parametrize("why", ["address", "left"])
    def test_to_nobody_else(self, house: Any, author: User, why: str) -> None:
        """Not to an address that nobody has shown to be the author's, nor to somebody who has left."""
        sending = send_back(house.reviewer, taken_in(house), "No", Chosen(by_mail=True))
        if why == "left":
            house.workspace.memberships.filter(user=author).update(deactivated_at=datetime(2027, 1, 1, tzinfo=UTC))
        else:
            User.objects.filter(pk=author.pk).update(email="else@kiln.org")
        mail_instructions.func(sending_back_id=sending.pk)
        assert not Letter.objects.exists()


class TestHandingOver:
    """Once, whatever happens on the way."""

    @pytest.fixture
    def letter(self, house: Any, author: User) -> Letter:
        """A letter that waits."""
        send_back(house.reviewer, taken_in(house), "No")
        found = letters.write_notices(author.pk, house.workspace.pk)
        assert found is not None
        return found

    def test_put_off_and_taken(self, letter: Letter, sent: Post, monkeypatch: pytest.MonkeyPatch) -> None:
        """Tried again when the server says so; then it is done."""
        taking = letters.hand_over
        monkeypatch.setattr(letters, "hand_over", lambda *_: Handover(HandoverOutcome.PUT_OFF, "451 4.7.1 later"))
        work = carried_out(letter)
        letter.refresh_from_db()
        assert (work.is_open, letter.state, letter.tries, letter.answer) == (True, "waiting", 1, "451 4.7.1 later")
        monkeypatch.setattr(letters, "hand_over", taking)
        assert carried_out(letter).state == Work.State.DONE
        assert len(sent) == 1

    @pytest.mark.parametrize(
        ("outcome", "answer", "ends"),
        [
            (HandoverOutcome.LOST, "no answer", "Given up after 4 days. no answer"),
            (HandoverOutcome.REFUSED, "550 5.1.1 nobody", "550 5.1.1 nobody"),
        ],
    )
    def test_refused_and_given_up(
        self, letter: Letter, monkeypatch: pytest.MonkeyPatch, outcome: HandoverOutcome, answer: str, ends: str
    ) -> None:
        """A refusal ends it; so do four days without a server."""
        monkeypatch.setattr(letters, "hand_over", lambda *_: Handover(outcome, answer))
        Letter.objects.update(at=datetime(2026, 1, 1, tzinfo=UTC))
        assert not carried_out(letter).is_open
        letter.refresh_from_db()
        assert (letter.state, letter.answer) == ("refused", ends)

    def test_a_worker_that_died(self, letter: Letter, sent: Post) -> None:
        """Between the hand-over and the answer: nobody knows whether it arrived, and it does not go twice."""
        Letter.objects.update(state="on-its-way")
        carried_out(letter)
        letter.refresh_from_db()
        assert (letter.state, sent) == ("unsure", [])

    def test_what_it_holds(self, letter: Letter) -> None:
        """The octets that were written are those that go."""
        assert b"Sent back to you" in store.fetch(letter.blob_sha256)
