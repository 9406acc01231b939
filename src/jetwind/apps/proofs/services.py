"""Test sends: to allowed addresses only, one message each; and what arrives."""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from email import message_from_bytes, policy
from email.utils import formataddr

from django.conf import settings
from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import transaction
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.services import refuse_if_locked
from jetwind.apps.jobs import services as jobs
from jetwind.apps.proofs.models import Arrival, TestAddress, TestCopy, TestList, TestSend
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.apps.workspace.services import reader_values
from jetwind.core.fields import fill
from jetwind.core.message import compose
from jetwind.core.message.words import decode_words
from jetwind.engines.mail import Delivery, MailServer, hand_over

SENDS = "test-send"
#: A test list is colleagues, not an audience.
MOST_ADDRESSES = 50


def is_allowed(address: str, workspace: Workspace) -> bool:
    """Whether test sends may reach an address: its domain, or a parent of it, is one of the workspace's test domains."""
    domain = address.rpartition("@")[2].lower()
    return any(domain == allowed or domain.endswith(f".{allowed}") for allowed in workspace.test_domains)


def add_address(user: User, test_list: TestList, address: str) -> TestAddress:
    """Put an address on a test list.

    Raises:
        NotAllowed, Refused: not permitted; no address; a domain that test sends may not reach; on the list already; list full.
    """
    workspace = test_list.workspace
    permit(user, "workspace:configure", workspace)
    address = address.strip()
    try:
        validate_email(address)
    except ValidationError:
        raise Refused(f"“{address}” is not an e-mail address.") from None
    if not is_allowed(address, workspace):
        allowed = ", ".join(workspace.test_domains) or "none yet"
        raise Refused(f"{address} is outside the domains that test sends may reach ({allowed}).")
    if test_list.addresses.filter(address__iexact=address).exists():
        raise Refused(f"{address} is on “{test_list.name}” already.")
    if test_list.addresses.count() >= MOST_ADDRESSES:
        raise Refused(f"“{test_list.name}” has {MOST_ADDRESSES} addresses; a test list is for colleagues.")
    with transaction.atomic():
        made = TestAddress.objects.create(list=test_list, address=address)
        record("workspace.changed", actor=user, what=f"the test list {test_list.name}: {address} added")
    return made


def remove_address(user: User, entry: TestAddress) -> None:
    """Take an address off a test list.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:configure", entry.list.workspace)
    with transaction.atomic():
        record("workspace.changed", actor=user, what=f"the test list {entry.list.name}: {entry.address} removed")
        entry.delete()


def send_test(user: User, revision: Revision, test_list: TestList, reader: SampleReader | None) -> TestSend:
    """Send a revision to every address of a list, merged for one sample reader.

    Raises:
        NotAllowed, Refused: not permitted; released; the list is empty or holds an address that is not allowed.
    """
    permit(user, "proof:send", revision.mailing.workspace)
    from jetwind.apps.proofs.tasks import send_copies

    workspace = revision.mailing.workspace
    addresses = [entry.address for entry in test_list.addresses.all()]
    if not addresses:
        raise Refused(f"“{test_list.name}” has no addresses yet; add some under Settings.")
    if outside := [address for address in addresses if not is_allowed(address, workspace)]:
        raise Refused(f"{outside[0]} is outside the domains that test sends may reach; nothing was sent.")
    with transaction.atomic():
        mailing = Mailing.objects.select_for_update().get(pk=revision.mailing_id)
        refuse_if_locked(mailing)
        send = TestSend.objects.create(
            mailing=mailing,
            revision=revision,
            list_name=test_list.name,
            reader_name=reader.name if reader else "",
            values={name: str(value) for name, value in reader_values(reader).items()} if reader else {},
            mark=f"[Test r{revision.number}]",
            by=user,
        )
        for address in addresses:
            TestCopy.objects.create(send=send, address=address, message_id=f"<{secrets.token_hex(12)}.{send.pk}@test.jetwind.invalid>")
        record("proof.sent", actor=user, mailing_id=mailing.pk, revision=revision.number, count=len(addresses), list=test_list.name)
        jobs.start(
            SENDS,
            f"send:{send.pk}",
            doing="waiting for a worker",
            total=len(addresses),
            enqueue=lambda work_id: send_copies.defer(send_id=send.pk, work_id=work_id),
        )
    return send


def hand_over_copies(send: TestSend, work_id: int) -> None:
    """Hand over every copy that has not been taken yet. Safe to run twice: a copy that was taken is not sent again."""
    message = message_of(send.revision)
    server = MailServer(settings.TEST_SMTP_HOST, settings.TEST_SMTP_PORT)
    workspace = send.mailing.workspace
    sender_name = _sender_name(send.revision, send.values)
    copies = list(send.copies.all())
    for number, copy in enumerate(copies):
        jobs.report(work_id, done=number, total=len(copies), doing=copy.address)
        if copy.state == TestCopy.State.HANDED_OVER:
            continue
        if not is_allowed(copy.address, workspace):
            copy.state, copy.answer = TestCopy.State.REFUSED, "Not sent: outside the domains that test sends may reach."
            copy.save()
            continue
        content = compose(
            message,
            values={**send.values, "email": copy.address},
            to=copy.address,
            sender=formataddr((sender_name, workspace.test_sender)),
            subject_mark=send.mark,
            message_id=copy.message_id,
            date=timezone.now(),
        )
        answer = hand_over(server, workspace.test_sender, copy.address, content)
        copy.state = TestCopy.State.HANDED_OVER if answer.taken else TestCopy.State.REFUSED
        copy.answer = answer.answer[:500]
        copy.handed_over_at = timezone.now() if answer.taken else None
        copy.save()
    jobs.report(work_id, done=len(copies), total=len(copies), doing="handed over")


def _sender_name(revision: Revision, values: Mapping[str, str]) -> str:
    senders = message_of(revision).mailboxes("From")
    name = fill(senders[0].name, values, escape=False) if senders else ""
    return " ".join(name.split())


def keep_arrival(delivery: Delivery) -> Arrival:
    """Keep what the Mailroom received, and tie it to the copy that it is."""
    headers = message_from_bytes(delivery.content[:200_000], policy=policy.compat32)
    message_id = " ".join(str(headers.get("Message-ID") or "").split())
    return Arrival.objects.create(
        sender=delivery.sender[:320],
        recipients=list(delivery.recipients),
        subject=decode_words(" ".join(str(headers.get("Subject") or "").split())).replace("\0", "")[:998],
        message_id=message_id[:255],
        blob_sha256=store.keep(delivery.content),
        octets=len(delivery.content),
        copy=TestCopy.objects.filter(message_id=message_id).first(),
    )
