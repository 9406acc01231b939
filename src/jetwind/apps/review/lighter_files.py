"""Lighter files of a message's pictures: made to choose from, chosen, handed out, put into the next revision."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from django.conf import settings

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.services import add_revision
from jetwind.apps.intake.stages import open_mailing
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.review.known import WORKS
from jetwind.apps.review.models import ChosenFile, LighterFile
from jetwind.apps.review.questions import is_slow, message_to_check
from jetwind.apps.review.selectors import Walk, walk_of
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.selectors import chosen_profiles, options_of
from jetwind.core.checking import DoesNotApply
from jetwind.core.checks.images.lighter import SavingOptions, forms_taken, shown_width
from jetwind.core.checks.needs import pictures_in
from jetwind.core.images.collecting import Picture
from jetwind.core.images.handing_out import Handed, package_of
from jetwind.core.images.lighter import Candidate, Form
from jetwind.core.images.placing import can_take, with_lighter
from jetwind.core.message import Message
from jetwind.core.profiles import profiles
from jetwind.engines.bounded import PastBudget, before_and_after_bounded, candidates_bounded, laid_over_bounded, lighter_bounded

MAKING = "lighter-files"


@dataclass(frozen=True, slots=True)
class Shown:
    """A picture of a revision, and the CSS px that it is shown with at most."""

    message: Message
    walk: Walk
    picture: Picture

    @property
    def width(self) -> int:
        """In CSS px, a whole number: files are kept by it."""
        return round(shown_width(self.message, self.walk.context, self.picture))


def _pictures(message: Message, walk: Walk) -> list[Picture]:
    try:
        return pictures_in(message, walk.context)
    except DoesNotApply:
        return []


def _shown(revision: Revision, digest: str) -> Shown:
    walk, message = walk_of(revision), message_to_check(revision)
    picture = next((one for one in _pictures(message, walk) if one.digest == digest and one.data is not None), None)
    if picture is None:
        raise Refused("The message does not show this picture any more.")
    return Shown(message, walk, picture)


def forms_of(revision: Revision) -> frozenset[Form]:
    """The formats that all clients show which the house has chosen."""
    return forms_taken([profiles()[name] for name in chosen_profiles(revision.mailing.workspace)])


def work_of(revision: Revision, digest: str) -> Work | None:
    """How far the files of a picture are; None where nobody asked for them."""
    return jobs.by_kind(WORKS.of(revision)).get(_kind(digest))


def _kind(digest: str) -> str:
    """Each picture's files are work of their own."""
    return f"{MAKING} {digest[:12]}"


def ask_for_files(user: User, revision: Revision, digest: str) -> None:
    """Have the files made that may stand for a picture, in the background.

    Raises:
        NotAllowed, Refused: not permitted; the message does not show the picture, or its file is not at hand.
    """
    permit(user, "mailing:change", revision.mailing.workspace)
    shown = _shown(revision, digest)
    jobs.start(
        _kind(digest),
        f"revision:{revision.pk}",
        doing=f"making files for {shown.picture.name}"[:80],
        enqueue=lambda work_id: jobs.defer(
            "review.make_lighter_files", is_slow=is_slow(revision), revision_id=revision.pk, picture=digest, work_id=work_id
        ),
    )


def make_now(revision: Revision, digest: str) -> None:
    """Make every file that may stand for a picture. Safe to run twice: the same files come of it.

    Raises:
        PastBudget: it takes more than it may.
    """
    shown = _shown(revision, digest)
    made = candidates_bounded(shown.picture.data or b"", shown.width, forms_of(revision), start=settings.HELPERS_START)
    for one in made:
        LighterFile.objects.get_or_create(
            workspace=revision.mailing.workspace,
            picture=digest,
            shown_width=shown.width,
            form=one.form,
            quality=one.quality,
            width=one.width,
            defaults={"height": one.height, "octets": one.octets, "likeness": one.likeness, "blob_sha256": store.keep(one.data)},
        )


def choose(user: User, revision: Revision, digest: str, file_id: int | None) -> None:
    """Say which file is to stand for a picture; None where it is to stay as it is. The last word holds.

    Raises:
        NotAllowed, Refused: not permitted; released; there is no such file, or the message does not show the picture.
    """
    permit(user, "mailing:change", revision.mailing.workspace)
    shown = _shown(revision, digest)
    files = LighterFile.objects.filter(workspace=revision.mailing.workspace, picture=digest)
    file = files.filter(pk=file_id).first() if file_id is not None else None
    if file_id is not None and file is None:
        raise Refused("There is no such file for this picture; have its files made again.")
    with open_mailing(revision.mailing_id):
        before = ChosenFile.objects.filter(revision=revision, picture=digest).first()
        if before is not None and before.file_id == (file.pk if file is not None else None):
            return
        ChosenFile.objects.update_or_create(revision=revision, picture=digest, defaults={"file": file})
        name = candidate_of(file).words if file is not None else "as it is"
        record(
            "picture.file-chosen",
            actor=user,
            mailing=revision.mailing,
            revision=revision.number,
            picture=shown.picture.name[:200],
            file=name,
        )


def chosen_of(revision: Revision) -> dict[str, LighterFile | None]:
    """The files that somebody chose, by the digests of pictures; None for pictures that are to stay as they are."""
    return {one.picture: one.file for one in ChosenFile.objects.filter(revision=revision).select_related("file")}


def candidate_of(file: LighterFile, data: bytes = b"") -> Candidate:
    """A kept file as the core knows it; without its octets unless they are given."""
    form: Form = file.form  # type: ignore[assignment]
    return Candidate(form, file.quality, width=file.width, height=file.height, likeness=file.likeness, data=data)


def lighter_files(revision: Revision) -> bytes:
    """A zip of the files that were chosen, and for all other pictures of those that ``images.saving`` told of.

    Raises:
        Refused: there are none, or making them takes more than it may.
    """
    _, made = _lighter(revision)
    return package_of([Handed(one.name, one.key if one.where == "elsewhere" else "", len(one.data or b""), file) for one, file in made])


def put_lighter_in(user: User, revision: Revision) -> tuple[Revision, list[str]]:
    """The next revision, with the lighter files in the place of the pictures that travel along; and the names of these.

    Raises:
        Refused: as for :func:`lighter_files`; the revision is not the newest, or its pictures lie elsewhere.
        NotAllowed: the person may not change the message.
    """
    newest = revision.mailing.revisions.last()
    if newest is None or newest.pk != revision.pk:
        raise Refused(f"Revision {revision.number} is not the newest; put the pictures into the newest one.")
    message, made = _lighter(revision)
    chosen = {picture.key: file for picture, file in made if can_take(message, picture)}
    data, placed = with_lighter(message, chosen)
    if not placed:
        raise Refused("The pictures that could be lighter lie elsewhere; save the lighter files and put them on their server.")
    name = revision.file_name if message.form == "eml" else f"{revision.file_name.rpartition('.')[0] or 'message'}.zip"
    return add_revision(user, revision.mailing, data, name), placed


def _lighter(revision: Revision) -> tuple[Message, list[tuple[Picture, Candidate]]]:
    walk, message = walk_of(revision), message_to_check(revision)
    told = {str(found.record.data.get("key")) for found in walk.findings if found.record.check_id == "images.saving"}
    chosen = chosen_of(revision)
    pictures = [picture for picture in _pictures(message, walk) if picture.data is not None]
    made: dict[str, Candidate] = {
        picture.key: candidate_of(file, store.fetch(file.blob_sha256))
        for picture in pictures
        if (file := chosen.get(picture.digest)) is not None
    }
    wanted = [picture for picture in pictures if picture.key in told and picture.digest not in chosen]
    made |= _proposed(revision, message, walk, wanted)
    if not made:
        raise Refused("No picture of this revision is known to be lighter with the same look, and no file was chosen.")
    return message, [(picture, made[picture.key]) for picture in pictures if picture.key in made]


def _proposed(revision: Revision, message: Message, walk: Walk, pictures: list[Picture]) -> Mapping[str, Candidate]:
    given = [(picture.data or b"", shown_width(message, walk.context, picture)) for picture in pictures]
    try:
        made = lighter_bounded(given, least_likeness(revision), start=settings.HELPERS_START) if given else []
    except PastBudget as past:
        raise Refused(f"The lighter pictures cannot be made: {past}.") from past
    return {picture.key: file for picture, file in zip(pictures, made, strict=True) if file is not None}


def least_likeness(revision: Revision) -> float:
    """How alike a lighter file must look in the house, 0 to 1."""
    options = options_of(revision.mailing.workspace, "images.saving")
    assert isinstance(options, SavingOptions)
    return options.least_likeness


def looked_at(revision: Revision, fingerprint: str, side: str) -> bytes | None:
    """A picture that could be lighter, ``before`` or ``after``, as a PNG of our own making; None where no finding told of it.

    Raises:
        Refused: making it takes more than it may.
    """
    walk = walk_of(revision)
    found = next((one for one in walk.findings if one.record.check_id == "images.saving" and one.record.fingerprint == fingerprint), None)
    message = message_to_check(revision)
    pictures = _pictures(message, walk) if found is not None else []
    picture = next((one for one in pictures if found is not None and one.key == found.record.data.get("key")), None)
    if picture is None or picture.data is None:
        return None
    shown = shown_width(message, walk.context, picture)
    try:
        both = before_and_after_bounded(picture.data, shown, least_likeness(revision), start=settings.HELPERS_START)
    except PastBudget as past:
        raise Refused(f"The picture cannot be shown: {past}.") from past
    return both[side == "after"] if both is not None else None


def file_looked_at(revision: Revision, file_id: int, side: str) -> bytes | None:
    """The same of a file that was made to choose from.

    Raises:
        Refused: making it takes more than it may; the message does not show the picture any more.
    """
    file = LighterFile.objects.filter(pk=file_id, workspace=revision.mailing.workspace).first()
    if file is None:
        return None
    shown = _shown(revision, file.picture)
    try:
        made = store.fetch(file.blob_sha256)
        return laid_over_bounded(shown.picture.data or b"", made, file.shown_width, start=settings.HELPERS_START)[side == "after"]
    except PastBudget as past:
        raise Refused(f"The picture cannot be shown: {past}.") from past
