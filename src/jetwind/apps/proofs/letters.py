"""Mails of Jetwind's own to the people of a house: what waits for them, and what an author is asked to change.

They go out by the mail server that the workspace chose for its test sends, else by the installation's. A letter is marked before it goes
and after the answer came, so that a worker that dies in between has it sent no second time.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

from django.conf import settings
from django.db import transaction
from django.urls import reverse
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.blobs import store
from jetwind.apps.instructions.models import SendingBack
from jetwind.apps.instructions.selectors import sheet_of
from jetwind.apps.jobs import services as jobs
from jetwind.apps.notices.services import to_mail
from jetwind.apps.proofs import mail_servers
from jetwind.apps.proofs.handing_over import AFTER_LOST, AFTER_PUT_OFF, GIVEN_UP_AFTER
from jetwind.apps.proofs.models import Letter
from jetwind.apps.proofs.return_address import new_identity
from jetwind.apps.proofs.sealing import Unreadable
from jetwind.apps.workspace.models import Membership, Workspace
from jetwind.core.arrivals.note import MailHead, Waiting, compose_waiting
from jetwind.core.reports.instructions import compose_instructions
from jetwind.engines.mail import HandoverOutcome, MailServer, hand_over

LETTERS, SEND = "letter", "proofs.send_letter"
_NO_WAIT = timedelta(seconds=2)


def write_notices(user_id: int, workspace_id: int) -> Letter | None:
    """Write to a person about what waits in a workspace and was not told by mail; None where there is nothing, or the person wants no mail.

    Somebody whose address is not known to be theirs, or who has left, gets none.
    """
    with transaction.atomic():
        person = User.objects.filter(pk=user_id, is_active=True).exclude(mailed=User.Mailed.NEVER).first()
        member = Membership.objects.filter(user=user_id, workspace=workspace_id, deactivated_at=None).select_related("workspace").first()
        if person is None or member is None or not person.has_proven_own:
            return None
        new = to_mail(person, member.workspace)
        if not new:
            return None
        waiting = [Waiting(one.get_kind_display(), one.mailing.title, one.words, f"{person.mailed_from}{one.path}") for one in new]
        return _on_its_way(member.workspace, person, lambda head: compose_waiting(head, person.shown_name, waiting))


def write_instructions(sending_back_id: int) -> Letter | None:
    """Write to an author what is to be changed; None where the author has left, or where the address is not known to be the author's."""
    sending = SendingBack.objects.select_related("mailing__workspace", "revision__uploaded_by", "by").get(pk=sending_back_id)
    author, workspace = sending.revision.uploaded_by, sending.mailing.workspace
    is_member = workspace.memberships.filter(user=author, deactivated_at=None).exists()
    if not (is_member and author.is_active and author.has_proven_own):
        return None
    page = f"{sending.base}{reverse('instructions', args=[sending.pk])}"
    sheet = sheet_of(sending, author)
    with transaction.atomic():
        return _on_its_way(workspace, author, lambda head: compose_instructions(sheet, head, page))


def _on_its_way(workspace: Workspace, person: User, compose: Callable[[MailHead], bytes]) -> Letter:
    head = MailHead(person.email, workspace.test_sender, new_identity(person.pk), timezone.now())
    letter = Letter.objects.create(workspace=workspace, to=person.email, blob_sha256=store.keep(compose(head)))
    jobs.start(
        LETTERS,
        f"letter:{letter.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer(SEND, letter_id=letter.pk, work_id=work_id),
    )
    return letter


def send(letter_id: int, work_id: int) -> None:
    """Hand a letter over, unless that was done, or begun by a worker that died.

    Raises:
        PutOff: the server's rate, or the server, wants it later.
    """
    letter = Letter.objects.select_related("workspace").get(pk=letter_id)
    jobs.report(work_id, done=0, total=1, doing=letter.to)
    row = letter.workspace.mail_servers.filter(is_chosen=True).first()
    turn = mail_servers.turn_of(row, _NO_WAIT)
    if turn - timezone.now() > _NO_WAIT:
        raise jobs.PutOff(turn, "keeps to the rate of the mail server")
    begun = Letter.objects.filter(pk=letter.pk, state=Letter.State.WAITING).update(state=Letter.State.ON_ITS_WAY)
    if not begun:
        Letter.objects.filter(pk=letter.pk, state=Letter.State.ON_ITS_WAY).update(state=Letter.State.UNSURE)
        return
    try:
        server = mail_servers.engine_server(row) if row is not None else MailServer(settings.TEST_SMTP_HOST, settings.TEST_SMTP_PORT)
    except Unreadable as failure:
        _end(letter, Letter.State.REFUSED, f"The password of the mail server cannot be read, since {failure}.")
        return
    given = hand_over(server, letter.workspace.test_sender, letter.to, store.fetch(letter.blob_sha256))
    ends = {
        HandoverOutcome.TAKEN: Letter.State.HANDED_OVER,
        HandoverOutcome.REFUSED: Letter.State.REFUSED,
        HandoverOutcome.UNSURE: Letter.State.UNSURE,
    }
    if given.outcome in ends:
        _end(letter, ends[given.outcome], given.answer)
        return
    pauses = AFTER_LOST if given.outcome is HandoverOutcome.LOST else AFTER_PUT_OFF
    again = timezone.now() + pauses[min(letter.tries, len(pauses) - 1)]
    if again - letter.at > GIVEN_UP_AFTER:
        _end(letter, Letter.State.REFUSED, f"Given up after {GIVEN_UP_AFTER.days} days. {given.answer}")
        return
    letter.tries += 1
    _end(letter, Letter.State.WAITING, given.answer)
    raise jobs.PutOff(again, "waits to try again")


def _end(letter: Letter, state: Letter.State, answer: str) -> None:
    letter.state, letter.answer = state, answer[:500]
    letter.save(update_fields=["state", "answer", "tries"])
