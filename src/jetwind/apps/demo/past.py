"""The demo's past: letters that went through several hands before the demo begins.

Every act is carried out by the service by which people act, at the time at which it happened. So each row, each notice and the chain of the
log are what they would be, had people clicked. Only what the checks said comes from a file (``answers.py``).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

from django.utils import timezone

from jetwind.apps import follows as usual_follows
from jetwind.apps.accounts.models import User
from jetwind.apps.approvals import services as approvals
from jetwind.apps.blobs import store
from jetwind.apps.comments.models import Thread
from jetwind.apps.comments.selectors import named_subject
from jetwind.apps.comments.services import Place, answer, say, settle
from jetwind.apps.demo import answers, messages
from jetwind.apps.departures.bulk import give_all, set_deadline_all
from jetwind.apps.instructions.services import Chosen, send_back
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.services import Details, add_revision, take_in
from jetwind.apps.jobs.models import Work
from jetwind.apps.proofs import replies
from jetwind.apps.proofs.handing_over import octets_of
from jetwind.apps.proofs.models import TestCopy, TestList
from jetwind.apps.proofs.return_address import return_address
from jetwind.apps.proofs.services import Choices, keep_arrival, send_test
from jetwind.apps.review.models import FindingRecord
from jetwind.apps.review.services import excuse, look_at
from jetwind.apps.ui.following import instead
from jetwind.apps.workspace.models import Workspace
from jetwind.core.reports import STATIONS
from jetwind.engines.mail import BOXES, Delivery
from jetwind.engines.mail.boxes import changed
from jetwind.engines.mail.receiving import results_of, trace_line

_ZONE = ZoneInfo("Europe/Amsterdam")
_MEMBERS = "members, 312 readers"
_HOST = "mailroom.saltmarsh-kiln.example"
_QUAY, _BOX = "quay.saltmarsh-kiln.example", "rewrites-links"
#: The address under which the demo is shown where nothing else runs on the machine.
_BASE = "http://127.0.0.1:8400"

Answers = Callable[[Revision], Any]


@contextmanager
def at(*moment: int) -> Iterator[None]:
    """Have the clock stand at a moment of the cooperative's zone, given as year, month, day, hour and minute."""
    year, month, day, hour, minute = moment
    stands = datetime(year, month, day, hour, minute, tzinfo=_ZONE).astimezone(UTC)
    real = timezone.now
    timezone.now = lambda: stands
    try:
        yield
    finally:
        timezone.now = real


@dataclass(frozen=True, slots=True)
class _Follows:
    """What follows the events of the past: nothing is asked of workers, and the checks have answered at once."""

    answers: Answers

    def revision_added(self, revision: Revision, user: User) -> None:
        """Signatures are void, and the answers are there."""
        approvals.void_earlier(revision, user)
        self.answers(revision)

    def __getattr__(self, name: str) -> Callable[..., None]:
        if name in ("standing_changed", "sent_back"):
            found: Callable[..., None] = getattr(usual_follows, name)
            return found
        return lambda *given: None


def build_past(workspace: Workspace, users: Mapping[str, User], give_answers: Answers = answers.put) -> list[Mailing]:
    """Write the past down; returns its messages. Checks, renders and links of what is still under way are asked for at the end."""
    letters = messages.letters_of_the_past()
    tell = _Teller(workspace, **users)
    with instead(_Follows(give_answers)):
        made = [
            tell.released(letters["firing-slots"]),
            tell.cleared(letters["membership"]),
            tell.refused(letters["glaze-evening"]),
            tell.under_review(letters["raku-night"]),
        ]
    for mailing in made:
        _catch_up(mailing)
    return made


def _catch_up(mailing: Mailing) -> None:
    """Ask workers for everything that the newest revision still wants."""
    newest = mailing.revisions.get(number=mailing.revisions.count())
    usual_follows.circumstances_changed(newest)


@dataclass(frozen=True, slots=True)
class _Teller:
    """The people of the cooperative, and what they did."""

    workspace: Workspace
    reviewer: User
    author: User
    approver: User
    operator: User

    def released(self, revisions: list[bytes]) -> Mailing:
        """Three revisions: sent back, signed and void again, signed twice and released."""
        with at(2026, 11, 9, 10, 12):
            mailing = self._taken_in(revisions[0], "Winter firing slots", "newsletter", (2026, 11, 24, 9))
        first = self._newest(mailing)
        with at(2026, 11, 10, 9, 40):
            self._walk(first)
            thread = self._about_subject(self.reviewer, first, "Tuesday has a small letter here.", self.author)
            chosen = Chosen(findings=self._fingerprints(first, "stop", "fix"), threads=[thread.pk])
            send_back(
                self.reviewer, first, "The last day for members falls on a Monday in November. Please look at the dates again.", chosen
            )
        with at(2026, 11, 11, 15, 5):
            answer(self.author, thread, "Put right. It is Monday 30 November.")
            second = add_revision(self.author, mailing, revisions[1], "winter-firing-slots-2.eml")
        with at(2026, 11, 12, 11, 20):
            settle(self.reviewer, thread)
            self._walk(second)
            approvals.sign(self.reviewer, second, "The dates fit the calendar in the kiln room.")
        with at(2026, 11, 16, 16, 48):
            third = add_revision(self.author, mailing, revisions[2], "winter-firing-slots-3.eml")
        with at(2026, 11, 17, 9, 15):
            self._walk(third)
            approvals.sign(self.reviewer, third, "£15 is what the meeting agreed on.")
        with at(2026, 11, 19, 17, 2):
            approvals.sign(self.approver, third)
        with at(2026, 11, 20, 10, 30):
            approvals.release(self.operator, third)
        return mailing

    def cleared(self, revisions: list[bytes]) -> Mailing:
        """Two revisions; an excuse; two signatures."""
        with at(2026, 11, 18, 14, 0):
            mailing = self._taken_in(revisions[0], "Membership for 2027", "newsletter", (2027, 1, 12, 9))
        first = self._newest(mailing)
        with at(2026, 11, 19, 10, 25):
            thread = self._about_subject(self.approver, first, "Could the subject say what it costs?", self.author)
        with at(2026, 11, 23, 12, 10):
            answer(self.author, thread, "It does in the new revision.")
            second = add_revision(self.author, mailing, revisions[1], "membership-2027-2.eml")
        with at(2026, 11, 24, 13, 30):
            settle(self.approver, thread)
            self._walk(second)
            for fingerprint in self._fingerprints(second, "stop", "fix", "note"):
                excuse(
                    self.reviewer,
                    second,
                    fingerprint,
                    "Members get two letters a year; there is nothing to choose.",
                    only_this_revision=False,
                )
            approvals.sign(self.reviewer, second)
        with at(2026, 11, 26, 18, 20):
            approvals.sign(self.approver, second, "Read on the train, on my phone.")
        return mailing

    def refused(self, revisions: list[bytes]) -> Mailing:
        """One revision, which the approver refused."""
        with at(2026, 11, 24, 11, 0):
            mailing = self._taken_in(revisions[0], "Glaze evening", "newsletter", (2027, 1, 14, 17))
        first = self._newest(mailing)
        with at(2026, 11, 25, 9, 50):
            self._walk(first)
        with at(2026, 11, 27, 8, 35):
            approvals.refuse(
                self.approver, first, "Members pay more than everybody else here, and the button leads to the offer of last summer."
            )
        return mailing

    def under_review(self, revisions: list[bytes]) -> Mailing:
        """Three revisions; test sends with answers; one difference on arrival; a review that is given to somebody, with a deadline."""
        with at(2026, 11, 16, 9, 30):
            mailing = self._taken_in(revisions[0], "Raku night", "promotional", (2027, 2, 2, 9))
        with at(2026, 11, 17, 14, 20):
            second = add_revision(self.author, mailing, revisions[1], "raku-night-2.eml")
        with at(2026, 11, 18, 10, 10):
            self._walk(second)
            copies = self._sent(second)
        with at(2026, 11, 18, 12, 45):
            self._answered(copies["amos"], "On the tablet, too.", looks_right=True, device="laptop, in the browser")
        with at(2026, 11, 18, 19, 5):
            self._answered(copies["petra"], "When does the last bus leave?", looks_right=False, device="old desktop in the workshop")
        with at(2026, 11, 19, 9, 0):
            third = add_revision(self.author, mailing, revisions[2], "raku-night-3.eml")
        with at(2026, 11, 23, 9, 30):
            give_all(self.author, self.workspace, [mailing.pk], self.reviewer)
            set_deadline_all(self.author, self.workspace, [mailing.pk], datetime(2027, 1, 26, 17, tzinfo=_ZONE))
        with at(2026, 11, 24, 10, 15):
            for station in ("envelope", "wording", "fields", "plain-text"):
                look_at(self.reviewer, third, station)
            copies = self._sent(third, arrives_changed="amos")
        with at(2026, 11, 24, 11, 40):
            self._answered(copies["rosa"], "", looks_right=True, device="phone, its own mail program")
        return mailing

    def _taken_in(self, raw: bytes, title: str, kind: str, planned: tuple[int, int, int, int]) -> Mailing:
        planned_at = datetime(*planned, tzinfo=_ZONE)
        details = Details(title, kind, _MEMBERS, planned_at, _ZONE.key)
        return take_in(self.author, self.workspace, raw, f"{title.lower().replace(' ', '-')}.eml", details=details)

    def _newest(self, mailing: Mailing) -> Revision:
        return mailing.revisions.select_related("mailing__workspace").get(number=mailing.revisions.count())

    def _walk(self, revision: Revision) -> None:
        """The reviewer looks at every station."""
        for station in STATIONS:
            if station.slug != "sign-off":
                look_at(self.reviewer, revision, station.slug)

    def _about_subject(self, user: User, revision: Revision, words: str, to: User) -> Thread:
        place = Place(Thread.Kind.SUBJECT, "envelope", named_subject(message_of(revision)))
        return say(user, revision, place, words, [to.pk])

    def _fingerprints(self, revision: Revision, *levels: str) -> list[str]:
        found = FindingRecord.objects.filter(run__revision=revision, level__in=levels).order_by("order")
        return list(found.values_list("fingerprint", flat=True))

    def _sent(self, revision: Revision, arrives_changed: str = "") -> dict[str, TestCopy]:
        """A test send to the team, handed over and arrived; the copy of one person arrives with its links rewritten."""
        quay_team = TestList.objects.get(workspace=self.workspace, is_usual=True)
        send = send_test(self.reviewer, revision, quay_team, Choices(base=_BASE, asks=True))
        # What a worker would do is done here; the worker finds the work done.
        work = Work.objects.get(subject=f"send:{send.pk}")
        total = send.copies.count()
        Work.objects.filter(pk=work.pk).update(state=Work.State.DONE, done=total, total=total, doing="")
        now = timezone.now()
        handed_over = {
            "state": TestCopy.State.HANDED_OVER,
            "answer": "250 Kept in the Mailroom",
            "handed_over_at": now,
            "first_try_at": now,
        }
        send.copies.update(**handed_over)
        found = {}
        for copy in send.copies.filter(purpose=TestCopy.Purpose.COPY):
            content = octets_of(copy)
            TestCopy.objects.filter(pk=copy.pk).update(copy_sha256=store.keep(content))
            name = copy.address.partition("@")[0]
            arrived = results_of(content, _HOST) + content
            arrived = changed(BOXES[_BOX], arrived) if name == arrives_changed else arrived
            sender = return_address(self.workspace.test_sender, copy)
            keep_arrival(Delivery(sender, (copy.address,), trace_line(_QUAY, _HOST, "ESMTP", now) + arrived))
            found[name] = copy
        return found

    def _answered(self, copy: TestCopy, words: str, *, looks_right: bool, device: str) -> None:
        link = replies.ReplyLink.objects.select_related("send__mailing", "send__revision").get(send=copy.send_id, address=copy.address)
        reply = replies.answer(link, replies.Given(looks_right, words, device))
        replies.place(reply)
