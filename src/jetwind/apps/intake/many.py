"""Many messages taken in at once, from a zip or a folder: in the background, file by file, with a line for each."""

from __future__ import annotations

import io
import posixpath
import zipfile
from collections.abc import Sequence

from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Batch, BatchFile
from jetwind.apps.intake.services import take_in
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.desk import at_the_workbench
from jetwind.apps.workspace.models import Workspace
from jetwind.core.message.package import LARGEST_INPUT, is_clutter

BATCH = "batch"
#: Octets of everything that is brought at once, and files in it.
LARGEST, MOST = 100 * 1024 * 1024, 500
_MESSAGES = (".eml", ".html", ".htm", ".zip")
_ANY_BROKEN = (zipfile.BadZipFile, zipfile.LargeZipFile, EOFError, NotImplementedError, RuntimeError, OSError, ValueError, KeyError)


def bring(user: User, workspace: Workspace, files: Sequence[tuple[str, bytes]]) -> Batch:
    """Keep what somebody brought, one zip or several files, and have it taken in.

    Raises:
        NotAllowed, Refused: not permitted; nothing, too much or too many; a single file that is no zip.
    """
    permit(user, "mailing:take-in", workspace)
    if not files:
        raise Refused("No file came along; choose a zip, a folder or several files.")
    if len(files) > MOST:
        raise Refused(f"{len(files)} files were chosen; one go takes {MOST}.")
    octets = sum(len(data) for _, data in files)
    if octets > LARGEST:
        raise Refused(f"The files have {octets / 1024 / 1024:.0f} MB together; one go takes {LARGEST // 1024 // 1024} MB.")
    name, data = files[0]
    if len(files) > 1:
        name, data = f"{len(files)} files", _packed(files)
    elif not data.startswith(b"PK"):
        raise Refused(f"“{name}” is one message, or none; take it in on Departures. Many come as a zip, a folder or several files.")
    with transaction.atomic():
        made = Batch.objects.create(workspace=workspace, by=user, name=name[:200], blob_sha256=store.keep(data))
        ask(made)
    return made


def ask(batch: Batch) -> Work:
    """Have a batch taken in, or gone on with: files that were taken in, or refused, are left as they are."""
    return jobs.start(
        BATCH,
        f"batch:{batch.pk}",
        doing="waiting for a worker",
        enqueue=lambda work_id: jobs.defer("intake.take_in_many", batch_id=batch.pk, work_id=work_id),
    )


def take_in_all(batch_id: int, work_id: int) -> None:
    """Take in the files of a batch one by one. Safe to run twice, and to go on with.

    Raises:
        Cancelled, GivenBack: somebody asked for it to stop; the worker is being stopped.
        Failed: the zip cannot be read.
    """
    try:
        names = at_the_workbench(names_of, batch_id)
    except Refused as wrong:
        raise jobs.Failed(wrong.sentence) from wrong
    done = set(BatchFile.objects.filter(batch=batch_id).values_list("number", flat=True))
    for number, name in jobs.each(work_id, list(enumerate(names)), lambda one: f"taking in {posixpath.basename(one[1])}"):
        if number in done:
            continue
        try:
            at_the_workbench(take_one, batch_id, number, name)
        except jobs.Failed as failed:
            BatchFile.objects.get_or_create(batch_id=batch_id, number=number, defaults={"name": name[:300], "refused": str(failed)[:300]})


def names_of(batch_id: int) -> list[str]:
    """The names of the files of a batch that may be messages or are refused one by one, in their order.

    Raises:
        Refused: the zip cannot be read, or has too many files.
    """
    batch = Batch.objects.get(pk=batch_id)
    try:
        with zipfile.ZipFile(io.BytesIO(store.fetch(batch.blob_sha256))) as archive:
            found = [entry.filename for entry in _entries(archive)]
    except _ANY_BROKEN as fault:
        raise Refused(f"“{batch.name}” is a broken zip.") from fault
    if len(found) > MOST:
        raise Refused(f"“{batch.name}” holds {len(found):,} files; one go takes {MOST}.")
    return found


def take_one(batch_id: int, number: int, name: str) -> None:
    """Take in one file of a batch, or note why it is refused: both exactly once, whatever dies on the way."""
    batch = Batch.objects.select_related("workspace", "by").get(pk=batch_id)
    row = BatchFile(batch=batch, number=number, name=name.replace("\0", "")[:300])
    try:
        data = _content(batch, number, name)
        with transaction.atomic():
            # The row comes first: where two workers meet, the second one waits here, and takes nothing in.
            row.save(force_insert=True)
            row.mailing = take_in(batch.by, batch.workspace, data, posixpath.basename(row.name) or "message")
            row.save(update_fields=["mailing"])
    except Refused as refused:
        row.pk, row.mailing, row.refused = None, None, refused.sentence[:300]
        row._state.adding = True
        row.save(force_insert=True)


def _entries(archive: zipfile.ZipFile) -> list[zipfile.ZipInfo]:
    """The files of a zip, in its order. Their places number them, since two files of a zip may have one name."""
    return [entry for entry in archive.infolist() if not entry.is_dir() and not is_clutter(entry.filename)]


def _content(batch: Batch, number: int, name: str) -> bytes:
    if not name.lower().endswith(_MESSAGES):
        raise Refused(f"“{posixpath.basename(name)[:80]}” is no message: those end in {', '.join(_MESSAGES)}.")
    try:
        with zipfile.ZipFile(io.BytesIO(store.fetch(batch.blob_sha256))) as archive, archive.open(_entries(archive)[number]) as file:
            data = file.read(LARGEST_INPUT + 1)
    except _ANY_BROKEN as fault:
        raise Refused(f"“{posixpath.basename(name)[:80]}” cannot be read from the zip.") from fault
    return data


def _packed(files: Sequence[tuple[str, bytes]]) -> bytes:
    """Several files as one zip, under their own names."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as archive:
        taken: set[str] = set()
        for name, data in files:
            own, number = name, 1
            while own in taken:
                number += 1
                stem, dot, suffix = name.rpartition(".")
                own = f"{stem}-{number}.{suffix}" if dot else f"{name}-{number}"
            taken.add(own)
            archive.writestr(own, data)
    return out.getvalue()
