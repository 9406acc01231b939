"""Handing the copies of a test send over to the mail server: each of them once, even where a worker dies on the way.

A copy is marked before it goes and after its answer came. A lock of the database holds the copy in between. A worker that finds a copy
marked and free knows that its worker died, and that the copy may or may not have arrived. The Mailroom is asked for its copies; a person
is asked for those of another server.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Collection, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import replace
from datetime import datetime, timedelta
from itertools import zip_longest
from typing import Any

from django.conf import settings
from django.db import connection
from django.db.models import Q
from django.utils import timezone

from jetwind.apps.blobs import store
from jetwind.apps.intake.selectors import message_numbered, message_of
from jetwind.apps.jobs import services as jobs
from jetwind.apps.proofs import mail_servers
from jetwind.apps.proofs.models import Arrival, TestCopy, TestSend
from jetwind.apps.proofs.reach import is_allowed
from jetwind.apps.proofs.replies import note_of
from jetwind.apps.proofs.return_address import return_address
from jetwind.apps.proofs.sealing import Unreadable
from jetwind.apps.proofs.ways_out import own_ways_out
from jetwind.apps.ui.following import follows
from jetwind.apps.workspace.desk import Held
from jetwind.core.arrivals.composing import compose
from jetwind.core.arrivals.note import compose_note
from jetwind.core.errors import JetwindError
from jetwind.engines.bounded import COMPOSING, BoundedComposer, PastBudget
from jetwind.engines.mail import Handover, HandoverOutcome, MailServer, OpenServer, hand_over

logger = logging.getLogger(__name__)
#: Half of the key of the lock on a copy; the other half is the copy's number.
_LOCK = 7_310_002
#: When a copy that found no server is tried again: soon, since the reason is known and passes (RFC 5321 §4.5.4.1).
AFTER_LOST = tuple(timedelta(seconds=seconds) for seconds in (2, 5, 15, 60, 300, 900, 1800))
#: When one that was put off is: not before half an hour, twice in the first hour, then every two hours (the same section).
AFTER_PUT_OFF = (timedelta(minutes=30), timedelta(minutes=30), timedelta(hours=2))
#: The longest time that a worker stands still to keep the rate of a mail server; for a longer one it does other work.
_LONGEST_WAIT = timedelta(seconds=2)
#: How often a send tells how far it is, and asks whether it was cancelled, in seconds.
_TOLD_EVERY_S = 0.3
#: When it is given up (the same section: four to five days).
GIVEN_UP_AFTER = timedelta(days=4)


def hand_over_copies(send: TestSend, work_id: int) -> set[int]:
    """Hand over every copy that is due and has not been taken, and those that are asked for meanwhile. Safe to run twice, and by two workers.

    Returns the numbers of the copies that another worker holds.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
        PutOff: its time has not come; copies remain that are tried again later, or that the rate of the mail server does not let go now.
    """
    if send.planned_at is not None and send.planned_at > timezone.now():
        raise jobs.PutOff(send.planned_at, "waits for its time")
    done, told, elsewhere = 0, 0.0, set[int]()
    with Held(message_numbered, send.revision_id, budget=COMPOSING) as held, _Writer(BoundedComposer(held)) as writer:
        while copies := _due(send, elsewhere):
            for number, (copy, following) in enumerate(zip_longest(copies, copies[1:])):
                if time.monotonic() - told >= _TOLD_EVERY_S:
                    jobs.report(work_id, done=done + number, total=done + len(copies), doing=copy.address)
                    told = time.monotonic()
                if not _tried(copy, writer, following):
                    elsewhere.add(copy.pk)
            done += len(copies)
    jobs.report(work_id, done=done, total=done, doing="handed over")
    if later := [copy.next_try_at for copy in send.copies.filter(state=TestCopy.State.PUT_OFF) if copy.next_try_at]:
        raise jobs.PutOff(min(later), "waits to try again")
    return elsewhere


def _due(send: TestSend, elsewhere: Collection[int]) -> list[TestCopy]:
    """The copies whose turn it is: those that wait, those that a dead worker left on their way, and those whose next try is due."""
    waiting = Q(state__in=(TestCopy.State.WAITING, TestCopy.State.ON_ITS_WAY))
    again = Q(state=TestCopy.State.PUT_OFF, next_try_at__lte=timezone.now())
    return list(send.copies.filter(waiting | again).exclude(pk__in=elsewhere))


def _tried(copy: TestCopy, writer: _Writer, following: TestCopy | None) -> bool:
    """Carry on with a copy; False where another worker holds it, or where it waits after all."""
    with _locked(copy) as is_ours:
        if not is_ours:
            return False
        # Read anew, with everything that may have changed since the send began: the state, the allowed domains, the server.
        found = TestCopy.objects.select_related("send__mailing__workspace", "send__server", "send__revision").get(pk=copy.pk)
        _carry_on(found, writer, following)
        return found.state not in (TestCopy.State.WAITING, TestCopy.State.ON_ITS_WAY)


@contextmanager
def _locked(copy: TestCopy) -> Iterator[bool]:
    """Hold a copy against other workers; the database lets go of it when this process dies. False where another holds it."""
    with connection.cursor() as cursor:
        cursor.execute("select pg_try_advisory_lock(%s, %s)", [_LOCK, copy.pk])
        is_ours = bool(cursor.fetchone()[0])
    try:
        yield is_ours
    finally:
        if is_ours:
            with connection.cursor() as cursor:
                cursor.execute("select pg_advisory_unlock(%s, %s)", [_LOCK, copy.pk])


class _Writer:
    """Writes copies in a helper, the next one while the one before it is handed over, and keeps the connection to the server.

    Use it as a context manager.
    """

    def __init__(self, composer: BoundedComposer) -> None:
        self._composer = composer
        self._pool = ThreadPoolExecutor(1, "writer")
        self._ahead: tuple[dict[str, Any], Future[bytes]] | None = None
        self._open: OpenServer | None = None
        self._is_quick = False

    def __enter__(self) -> _Writer:
        return self

    def __exit__(self, *_: object) -> None:
        self._pool.shutdown(cancel_futures=True)
        self.leave()

    def by(self, server: MailServer) -> OpenServer:
        """A server whose connection is kept from copy to copy; another one where the settings were changed."""
        if self._open is None or self._open.server != server:
            self.leave()
            self._open = OpenServer(server)
        return self._open

    def leave(self) -> None:
        """Close the connection to the server."""
        if self._open is not None:
            self._open.close()

    def begin(self, copy: TestCopy) -> None:
        """Begin to write a copy."""
        how = self._how(copy)
        self._ahead = how, self._pool.submit(self._composer, **how, date=timezone.now())

    def written(self, copy: TestCopy) -> bytes:
        """The octets of a copy; those that were begun, where nothing has changed since.

        Raises:
            PastBudget: it takes more than it may.
        """
        ahead, self._ahead = self._ahead, None
        how = self._how(copy)
        try:
            if ahead is not None and ahead[0] == how:
                return ahead[1].result()
            return self._pool.submit(self._composer, **how, date=timezone.now()).result()
        except PastBudget:
            if self._is_quick or how["own_ways_out"] is None:
                raise
            # Working out which links a reader sees takes too long in this message: from now on they are told without its styles.
            self._is_quick = True
            return self.written(copy)

    def _how(self, copy: TestCopy) -> dict[str, Any]:
        how = _how(copy)
        own = how["own_ways_out"]
        return {**how, "own_ways_out": replace(own, is_quick=self._is_quick) if own is not None else None}


def _how(copy: TestCopy) -> dict[str, Any]:
    """Everything that the octets of a copy hang on, but for the time."""
    send, sender = copy.send, copy.send.mailing.workspace.test_sender
    is_exchanged = bool(send.base) and not send.leaves_addresses
    return {
        "values": {**copy.values, "email": copy.address},
        "to": copy.address,
        "sender_address": sender,
        "subject_mark": send.mark,
        "message_id": copy.message_id,
        "variant": copy.variant,
        "own_ways_out": own_ways_out(send.base, copy, return_address(sender, copy)) if is_exchanged else None,
    }


def octets_of(copy: TestCopy) -> bytes:
    """The octets of a copy, written in this process and not in a helper: for messages that are known to be harmless."""
    how = _how(copy)
    return compose(message_of(copy.send.revision), **how, date=timezone.now())


def _carry_on(copy: TestCopy, writer: _Writer, following: TestCopy | None) -> None:
    """Hand a copy over where it is due; ``following`` is the copy after it, which is written meanwhile."""
    send = copy.send
    if copy.state == TestCopy.State.ON_ITS_WAY:
        # Its worker died between the hand-over and the answer.
        _take(copy, Handover(HandoverOutcome.UNSURE, "Jetwind was interrupted before the answer came."))
    is_due = copy.state == TestCopy.State.PUT_OFF and (copy.next_try_at or timezone.now()) <= timezone.now()
    if copy.state != TestCopy.State.WAITING and not is_due:
        return
    workspace = send.mailing.workspace
    if not is_allowed(copy.address, workspace):
        _take(copy, Handover(HandoverOutcome.REFUSED, "Not sent: outside the domains that test sends may reach."))
        return
    if send.server is not None and send.server.removed_at is not None:
        _take(copy, Handover(HandoverOutcome.REFUSED, f"Not sent: the mail server {send.server.name} was removed; make a new test send."))
        return
    try:
        server = mail_servers.server_of(send)
    except Unreadable as failure:
        _take(copy, Handover(HandoverOutcome.REFUSED, f"Not sent: the password of the mail server cannot be read, since {failure}."))
        return
    try:
        content = writer.written(copy) if copy.purpose == TestCopy.Purpose.COPY else _note(copy, workspace.test_sender)
    except _NotAskedAnyMore:
        TestCopy.objects.filter(pk=copy.pk, state=copy.state).update(state=TestCopy.State.CANCELLED, next_try_at=None)
        copy.state = TestCopy.State.CANCELLED
        return
    except PastBudget as past:
        _take(copy, Handover(HandoverOutcome.REFUSED, f"Not sent: the message cannot be filled for this copy, since {past}."))
        return
    except Exception:
        # A copy that cannot be written must not keep the others waiting for ever.
        logger.exception("copy %s of the test send %s cannot be written", copy.pk, send.pk)
        _take(copy, Handover(HandoverOutcome.REFUSED, "Not sent: Jetwind failed to write this copy; the worker's log says how."))
        return
    if following is not None and following.purpose == TestCopy.Purpose.COPY and following.state == TestCopy.State.WAITING:
        following.send = send
        writer.begin(following)
    _wait_for_turn(send)
    # Kept before it goes: whatever arrives is held against these very octets.
    copy.copy_sha256 = store.keep(content)
    copy.first_try_at = copy.first_try_at or timezone.now()
    waits = TestCopy.objects.filter(pk=copy.pk, state=copy.state)
    if not waits.update(copy_sha256=copy.copy_sha256, first_try_at=copy.first_try_at, state=TestCopy.State.ON_ITS_WAY):
        # Somebody cancelled it meanwhile.
        copy.state = TestCopy.State.CANCELLED
        return
    copy.state = TestCopy.State.ON_ITS_WAY
    _take(copy, hand_over(writer.by(server), return_address(workspace.test_sender, copy), copy.address, content))


class _NotAskedAnyMore(JetwindError):
    """The link of a note was withdrawn or has expired, or its person has answered meanwhile."""


def _note(copy: TestCopy, sender: str) -> bytes:
    note = note_of(copy)
    if note is None:
        raise _NotAskedAnyMore
    return compose_note(note, to=copy.address, sender_address=sender, message_id=copy.message_id, date=timezone.now())


def _wait_for_turn(send: TestSend) -> None:
    """Keep to the rate of the mail server.

    Raises:
        PutOff: the next turn is further away than a worker waits.
    """
    turn = mail_servers.turn_of(send.server, _LONGEST_WAIT)
    wait = turn - timezone.now()
    if wait > _LONGEST_WAIT:
        raise jobs.PutOff(turn, "keeps to the rate of the mail server")
    time.sleep(max(wait.total_seconds(), 0))


def _take(copy: TestCopy, handover: Handover) -> None:
    """Write down what became of a copy."""
    now = timezone.now()
    outcome = handover.outcome
    if outcome is HandoverOutcome.UNSURE and settings.HAS_MAILROOM and copy.send.server_id is None:
        # The Mailroom is ours: what it did not keep did not arrive.
        arrival = Arrival.objects.filter(message_id=copy.message_id).first()
        outcome = HandoverOutcome.LOST if arrival is None else HandoverOutcome.TAKEN
    copy.answer = handover.answer[:500]
    copy.next_try_at = None
    if outcome is HandoverOutcome.TAKEN:
        copy.state, copy.handed_over_at = TestCopy.State.HANDED_OVER, now
    elif outcome is HandoverOutcome.UNSURE:
        copy.state = TestCopy.State.UNSURE
    elif outcome is HandoverOutcome.REFUSED:
        copy.state = TestCopy.State.REFUSED
    else:
        _put_off(copy, outcome, now)
    copy.save(update_fields=["state", "answer", "handed_over_at", "tries", "next_try_at"])
    if copy.state == TestCopy.State.REFUSED and copy.purpose == TestCopy.Purpose.COPY:
        follows().test_send_told(copy.send.mailing)


def _put_off(copy: TestCopy, outcome: HandoverOutcome, now: datetime) -> None:
    pauses = AFTER_LOST if outcome is HandoverOutcome.LOST else AFTER_PUT_OFF
    copy.next_try_at = now + pauses[min(copy.tries, len(pauses) - 1)]
    copy.tries += 1
    copy.state = TestCopy.State.PUT_OFF
    if copy.next_try_at - (copy.first_try_at or now) > GIVEN_UP_AFTER:
        copy.state, copy.next_try_at = TestCopy.State.REFUSED, None
        copy.answer = f"Given up after {GIVEN_UP_AFTER.days} days. {copy.answer}"[:500]
