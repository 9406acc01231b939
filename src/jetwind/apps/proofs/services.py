"""Test sends: to allowed addresses only, one message each; and what arrives."""

from __future__ import annotations

import secrets
from email import message_from_bytes, policy

from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import transaction
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.proofs.models import Arrival, TestAddress, TestCopy, TestList, TestSend
from jetwind.apps.proofs.reach import is_allowed
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.domains import is_proven
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.apps.workspace.readers import reader_values
from jetwind.core.message.words import decode_words
from jetwind.engines.mail import Delivery

SENDS = "test-send"
#: A test list is colleagues, not an audience.
MOST_ADDRESSES = 50


def add_list(user: User, workspace: Workspace, name: str) -> TestList:
    """Make a test list.

    Raises:
        NotAllowed, Refused: not permitted; no name, too long a one, or one that a list has.
    """
    permit(user, "workspace:configure", workspace)
    name = " ".join(name.split())
    if not name or len(name) > 80:
        raise Refused("A test list has a name of up to 80 characters.")
    with refusing("one_list_of_a_name", f"There is a test list “{name}” already."):
        made = TestList.objects.create(workspace=workspace, name=name)
        record("workspace.changed", actor=user, what=f"the test list {name}: made", house=workspace.pk)
    return made


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
    with transaction.atomic():
        TestList.objects.select_for_update(no_key=True).get(pk=test_list.pk)
        if test_list.addresses.filter(address__iexact=address).exists():
            raise Refused(f"{address} is on “{test_list.name}” already.")
        if test_list.addresses.count() >= MOST_ADDRESSES:
            raise Refused(f"“{test_list.name}” has {MOST_ADDRESSES} addresses; a test list is for colleagues.")
        made = TestAddress.objects.create(list=test_list, address=address)
        record("workspace.changed", actor=user, what=f"the test list {test_list.name}: {address} added", house=workspace.pk)
    return made


def remove_address(user: User, entry: TestAddress) -> None:
    """Take an address off a test list.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:configure", entry.list.workspace)
    with transaction.atomic():
        record(
            "workspace.changed", actor=user, what=f"the test list {entry.list.name}: {entry.address} removed", house=entry.list.workspace_id
        )
        entry.delete()


def send_test(user: User, revision: Revision, test_list: TestList, reader: SampleReader | None) -> TestSend:
    """Send a revision to every address of a list, merged for one sample reader.

    Raises:
        NotAllowed, Refused: not permitted; released; the list is empty or holds an address that is not allowed.
    """
    permit(user, "proof:send", revision.mailing.workspace)
    workspace = revision.mailing.workspace
    addresses = [entry.address for entry in test_list.addresses.all()]
    if not addresses:
        raise Refused(f"“{test_list.name}” has no addresses yet; add some under Settings.")
    if outside := [address for address in addresses if not is_allowed(address, workspace)]:
        raise Refused(f"{outside[0]} is outside the domains that test sends may reach; nothing was sent.")
    with open_mailing(revision.mailing_id) as mailing:
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
        record("proof.sent", actor=user, mailing=mailing, revision=revision.number, count=len(addresses), list=test_list.name)
        _ask_for_hand_over(send)
    return send


def send_again(user: User, copy: TestCopy) -> None:
    """Hand a copy over again at once: one that was put off, refused, or of which nobody knows whether it arrived.

    Raises:
        NotAllowed, Refused: not permitted; released; under way, or handed over.
    """
    send = copy.send
    permit(user, "proof:send", send.mailing.workspace)
    with open_mailing(send.mailing_id):
        locked = TestCopy.objects.select_for_update(no_key=True).get(pk=copy.pk)
        if locked.state not in (TestCopy.State.PUT_OFF, TestCopy.State.REFUSED, TestCopy.State.UNSURE):
            raise Refused(f"The copy to {locked.address} is {locked.get_state_display()}; it is not sent again.")
        locked.state, locked.tries, locked.first_try_at, locked.next_try_at = TestCopy.State.WAITING, 0, None, None
        locked.save()
        record("proof.sent-again", actor=user, mailing=send.mailing, revision=send.revision.number, address=locked.address)
        _ask_for_hand_over(send, sooner=True)


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


def concerns(arrival: Arrival, workspace: Workspace) -> bool:
    """Whether people of a workspace may see an arrival: its own copies, and strays to a domain that is known to be the workspace's own.

    A domain that somebody only wrote into the settings shows nothing: anybody could write any.
    """
    if arrival.copy is not None:
        return bool(arrival.copy.send.mailing.workspace_id == workspace.pk)
    return any(is_proven(workspace, str(address).rpartition("@")[2].lower()) for address in arrival.recipients)
