"""What became of the instructions for a message."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from django.db.models import Prefetch
from django.urls import reverse

from jetwind.apps.accounts.models import User
from jetwind.apps.blobs import store
from jetwind.apps.comments.known import OPEN_THREADS
from jetwind.apps.comments.models import Comment
from jetwind.apps.instructions.known import INSTRUCTIONS
from jetwind.apps.instructions.models import Instruction, SendingBack
from jetwind.apps.review.frame import Gauge
from jetwind.apps.review.selectors import Walk
from jetwind.core.checking import Outcome
from jetwind.core.reports.instructions import Instruction as Told
from jetwind.core.reports.instructions import InstructionPlace, InstructionSheet
from jetwind.core.reports.stations import STATIONS


@dataclass(frozen=True, slots=True)
class Hold:
    """Whether an instruction is met in a revision: True, False, or None where that cannot be told yet; and why in words.

    There are no words while no later revision has come.
    """

    holds: bool | None
    words: str


def hold_of(row: Mapping[str, Any], walk: Walk, sent_back: int, open_threads: Collection[int]) -> Hold:
    """What became of an instruction in the revision of a walk; ``sent_back`` is the number of the revision that it was written for."""
    if not row["names"]:
        is_open = row["thread"] in open_threads
        return Hold(not is_open, "its comment is open" if is_open else "its comment is settled")
    if walk.revision.number <= sent_back:
        return Hold(None, "")
    if walk.run is None:
        return Hold(None, "the checks have not run yet")
    names = set(row["names"])
    found = [one for one in walk.findings if names & {one.record.fingerprint, one.record.cause, *one.record.members}]
    if any(one.is_open for one in found):
        return Hold(False, "it is still there")
    if found:
        return Hold(True, "it is excused")
    outcome, *_ = walk.run.outcomes.get(row["check_id"], (None,))
    if outcome is None or Outcome(outcome).is_unlooked or outcome == Outcome.CANNOT_TELL.value:
        return Hold(None, "its check could not tell")
    return Hold(True, "it is not there any more")


def gauge(walk: Walk) -> Gauge | None:
    """The gauge that counts the newest instructions, those ticked off, and those met in this revision; None where the message has none."""
    last = INSTRUCTIONS.of(walk.revision)
    if last is None or not last["rows"]:
        return None
    threads = {row["pk"] for row in OPEN_THREADS.of(walk.revision)}
    holds = sum(hold_of(row, walk, last["revision"], threads).holds is True for row in last["rows"])
    ticked = sum(row["ticked_at"] is not None for row in last["rows"])
    words = f"{ticked}/{len(last['rows'])} ticked, {holds} met"
    return Gauge("instructions", words, address=reverse("instructions", args=[last["pk"]]))


def rows_of(sending_back: SendingBack) -> list[Instruction]:
    """The instructions of a sending back, each with what is said in its thread now."""
    said = Prefetch("thread__comments", Comment.objects.select_related("by"))
    return list(sending_back.instructions.select_related("ticked_by", "thread").prefetch_related(said))


def sheet_of(sending_back: SendingBack, reader: User, *, pictures: bool = True) -> InstructionSheet:
    """The instructions of a sending back as they are handed out to a person; its time is told in that person's zone."""
    at = sending_back.at.astimezone(reader.zone)
    return InstructionSheet(
        title=sending_back.mailing.title,
        revision=sending_back.revision.number,
        by=sending_back.by.shown_name,
        at=f"{at.day} {at:%B %Y, %H:%M %Z}",
        words=sending_back.words,
        instructions=tuple(_told(one, pictures=pictures) for one in rows_of(sending_back)),
    )


def _told(one: Instruction, *, pictures: bool) -> Told:
    return Told(
        number=one.number,
        level=one.level,
        station=next((station.name for station in STATIONS if station.slug == one.station), one.station),
        what=one.what,
        why=one.why,
        fix=one.fix,
        places=tuple(InstructionPlace(**place) for place in one.places),
        more=one.more,
        said=tuple((said.by.shown_name if said.by is not None else said.said_by, said.words) for said in comments_of(one)),
        picture=picture_of(one) if pictures else None,
        is_ticked=one.ticked_at is not None,
    )


def comments_of(one: Instruction) -> list[Any]:
    """The comments of an instruction's thread, as they are now."""
    return list(one.thread.comments.all()) if one.thread is not None else []


def picture_of(one: Instruction) -> bytes | None:
    """The picture of an instruction's place; None where there is none, or where the store lost it."""
    if not one.blob_sha256:
        return None
    try:
        return store.fetch(one.blob_sha256)
    except store.BlobMissing:
        return None
