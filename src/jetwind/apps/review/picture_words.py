"""Words in pictures: read in the background where a program is installed, or entered by a reviewer."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from typing import Any

from django.conf import settings
from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import numbered
from jetwind.apps.intake.stages import locked_mailing, open_mailing
from jetwind.apps.jobs import machines
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review.answers import ask_for_checks, storable
from jetwind.apps.review.known import PICTURES_READ
from jetwind.apps.review.models import PicturesRead
from jetwind.apps.review.models import PictureWords as Row
from jetwind.apps.review.questions import is_slow, machines_of, message_to_check, readers_of
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.desk import Held
from jetwind.apps.workspace.models import Workspace
from jetwind.core.checking.circumstance import Later
from jetwind.core.images.collecting import pictures_of
from jetwind.core.images.words import MOST_CHARACTERS, PictureReader, PictureWords, Words, key_of, may_hold_words
from jetwind.engines.bounded import Budget, PastBudget
from jetwind.engines.picture_words import ALL_SECONDS, installed, to_read

READING = "reading"


def reader() -> PictureReader | None:
    """The program that reads pictures here; None where none is installed."""
    return installed(settings.HELPERS_START)


def name_of_reader(revision: Revision) -> str:
    """The program that reads pictures, of the machines at work; empty for none."""
    return next((facts.reading for facts in machines_of(revision) if facts.reading), "")


def words_of(workspace: Workspace, pictures: Iterable[str]) -> dict[str, Words]:
    """The words that are known to stand in these pictures, by the pictures' digests."""
    return {row.picture: row.value for row in rows_of(workspace, pictures).values() if row.value is not None}


def rows_of(workspace: Workspace, pictures: Iterable[str]) -> dict[str, Row]:
    """The words that a program read and those that a person entered, by the digests of pictures."""
    rows = Row.objects.filter(workspace=workspace, picture__in=list(pictures)).select_related("by")
    return {row.picture: row for row in rows}


def _words_of_pictures(revision: Revision) -> PictureWords:
    found = PicturesRead.objects.filter(revision=revision).first()
    words = words_of(revision.mailing.workspace, found.pictures) if found is not None else {}
    # Which program reads is a fact of a machine, which ``questions`` keeps beside the key.
    return PictureWords(words, machines.own_facts().reading)


def words_for_checks(revision: Revision) -> dict[str, Any]:
    """The words in a revision's pictures, for the checks."""
    return {"picture_words": Later(PICTURES_READ.of(revision) or "", lambda: _words_of_pictures(revision))}


def ask_for_reading(revision: Revision) -> Work | None:
    """Have the pictures of a revision read in the background, where a program is installed and one of them has not been."""
    if not name_of_reader(revision) or not _waiting(revision):
        return None
    return jobs.start(
        READING,
        f"revision:{revision.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer(
            "review.read_pictures", is_slow=is_slow(revision), needs="pictures", revision_id=revision.pk, work_id=work_id
        ),
    )


def _shown(revision: Revision) -> list[Any]:
    return pictures_of(message_to_check(revision), {}, readers_of(revision))


def _waiting(revision: Revision) -> dict[str, Any]:
    """Pictures that were never read, or by a program that no machine has any more; those whose words a person entered are not read."""
    wanted = to_read(_shown(revision), ())
    rows = rows_of(revision.mailing.workspace, wanted)
    programs = {facts.reading for facts in machines_of(revision)}
    done = {key for key, row in rows.items() if row.by_id is not None or row.reader in programs}
    return {key: picture for key, picture in wanted.items() if key not in done}


#: Seconds of processor time to find the pictures of a message, and octets of memory; each picture is read by a program with limits of its own.
_READING = Budget(answer_seconds=30.0, all_seconds=60.0, memory=600_000_000, clock_seconds=300.0)


def read_now(revision: Revision, work_id: int) -> None:
    """Read what has not been read, for so many seconds at most. Safe to run twice.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
        Failed: the pictures cannot be found within the limits.
    """
    deadline = time.monotonic() + ALL_SECONDS
    try:
        with Held(pictures_to_read, revision.pk, budget=_READING) as held:
            names = held.ask(_names)
            for number, (key, name) in enumerate(names.items(), 1):
                if time.monotonic() > deadline:
                    break
                words = held.ask(_read, key)
                Row.objects.update_or_create(
                    workspace=revision.mailing.workspace, picture=key, defaults={"read": storable(words.text), "reader": words.reader}
                )
                jobs.report(work_id, done=number, total=len(names), doing=f"reading {name}"[:80])
    except PastBudget as past:
        raise jobs.Failed(f"The pictures cannot be read: {past}.") from past
    ask_for_checks(revision)


def pictures_to_read(revision_id: int) -> dict[str, tuple[str, bytes]]:
    """The pictures that the program has yet to read: name and octets of each, by its digest. Without a program there are none."""
    if reader() is None:
        return {}
    return {key: (picture.name, picture.data or b"") for key, picture in _waiting(numbered(revision_id)).items()}


def _names(pictures: Mapping[str, tuple[str, bytes]]) -> dict[str, str]:
    return {key: name for key, (name, _) in pictures.items()}


def _read(pictures: Mapping[str, tuple[str, bytes]], key: str) -> Words:
    found = reader()
    return Words((found.read(pictures[key][1]) if found is not None else None) or "", found.name if found is not None else "")


def note_pictures(revision: Revision) -> None:
    """Say which pictures a revision shows that may hold words, and what is known of them now: words go along to the next revision."""
    pictures = sorted({picture.digest for picture in _shown(revision) if may_hold_words(picture)})
    with transaction.atomic():
        locked_mailing(revision.mailing_id)
        now = {"pictures": pictures, "key": key_of(words_of(revision.mailing.workspace, pictures), "")}
        if not PicturesRead.objects.filter(revision=revision, **now).exists():
            PicturesRead.objects.update_or_create(revision=revision, defaults=now)


def enter(user: User, revision: Revision, picture: str, words: str, before: str) -> None:
    """Enter the words of a picture; ``before`` are the words that the page showed. Empty words say that the picture holds none.

    Raises:
        NotAllowed, Refused: not permitted; released; the message shows no such picture; too long; somebody else changed it meanwhile.
    """
    permit(user, "review:look", revision.mailing.workspace)
    words = "\n".join(filter(None, (" ".join(line.split()) for line in words.splitlines())))
    if len(words) > MOST_CHARACTERS:
        raise Refused(f"The words have {len(words):,} characters; there is room for {MOST_CHARACTERS:,}.")
    names = {one.digest: one.name for one in _shown(revision)}
    if picture not in names:
        raise Refused("The message does not show this picture any more.")
    workspace = revision.mailing.workspace
    with open_mailing(revision.mailing_id):
        Row.objects.get_or_create(workspace=workspace, picture=picture)
        row = Row.objects.select_for_update(no_key=True).get(workspace=workspace, picture=picture)
        known = row.value
        if known is not None and not known.reader and known.text == words:
            return
        if in_form(known) != in_form(Words(before)):
            raise Refused(f"Somebody else has entered words for {names[picture]} meanwhile; look at them first.")
        row.entered, row.by = words, user
        row.save()
        record("picture.words-entered", actor=user, mailing=revision.mailing, revision=revision.number, picture=names[picture][:200])
        note_pictures(revision)
        ask_for_checks(revision)
        _note_elsewhere(revision, picture)


def _note_elsewhere(revision: Revision, picture: str) -> None:
    """Other messages of the house with the same picture: what their checks said of it holds no more."""
    others = PicturesRead.objects.filter(pictures__contains=[picture], revision__mailing__workspace=revision.mailing.workspace)
    open_ones = others.exclude(revision=revision).exclude(revision__mailing__stage=Mailing.Stage.RELEASED)
    for other in open_ones.select_related("revision__mailing__workspace"):
        known: Mapping[str, Words] = words_of(revision.mailing.workspace, other.pictures)
        PicturesRead.objects.filter(pk=other.pk).update(key=key_of(known, ""))
        ask_for_checks(other.revision)


def in_form(words: Words | None) -> str:
    """Words as they stand in a form."""
    return "\n".join(words.text.splitlines()) if words is not None else ""
