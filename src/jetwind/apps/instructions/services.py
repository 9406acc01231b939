"""A reviewer sends a message back to its author with instructions, and the author ticks them off."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from typing import Any

from django.urls import reverse
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.comments.models import Thread
from jetwind.apps.comments.selectors import PlacedThread, open_threads, placed
from jetwind.apps.instructions.models import Instruction, SendingBack
from jetwind.apps.instructions.pictures import pictures_of
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.stages import move, open_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.notices.models import Notice
from jetwind.apps.notices.services import tell
from jetwind.apps.review.frame import place_in_words
from jetwind.apps.review.models import FindingRecord
from jetwind.apps.review.selectors import Walk, known_fingerprints, walk_of
from jetwind.apps.ui.following import follows
from jetwind.apps.ui.given import typed_lines
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.core.checking import registry
from jetwind.core.message import Message
from jetwind.core.reports import STATIONS
from jetwind.core.source import Span

#: Characters of the words, instructions of one sending back, places of one instruction, characters of a place.
LONGEST, MOST, MOST_PLACES, MOST_CHARACTERS = 2_000, 200, 10, 400
#: The task that mails instructions to their author.
MAIL_INSTRUCTIONS = "proofs.mail_instructions"
_PARTS = {"header": 0, "html": 1, "text": 2}


@dataclass(frozen=True, slots=True)
class Choice:
    """Something that an author may be asked to change: an open finding, or an open thread where it stands.

    ``element`` is the index of its element, if it has one. ``profiles`` are those in which it shows; empty for all.
    """

    finding: FindingRecord | None = None
    thread: PlacedThread | None = None
    order: tuple[Any, ...] = ()
    element: int | None = None
    profiles: tuple[str, ...] = ()


def choices_of(walk: Walk) -> list[Choice]:
    """Everything that an author may be asked to change, in the order of the source: headers, HTML, plain text, then the rest."""
    message = message_of(walk.revision)
    document = message.document
    found = []
    for shown in walk.findings:
        if shown.is_open:
            one = shown.record
            order = (_PARTS.get(one.part, 3), one.start if one.start is not None else -1, one.order)
            elements = one.data.get("elements") or one.elements
            profiles = one.data.get("profile_ids") or ()
            found.append(Choice(one, order=order, element=elements[0] if elements else None, profiles=tuple(profiles)))
    slugs = [station.slug for station in STATIONS]
    for place in placed(open_threads(walk.revision), message, known_fingerprints(walk)):
        thread = place.thread
        span = document.all_elements[place.element].span if place.element is not None and document is not None else None
        if span is not None:
            order = (1, span.start, thread.number)
        elif thread.kind == Thread.Kind.SUBJECT:
            order = (0, -1, thread.number)
        else:
            order = (4, slugs.index(thread.station) if thread.station in slugs else 99, thread.number)
        found.append(Choice(thread=place, order=order, element=place.element, profiles=(thread.profile,) if thread.profile else ()))
    return sorted(found, key=lambda one: one.order)


@dataclass(frozen=True, slots=True)
class Chosen:
    """What the author is asked to change: fingerprints of findings, numbers of threads; and whether the author gets it by mail too."""

    findings: Collection[str] = ()
    threads: Collection[int] = ()
    by_mail: bool = False
    #: Jetwind's own address, for the mail.
    base: str = ""


def send_back(user: User, revision: Revision, words: str, chosen: Chosen | None = None) -> SendingBack:
    """Give the message back to its author, with instructions. What was chosen and is not there any more is left out.

    Raises:
        NotAllowed, Refused: not permitted; released; not the newest revision; no words, or too many; too many instructions.
    """
    permit(user, "review:send-back", revision.mailing.workspace)
    chosen = chosen or Chosen()
    words = typed_lines(words)
    if not words:
        raise Refused("Say in a sentence what the author should change.")
    if len(words) > LONGEST:
        raise Refused(f"Your words have {len(words):,} characters; there is room for {LONGEST:,}.")
    rows = _instructions(revision, chosen) if chosen.findings or chosen.threads else []
    with open_mailing(revision.mailing_id) as mailing:
        newest = mailing.revisions.last()
        if newest is None or newest.pk != revision.pk:
            raise Refused(f"Revision {revision.number} is not the newest; look at the newest one first.")
        made = SendingBack.objects.create(mailing=mailing, revision=revision, words=words, by=user, base=chosen.base[:200])
        for row in rows:
            row.sending_back = made
        Instruction.objects.bulk_create(rows)
        move(mailing, "sent back", user, revision=revision.number, comment=" ".join(words.split()))
        follows().sent_back(revision, user)
        if revision.uploaded_by_id != user.pk:
            tell(
                [revision.uploaded_by],
                Notice.Kind.SENT_BACK,
                mailing,
                f"{user.shown_name}: {words}",
                reverse("instructions", args=[made.pk]),
            )
        if chosen.by_mail:
            jobs.defer(MAIL_INSTRUCTIONS, sending_back_id=made.pk)
    return made


def _instructions(revision: Revision, chosen: Chosen) -> list[Instruction]:
    """The instructions that were chosen, in the order of the source; not saved.

    Raises:
        Refused: there are too many.
    """
    walk, message = walk_of(revision), message_of(revision)
    wanted = [one for one in choices_of(walk) if _is_chosen(one, chosen)]
    findings = {name for one in wanted if one.finding is not None for name in _names(one.finding)}
    about = {one.thread.thread.fingerprint: one.thread.thread.number for one in wanted if one.thread is not None}
    wanted = [one for one in wanted if one.thread is None or one.thread.thread.fingerprint not in findings]
    if len(wanted) > MOST:
        raise Refused(f"{len(wanted)} instructions are chosen; there is room for {MOST}. Send back what comes first.")
    pictures = pictures_of(revision, [(one.element, one.profiles) for one in wanted])
    rows = []
    for number, (one, picture) in enumerate(zip(wanted, pictures, strict=True), 1):
        row = _of_finding(one.finding, message) if one.finding is not None else _of_thread(one, message)
        row.number = number
        if one.finding is not None:
            row.thread_id = next((about[name] for name in row.names if name in about), None)
        row.blob_sha256 = store.keep(picture) if picture is not None else ""
        rows.append(row)
    return rows


def _is_chosen(one: Choice, chosen: Chosen) -> bool:
    if one.finding is not None:
        return one.finding.fingerprint in chosen.findings
    return one.thread is not None and one.thread.thread.number in chosen.threads


def _of_finding(found: FindingRecord, message: Message) -> Instruction:
    declared = registry().get(found.check_id)
    places = []
    for number in range(min(len(found.others) + 1, MOST_PLACES)):
        at, (where, fault) = found.at_place(number), place_in_words(found, number)
        places.append({"where": where, "line": at.line, "column": at.column, "characters": _characters(message, at), "fault": fault})
    return Instruction(
        level=found.level,
        station=found.station,
        what=found.sentence,
        why=declared.why if declared else "",
        fix=found.fix,
        places=places,
        more=max(len(found.others) + 1 - MOST_PLACES, 0) + found.more,
        check_id=found.check_id,
        names=_names(found),
    )


def _names(found: FindingRecord) -> list[str]:
    """The fingerprints by which a finding is known: its own, and those of its cause and its faults."""
    return sorted({found.fingerprint, found.cause, *found.members} - {""})


def _characters(message: Message, at: FindingRecord) -> str:
    source = message.source_of(at.part)
    if source is None or at.start is None or at.end is None:
        return ""
    return source.slice(Span(at.start, min(at.end, at.start + MOST_CHARACTERS))).replace("\0", "\ufffd")


def _of_thread(one: Choice, message: Message) -> Instruction:
    assert one.thread is not None
    thread, document = one.thread.thread, message.document
    places: list[dict[str, Any]] = []
    span = document.all_elements[one.element].span if one.element is not None and document is not None else None
    if span is not None and message.html is not None:
        position = message.html.source.position(span.start)
        cut = Span(span.start, min(span.end, span.start + MOST_CHARACTERS))
        characters = message.html.source.slice(cut).replace("\0", "\ufffd")
        where = f"HTML, line {position.line}, column {position.column}"
        places.append({"where": where, "line": position.line, "column": position.column, "characters": characters, "fault": ""})
    elif thread.kind == Thread.Kind.SUBJECT:
        places.append({"where": "header Subject", "line": None, "column": None, "characters": message.subject or "", "fault": ""})
    what = thread.named if thread.kind != Thread.Kind.STATION else f"About {thread.named}"
    return Instruction(level="comment", station=thread.station, what=what[:1].upper() + what[1:], places=places, thread_id=thread.number)


def tick(user: User, instruction: Instruction, *, is_done: bool) -> None:
    """Say that an instruction is carried out, or take that back. A second press changes nothing.

    Raises:
        NotAllowed, Refused: not permitted; released.
    """
    sending = instruction.sending_back
    permit(user, "mailing:change", sending.mailing.workspace)
    with open_mailing(sending.mailing_id) as mailing:
        rows = Instruction.objects.filter(pk=instruction.pk, ticked_at__isnull=is_done)
        now = {"ticked_at": timezone.now(), "ticked_by": user} if is_done else {"ticked_at": None, "ticked_by": None}
        if rows.update(**now):
            action = "instruction.ticked" if is_done else "instruction.unticked"
            record(action, actor=user, mailing=mailing, revision=sending.revision.number, number=instruction.number, what=instruction.what)
