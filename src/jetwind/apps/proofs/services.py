"""Test sends: to allowed addresses only, one message each; and what arrives."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta
from email import message_from_bytes, policy
from itertools import islice
from typing import Any

from django.db import transaction
from django.db.models import Q
from django.urls import reverse
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import tell
from jetwind.apps.proofs import replies
from jetwind.apps.proofs.models import Arrival, ReplyLink, ReportKind, TestCopy, TestList, TestSend, WayOutPress
from jetwind.apps.proofs.reach import is_allowed
from jetwind.apps.proofs.return_address import identity_of, new_identity
from jetwind.apps.proofs.test_lists import MOST_ADDRESSES, Person
from jetwind.apps.proofs.ways_out import note
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.domains import is_proven
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.apps.workspace.readers import reader_values
from jetwind.core.arrivals import report_in
from jetwind.core.message.package import LARGEST_INPUT
from jetwind.core.message.words import decode_words
from jetwind.engines.bounded import is_likely_copy, looks_like_mail
from jetwind.engines.mail import Delivery, mails_of

SENDS = "test-send"
#: Mails of one mailbox that are taken.
MOST_SAVED = 100
#: Messages of one test send, and characters of the mark before the subject.
MOST_COPIES, LONGEST_MARK = 200, 40
#: How far ahead a test send is planned.
FURTHEST = timedelta(days=60)


@dataclass(frozen=True, slots=True)
class Choices:
    """The choices of a test send.

    ``readers`` are those for whom everybody gets a copy each, None among them for a copy of defaults only; with none at all, everybody gets
    the copy of the reader that the list names for the person. ``variants`` are numbers of subjects. ``mark`` None is the usual mark. Nothing
    goes before ``planned_at``. ``base`` is Jetwind's own address, for answer pages and exchanged unsubscribe addresses; ``leaves_addresses`` sends
    the message's own. ``asks`` has everybody get a note with a link to answer by.
    """

    readers: tuple[SampleReader | None, ...] = ()
    variants: tuple[int, ...] = (0,)
    mark: str | None = None
    planned_at: datetime | None = None
    base: str = ""
    leaves_addresses: bool = False
    asks: bool = False


def usual_mark(revision: Revision) -> str:
    """The mark that stands before the subject unless a person chose another."""
    return f"[Test r{revision.number}]"


def subjects_of(revision: Revision) -> tuple[str, ...]:
    """The subject of a revision and the further ones that somebody gave, as they were written."""
    given = revision.given_envelope
    return (revision.subject, *(given.subject_variants if given is not None else ()))


def send_test(user: User, revision: Revision, test_list: TestList, choices: Choices | None = None) -> TestSend:
    """Send a revision to every person of a list: one message to a person for each reader and each subject that was chosen.

    Raises:
        NotAllowed, Refused: not permitted; released; the list is empty or holds an address that is not allowed; no such subject; too long a
            mark; a time that is over or too far away; too many copies.
    """
    permit(user, "proof:send", revision.mailing.workspace)
    people = [Person(entry.address, entry.name, entry.reader, entry.devices) for entry in test_list.addresses.select_related("reader")]
    if not people:
        raise Refused(f"“{test_list.name}” has no addresses yet; add some under Settings.")
    return _send(user, revision, test_list.name, people, choices or Choices())


def send_to_self(user: User, revision: Revision, choices: Choices | None = None) -> TestSend:
    """Send a revision to the person's own address.

    Raises:
        NotAllowed, Refused: as :func:`send_test`; the person has no address.
    """
    permit(user, "proof:send", revision.mailing.workspace)
    if not user.email:
        raise Refused("You have no address yet; give one on your own page.")
    return _send(user, revision, user.shown_name[:80], [Person(user.email, user.shown_name)], choices or Choices())


def _send(user: User, revision: Revision, name: str, people: list[Person], choices: Choices) -> TestSend:
    workspace = revision.mailing.workspace
    if outside := [person.address for person in people if not is_allowed(person.address, workspace)]:
        raise Refused(f"{outside[0]} is outside the domains that test sends may reach; nothing was sent.")
    mark = usual_mark(revision) if choices.mark is None else " ".join(choices.mark.split())
    _check(revision, choices, mark)
    copies = [
        (person, reader, variant)
        for person in people
        for reader in (choices.readers or (person.reader,))
        for variant in sorted(set(choices.variants))
    ]
    if len(copies) > MOST_COPIES:
        raise Refused(f"These are {len(copies)} messages; one test send has at most {MOST_COPIES}. Choose fewer readers or subjects.")
    with open_mailing(revision.mailing_id) as mailing:
        send = TestSend.objects.create(
            mailing=mailing,
            revision=revision,
            list_name=name,
            mark=mark,
            planned_at=choices.planned_at,
            base=choices.base[:200],
            leaves_addresses=choices.leaves_addresses,
            server=workspace.mail_servers.filter(is_chosen=True).first(),
            by=user,
        )
        TestCopy.objects.bulk_create(_copy(send, *one) for one in copies)
        if choices.asks:
            links = [replies.link_for(send, person.address, person.name, person.devices) for person in people]
            ReplyLink.objects.bulk_create(links)
            TestCopy.objects.bulk_create(replies.note_copy(send, link, TestCopy.Purpose.NOTE) for link in links)
        record("proof.sent", actor=user, mailing=mailing, revision=revision.number, count=len(copies), list=name)
        _ask_for_hand_over(send)
    return send


def _check(revision: Revision, choices: Choices, mark: str) -> None:
    if not choices.variants or not set(choices.variants) <= set(range(len(subjects_of(revision)))):
        raise Refused("Choose at least one of the subjects of this revision.")
    if len(mark) > LONGEST_MARK:
        raise Refused(f"The mark before the subject has at most {LONGEST_MARK} characters.")
    if choices.planned_at is not None and not timezone.now() < choices.planned_at < timezone.now() + FURTHEST:
        raise Refused(f"A test send is planned for a time to come, within {FURTHEST.days} days.")


def _copy(send: TestSend, person: Person, reader: SampleReader | None, variant: int) -> TestCopy:
    return TestCopy(
        send=send,
        address=person.address,
        person=person.name,
        devices=person.devices,
        reader_name=reader.name if reader is not None else "",
        values={name: str(value) for name, value in reader_values(reader).items()} if reader is not None else {},
        variant=variant,
        message_id=new_identity(send.pk),
    )


def send_now(user: User, send: TestSend) -> None:
    """Have a planned send go at once.

    Raises:
        NotAllowed, Refused: not permitted; released; it is not planned, or its time has come.
    """
    permit(user, "proof:send", send.mailing.workspace)
    with open_mailing(send.mailing_id):
        if not TestSend.objects.filter(pk=send.pk, planned_at__gt=timezone.now()).update(planned_at=None):
            raise Refused("This test send does not wait for a time any more.")
        _ask_for_hand_over(send, sooner=True)


def remind(user: User, send: TestSend) -> int:
    """Write to everybody who was asked and has not answered; returns their number.

    Raises:
        NotAllowed, Refused: as :func:`replies.remind`.
    """
    with transaction.atomic():
        reminders = replies.remind(user, send)
        _ask_for_hand_over(send, sooner=True)
    return len(reminders)


def send_again(user: User, copy: TestCopy) -> None:
    """Hand a copy over again at once: one that was put off, refused, cancelled or sent back, or of which nobody knows whether it arrived.

    Raises:
        NotAllowed, Refused: not permitted; released; under way, or handed over.
    """
    send = copy.send
    permit(user, "proof:send", send.mailing.workspace)
    with open_mailing(send.mailing_id):
        locked = TestCopy.objects.select_for_update(no_key=True).get(pk=copy.pk)
        if locked.state != TestCopy.State.UNSURE and not _lacks(locked):
            raise Refused(f"The copy to {locked.address} is {locked.get_state_display()}; it is not sent again.")
        _begin_again(user, locked)
        _ask_for_hand_over(send, sooner=True)


def send_to_lacking(user: User, send: TestSend) -> int:
    """Hand every copy of a send over again whose recipient surely lacks it; returns their number.

    A copy of which nobody knows whether it arrived is not among them, so that nobody gets it twice by accident. A copy that was put off is
    not either, since it is tried again by itself.

    Raises:
        NotAllowed, Refused: not permitted; released; nobody lacks it.
    """
    permit(user, "proof:send", send.mailing.workspace)
    with open_mailing(send.mailing_id):
        lacking = [
            copy
            for copy in send.copies.select_for_update(no_key=True).order_by("pk")
            if _lacks(copy) and copy.state != TestCopy.State.PUT_OFF
        ]
        if not lacking:
            raise Refused("Nobody is known to lack a copy of this test send.")
        for copy in lacking:
            _begin_again(user, copy)
        _ask_for_hand_over(send, sooner=True)
    return len(lacking)


def _lacks(copy: TestCopy) -> bool:
    """Whether the recipient of a copy surely did not get it."""
    if copy.state == TestCopy.State.HANDED_OVER:
        return copy.reports.filter(report=ReportKind.BOUNCED, is_past=False).exists()
    return copy.state in (TestCopy.State.PUT_OFF, TestCopy.State.REFUSED, TestCopy.State.CANCELLED)


def _begin_again(user: User, copy: TestCopy) -> None:
    copy.state, copy.tries, copy.first_try_at, copy.next_try_at = TestCopy.State.WAITING, 0, None, None
    copy.save()
    copy.reports.update(is_past=True)
    send = copy.send
    record("proof.sent-again", actor=user, mailing=send.mailing, revision=send.revision.number, address=copy.address)


def cancel(user: User, send: TestSend) -> int:
    """Stop the copies of a send that have not gone yet; returns their number. A copy that is being handed over goes.

    Raises:
        NotAllowed, Refused: not permitted; every copy has gone.
    """
    permit(user, "proof:send", send.mailing.workspace)
    with transaction.atomic():
        waiting = send.copies.filter(state__in=(TestCopy.State.WAITING, TestCopy.State.PUT_OFF))
        stopped = waiting.update(state=TestCopy.State.CANCELLED, next_try_at=None)
        if not stopped:
            raise Refused("No copy of this test send waits any more; there is nothing to cancel.")
        record("proof.cancelled", actor=user, mailing=send.mailing, revision=send.revision.number, count=stopped, list=send.list_name)
    return stopped


def believe_arrived(user: User, copy: TestCopy) -> None:
    """Somebody has seen that a copy arrived of which no answer came.

    Raises:
        NotAllowed, Refused: not permitted; its answer did come.
    """
    permit(user, "proof:send", copy.send.mailing.workspace)
    with transaction.atomic():
        locked = TestCopy.objects.select_for_update(no_key=True).get(pk=copy.pk)
        if locked.state != TestCopy.State.UNSURE:
            raise Refused(f"The copy to {locked.address} is {locked.get_state_display()} already.")
        locked.state, locked.handed_over_at = TestCopy.State.HANDED_OVER, timezone.now()
        locked.answer = f"{user.shown_name} saw that it arrived. {locked.answer}"[:500]
        locked.save()


def _ask_for_hand_over(send: TestSend, *, sooner: bool = False) -> None:
    work = jobs.start(
        SENDS,
        f"send:{send.pk}",
        doing="waiting for a worker",
        total=send.copies.count(),
        enqueue=lambda work_id: jobs.defer("proofs.send_copies", is_slow=send.revision.is_large, send_id=send.pk, work_id=work_id),
    )
    if sooner:
        jobs.hurry(work)


def go_on(send: TestSend, elsewhere: Collection[int]) -> None:
    """Have the copies of a send handed over that were asked for when its work came to its end; not those that another worker holds."""
    with transaction.atomic():
        if send.copies.filter(state=TestCopy.State.WAITING).exclude(pk__in=elsewhere).exists():
            _ask_for_hand_over(send)


def keep_arrival(delivery: Delivery) -> Arrival:
    """Keep what the Mailroom received, and tie it to the copy that it is, or that it reports on."""
    message_id, subject = _identity(delivery.content)
    report = _reported(delivery.content) or _came_back(delivery, subject)
    if not report and delivery.sender:
        _note_way_out(delivery)
    with transaction.atomic():
        arrival = Arrival.objects.create(
            sender=delivery.sender[:320],
            recipients=list(delivery.recipients),
            subject=subject,
            message_id=message_id,
            blob_sha256=store.keep(delivery.content),
            octets=len(delivery.content),
            copy=None if report else TestCopy.objects.filter(message_id=message_id).first(),
            **report,
        )
        _ask_to_compare(arrival)
        _tell_of_bounce(arrival)
        if arrival.reports_on is not None:
            follows().test_send_told(arrival.reports_on.send.mailing)
    return arrival


def _tell_of_bounce(arrival: Arrival) -> None:
    """Tell the sender of a test that a copy came back."""
    copy = arrival.reports_on
    if copy is None or arrival.report != ReportKind.BOUNCED:
        return
    send = copy.send
    path = reverse("station", args=[send.mailing_id, send.revision.number, "test-sends"])
    words = f"The copy to {copy.address} came back" + (f": {arrival.reason}." if arrival.reason else ".")
    tell([send.by], Notice.Kind.BOUNCED, send.mailing, words, path)


def _identity(content: bytes) -> tuple[str, str]:
    """The Message-ID and the subject of a mail, as far as a row has room."""
    headers = message_from_bytes(content[:200_000], policy=policy.compat32)
    message_id = " ".join(str(headers.get("Message-ID") or "").split())[:255].replace("\0", "")
    return message_id, decode_words(" ".join(str(headers.get("Subject") or "").split())).replace("\0", "")[:998]


def _reported(content: bytes) -> dict[str, Any]:
    """The fields of an arrival that is a report on a copy; none for any other mail."""
    found = report_in(content)
    if found is None:
        return {}
    copies = {copy.message_id: copy for copy in TestCopy.objects.filter(message_id__in=found.message_ids)}
    copy = next((copies[identity] for identity in found.message_ids if identity in copies), None)
    if copy is None:
        return {}
    return {
        "reports_on": copy,
        "report": ReportKind(found.kind),
        "report_status": found.status,
        "report_words": found.words.replace("\0", ""),
    }


def _came_back(delivery: Delivery, subject: str) -> dict[str, Any]:
    """The fields of a machine's mail to the return address of a copy, in a form that no standard knows; none for any other mail.

    A machine's mail has no envelope sender (RFC 5321 §4.5.5). It may be a bounce or an answer; its subject says which.
    """
    identities = [identity for recipient in delivery.recipients if (identity := identity_of(recipient))]
    copy = TestCopy.objects.filter(message_id__in=identities).first() if identities and not delivery.sender else None
    return {"reports_on": copy, "report": ReportKind.ANSWERED, "report_words": subject[:300]} if copy is not None else {}


def _note_way_out(delivery: Delivery) -> None:
    """A person's mail to the return address of a copy: only the exchanged unsubscribe address leads there."""
    identities = [identity for recipient in delivery.recipients if (identity := identity_of(recipient))]
    for copy in TestCopy.objects.filter(message_id__in=identities[:1]).filter(send__leaves_addresses=False).exclude(send__base=""):
        note(copy, "", WayOutPress.How.MAIL, came_from=delivery.sender)


def _ask_to_compare(arrival: Arrival) -> None:
    if arrival.copy is not None and arrival.copy.purpose == TestCopy.Purpose.COPY:
        jobs.defer("proofs.compare_arrival", arrival_id=arrival.pk)


def keep_saved(user: User, revision: Revision, content: bytes) -> Arrival:
    """Keep a mail that somebody saved from a mail program, as an arrival of the copy that it is: by its Message-ID, else by its content.

    A mail that is kept already is returned as it is.

    Raises:
        NotAllowed, Refused: not permitted; no mail, or too large a one; it belongs to no copy of the message.
    """
    workspace = revision.mailing.workspace
    permit(user, "proof:send", workspace)
    if len(content) > LARGEST_INPUT:
        raise Refused(f"The file is larger than {LARGEST_INPUT // 1024 // 1024} MB, which is the most that a mail may have.")
    if not looks_like_mail(content):
        raise Refused("The file is no mail: save the message from the mail program as .eml, with its headers.")
    message_id, subject = _identity(content)
    report = _reported(content)
    copy = report["reports_on"] if report else _copy_of(revision, message_id, content)
    if copy is None or copy.send.mailing_id != revision.mailing_id:
        raise Refused("This mail belongs to no test copy of this message: neither its Message-ID nor its words are those of one.")
    digest = store.keep(content)
    with transaction.atomic():
        # The copy's row is the lock: two people who drop the same file keep it once.
        TestCopy.objects.select_for_update(no_key=True).get(pk=copy.pk)
        known = Arrival.objects.filter(Q(copy=copy) | Q(reports_on=copy), blob_sha256=digest).first()
        if known is not None:
            return known
        arrival = Arrival.objects.create(
            recipients=[copy.address],
            subject=subject,
            message_id=message_id,
            blob_sha256=digest,
            octets=len(content),
            copy=None if report else copy,
            is_dropped=True,
            by=user,
            **report,
        )
        record("proof.arrival-kept", actor=user, mailing=revision.mailing, revision=copy.send.revision.number, address=copy.address)
        _ask_to_compare(arrival)
        _tell_of_bounce(arrival)
        if arrival.reports_on is not None:
            follows().test_send_told(arrival.reports_on.send.mailing)
    return arrival


def keep_saved_file(user: User, revision: Revision, content: bytes) -> tuple[list[Arrival], int]:
    """Keep the mails of a file: one saved mail, or a mailbox (mbox, RFC 4155). Returns what was kept, and how many mails belong to no copy.

    Raises:
        NotAllowed, Refused: as :func:`keep_saved`; the mailbox has too many mails; none of its mails belongs to a copy.
    """
    permit(user, "proof:send", revision.mailing.workspace)
    if not content.startswith(b"From ") or len(content) > LARGEST_INPUT:
        return [keep_saved(user, revision, content)], 0
    mails = list(islice(mails_of(content), MOST_SAVED + 1))
    if len(mails) > MOST_SAVED:
        raise Refused(f"The mailbox has more than {MOST_SAVED} mails; save those of the test sends alone.")
    kept, others = [], 0
    for mail in mails:
        try:
            kept.append(keep_saved(user, revision, mail))
        except Refused:
            others += 1
    if not kept:
        raise Refused("None of the mails of this mailbox belongs to a test copy of this message.")
    return kept, others


def _copy_of(revision: Revision, message_id: str, content: bytes) -> TestCopy | None:
    """The copy of a message that a mail is; the newest one to its recipient where its Message-ID was changed."""
    copies = (
        TestCopy.objects.filter(send__mailing=revision.mailing_id, purpose=TestCopy.Purpose.COPY)
        .exclude(copy_sha256="")
        .select_related("send__revision")
    )
    if message_id and (found := copies.filter(message_id=message_id).first()) is not None:
        return found
    likely = list(copies.filter(send__revision=revision).order_by("-pk")[:MOST_ADDRESSES])
    headers = message_from_bytes(content[:200_000], policy=policy.compat32)
    to = " ".join(str(value) for name in ("To", "Delivered-To", "X-Original-To") for value in headers.get_all(name, [])).casefold()
    likely.sort(key=lambda copy: copy.address.casefold() not in to)
    return next((copy for copy in likely[:3] if is_likely_copy(store.fetch(copy.copy_sha256), content)), None)


def concerns(arrival: Arrival, workspace: Workspace) -> bool:
    """Whether people of a workspace may see an arrival: its own copies, and strays to a domain that is known to be the workspace's own.

    A domain that somebody only wrote into the settings shows nothing: anybody could write any.
    """
    if arrival.about is not None:
        return bool(arrival.about.send.mailing.workspace_id == workspace.pk)
    return any(is_proven(workspace, str(address).rpartition("@")[2].lower()) for address in arrival.recipients)
