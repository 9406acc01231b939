"""Answers of recipients: signed links, the answers that come by them, and reminders."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import timedelta

from django.conf import settings
from django.core.signing import BadSignature, Signer
from django.db import transaction
from django.urls import reverse
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.comments.models import Thread
from jetwind.apps.comments.services import Place, say_from_outside
from jetwind.apps.intake.selectors import message_numbered
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import tell
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.places import box_of, within
from jetwind.apps.previews.selectors import element_at
from jetwind.apps.previews.services import Pointed, place_at
from jetwind.apps.proofs.models import Reply, ReplyLink, ReplyPhoto, TestCopy, TestSend
from jetwind.apps.proofs.return_address import new_identity
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.given import typed_lines
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.desk import Held
from jetwind.core.arrivals.note import Note
from jetwind.core.message import Message
from jetwind.core.renders.measured import Measured
from jetwind.engines.bounded import COMPOSING, PastBudget, photo_bounded

#: How long a link works.
WORKS = timedelta(days=14)
#: Answers by one link, photos of one answer, octets of a photo, and characters of the words and of a device.
MOST_REPLIES, MOST_PHOTOS, LARGEST_PHOTO, LONGEST_WORDS, LONGEST_DEVICE = 10, 3, 12_000_000, 2_000, 120
#: Nobody is reminded twice within this time.
_PAUSE = timedelta(hours=1)
#: Profiles whose render the answer page shows, the best first.
_SHOWN = ("phone-upright", "tablet-upright", "desktop-pane")
_SIGNER = Signer(salt="jetwind.reply")


def link_for(send: TestSend, address: str, person: str, devices: str) -> ReplyLink:
    """A link for one recipient of a send; not saved."""
    return ReplyLink(
        send=send, address=address, person=person, devices=devices, nonce=secrets.token_hex(12), expires_at=timezone.now() + WORKS
    )


def address_of(link: ReplyLink) -> str:
    """The address of a person's answer page, whole."""
    return f"{link.send.base}{reverse('reply', args=[_SIGNER.sign(f'{link.pk}.{link.nonce}')])}"


def link_of(token: str) -> ReplyLink | None:
    """The link with a token, working or not; None for a token that is not ours."""
    try:
        number, _, nonce = _SIGNER.unsign(token).partition(".")
    except BadSignature:
        return None
    if not number.isascii() or not number.isdigit() or len(number) > 18:
        return None
    return ReplyLink.objects.select_related("send__revision__mailing", "send__by").filter(pk=int(number), nonce=nonce).first()


def note_of(copy: TestCopy) -> Note | None:
    """The words of a note or a reminder; None where its link works no more, and for a reminder whose person has answered meanwhile."""
    link = ReplyLink.objects.select_related("send__revision__mailing", "send__by").filter(send=copy.send_id, address=copy.address).first()
    is_reminder = copy.purpose == TestCopy.Purpose.REMINDER
    if link is None or not link.is_open or (is_reminder and link.replies.exists()):
        return None
    until = link.expires_at
    return Note(
        link.name,
        link.send.revision.mailing.title,
        link.send.by.shown_name,
        address_of(link),
        f"{until.day} {until:%B %Y}",
        is_reminder=is_reminder,
    )


def render_for(link: ReplyLink) -> Render | None:
    """The render that the answer page shows: that of the reader whose copy the person got, where there is one; None where none is done yet."""
    done = Render.objects.filter(revision=link.send.revision_id, mode="own", state=Render.State.DONE, profile__in=_SHOWN)
    own = TestCopy.objects.filter(send=link.send_id, address=link.address, purpose=TestCopy.Purpose.COPY).values_list(
        "reader_name", flat=True
    )
    names = set(own)
    light = done.defer("tree", "changes", "spoken", "measured")
    return min(light, key=lambda render: (_SHOWN.index(render.profile), render.reader not in names, render.reader), default=None)


@dataclass(frozen=True, slots=True)
class Given:
    """An answer as it was sent: ``left`` and ``top`` are the place of a tap in per cent of ``render``."""

    looks_right: bool
    words: str = ""
    device: str = ""
    render: Render | None = None
    left: float | None = None
    top: float | None = None
    client: str = ""


def answer(link: ReplyLink, given: Given, photos: Sequence[bytes] = ()) -> Reply:
    """Keep an answer, with photos that are made anew from their pixels.

    Raises:
        Refused: the link works no more; nothing is said; too many answers, photos or words; a photo that cannot be opened.
    """
    words, device = typed_lines(given.words), " ".join(given.device.split())
    if not given.looks_right and not words and given.left is None and not photos:
        raise Refused("Say in a few words what is wrong, tap on the place, or add a photo.")
    if len(words) > LONGEST_WORDS:
        raise Refused(f"Your words have {len(words):,} characters; there is room for {LONGEST_WORDS:,}.")
    if len(device) > LONGEST_DEVICE:
        raise Refused(f"The device has more than {LONGEST_DEVICE} characters.")
    made = [_made_anew(photo, number) for number, photo in enumerate(photos, 1)]
    with transaction.atomic():
        locked = ReplyLink.objects.select_for_update(no_key=True).get(pk=link.pk)
        if not locked.is_open:
            raise Refused("This link works no more; ask for another.")
        if locked.replies.count() >= MOST_REPLIES:
            raise Refused(f"You have answered {MOST_REPLIES} times; that is as often as one link takes.")
        reply = Reply.objects.create(
            link=locked,
            looks_right=given.looks_right,
            words=words,
            device=device,
            render=given.render if given.left is not None else None,
            left=given.left,
            top=given.top,
            client=given.client[:200],
        )
        ReplyPhoto.objects.bulk_create(
            ReplyPhoto(reply=reply, blob_sha256=store.keep(data), width=width, height=height) for data, width, height in made
        )
        send = link.send
        verdict = "looks right" if given.looks_right else "something is wrong"
        record("proof.answered", actor=None, mailing=send.mailing, revision=send.revision.number, address=link.address, verdict=verdict)
        words = f"{link.name}: {verdict}" + (f". {words}" if words else "")
        path = reverse("station", args=[send.mailing_id, send.revision.number, "test-sends"])
        tell([send.by], Notice.Kind.ANSWERED, send.mailing, words, path)
        if reply.is_comment:
            jobs.defer("proofs.place_reply", reply_id=reply.pk)
        if not reply.looks_right:
            follows().test_send_told(send.mailing)
    return reply


def _made_anew(photo: bytes, number: int) -> tuple[bytes, int, int]:
    if len(photo) > LARGEST_PHOTO:
        raise Refused(f"Photo {number} has {len(photo) / 1e6:.0f} MB; there is room for {LARGEST_PHOTO // 1_000_000} MB.")
    try:
        made = photo_bounded(photo, start=settings.HELPERS_START)
    except PastBudget as past:
        raise Refused(f"Photo {number} cannot be opened: {past}.") from past
    if made is None:
        raise Refused(f"Photo {number} cannot be opened; send it as JPEG or PNG, of up to 40 million pixels.")
    return made


def place(reply: Reply) -> None:
    """Begin a thread of comments with a person's words: at the element that the person tapped on, else at the station. Safe to run twice."""
    if reply.thread_id is not None or not reply.is_comment:
        return
    revision = reply.link.send.revision
    found = Place(Thread.Kind.STATION, "test-sends", "the station Test sends")
    render = reply.render
    if render is not None and reply.left is not None and reply.top is not None:
        layout = Measured.from_json(render.measured)
        x, y = reply.left / 100 * layout.width, reply.top / 100 * layout.height
        element = element_at(layout, x, y)
        if element is not None:
            with Held(message_numbered, revision.pk, budget=COMPOSING) as held:
                found = held.ask(_place_of_tap, layout, render.profile, element, (x, y)) or found
    words = reply.words or ("looks right" if reply.looks_right else "something is wrong here")
    with transaction.atomic():
        locked = Reply.objects.select_for_update(no_key=True, of=("self",)).get(pk=reply.pk)
        if locked.thread_id is None:
            try:
                locked.thread = say_from_outside(revision, found, words, reply.link.name)
            except Refused:
                # The message was released meanwhile, or takes no more threads: the answer stays beside its copy.
                return
            locked.save(update_fields=["thread"])


def _place_of_tap(message: Message, layout: Measured, profile: str, element: int, at: tuple[float, float]) -> Place | None:
    document = message.document
    if document is None or not 0 <= element < len(document.all_elements):
        return None
    box = box_of(document, layout, document.all_elements[element])
    return place_at(document, profile, Pointed(element, *within(box, *at)))


def waited_for(send: TestSend) -> list[ReplyLink]:
    """The links of the people who may still answer and have not."""
    return [link for link in send.reply_links.filter(replies=None, withdrawn_at=None) if link.is_open]


def remind(user: User, send: TestSend) -> list[TestCopy]:
    """Write to everybody who has not answered; the copies that carry the reminders, not handed over yet.

    Raises:
        NotAllowed, Refused: not permitted; released; everybody answered, or was reminded within the hour.
    """
    permit(user, "proof:send", send.mailing.workspace)
    with open_mailing(send.mailing_id) as mailing:
        TestSend.objects.select_for_update(no_key=True).get(pk=send.pk)
        waiting = waited_for(send)
        due = [link for link in waiting if link.reminded_at is None or link.reminded_at < timezone.now() - _PAUSE]
        if not due:
            raise Refused("They were reminded within the last hour." if waiting else "Nobody is left who could answer and has not.")
        reminders = []
        for link in due:
            link.reminded_at, link.reminders = timezone.now(), link.reminders + 1
            link.save(update_fields=["reminded_at", "reminders"])
            reminders.append(note_copy(send, link, TestCopy.Purpose.REMINDER, link.reminders))
        TestCopy.objects.bulk_create(reminders)
        record("proof.reminded", actor=user, mailing=mailing, revision=send.revision.number, count=len(due), list=send.list_name)
    return reminders


def note_copy(send: TestSend, link: ReplyLink, purpose: TestCopy.Purpose, number: int = 0) -> TestCopy:
    """The copy that carries a note or a reminder; not saved."""
    return TestCopy(send=send, purpose=purpose, address=link.address, person=link.person, variant=number, message_id=new_identity(send.pk))


def withdraw(user: User, link: ReplyLink) -> None:
    """Have a link work no more. The answers that came by it stay.

    Raises:
        NotAllowed, Refused: not permitted; it works no more already.
    """
    send = link.send
    permit(user, "proof:send", send.mailing.workspace)
    with transaction.atomic():
        if not ReplyLink.objects.filter(pk=link.pk, withdrawn_at=None).update(withdrawn_at=timezone.now()):
            raise Refused(f"The link of {link.address} was withdrawn already.")
        record("proof.link-withdrawn", actor=user, mailing=send.mailing, revision=send.revision.number, address=link.address)
