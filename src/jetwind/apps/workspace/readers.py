"""Sample readers: kept one by one, taken in from a file, made to be awkward."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction
from django.utils.crypto import salted_hmac

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.apps.workspace.services import tell_of_settings
from jetwind.core.message import Sample
from jetwind.core.readers import ReadersFile, UnusableReaders, awkward_readers, fewest, masked, read_readers, told_apart

#: Readers of a workspace: every message is merged for each of them.
MOST = 500
#: Columns that are no fields of a message but belong to the reader.
_OWN = ("email", "time_zone", "remark")


@dataclass(frozen=True, slots=True)
class Added:
    """What came of adding readers: how many are new, and the names of those that were there already and stayed as they were.

    ``form`` is how the file was read; ``left_out`` are readers of it that show nothing that those taken do not.
    """

    number: int
    kept: tuple[str, ...]
    form: str = ""
    left_out: int = 0


@transaction.atomic
def keep_reader(user: User, reader: SampleReader) -> SampleReader:
    """Add or change a sample reader.

    Raises:
        NotAllowed, Refused: not permitted; another reader has the name.
    """
    permit(user, "workspace:configure", reader.workspace)
    try:
        with transaction.atomic():
            reader.save()
    except IntegrityError:
        raise Refused(f"There is a reader “{reader.name}” already; choose another name.") from None
    record("workspace.changed", actor=user, what=f"the sample reader {reader.name}", house=reader.workspace_id)
    tell_of_settings(reader.workspace)
    return reader


def reader_values(reader: SampleReader) -> dict[str, Any]:
    """Field values of a reader, its address and zone among them."""
    return {**reader.values, "email": reader.email, "time_zone": reader.time_zone}


@transaction.atomic
def add_awkward(user: User, workspace: Workspace) -> Added:
    """Add a reader for each thing that messages stumble over, with a value for each field of the field list.

    Raises:
        NotAllowed, Refused: not permitted; there is no field list, or no room.
    """
    permit(user, "workspace:configure", workspace)
    if not workspace.field_list:
        raise Refused("The field list is empty, so there is nothing to fill in. It is kept under Settings.")
    return _add(user, workspace, awkward_readers(workspace.field_list), "awkward readers")


def take_in_readers(user: User, workspace: Workspace, data: bytes, *, mask: bool = False) -> Added:
    """Add the readers of a CSV, vCard or JSON file: all of them or none; of a file that looks like an audience, the few that differ.

    ``mask`` puts other letters in the place of names and addresses before anything is kept.

    Raises:
        NotAllowed, Refused: not permitted; the file cannot be read, or a reader cannot be kept; the sentence names it.
    """
    permit(user, "workspace:configure", workspace)
    try:
        found: ReadersFile = read_readers(data)
    except UnusableReaders as unusable:
        raise Refused(f"The file cannot be used: {unusable}.") from unusable
    readers: Sequence[Sample] = found.readers
    if len(readers) > workspace.readers_of_a_file:
        readers = [readers[number] for number in fewest(readers, workspace.readers_of_a_file)]
    if mask:
        key = salted_hmac("jetwind.readers", str(workspace.pk)).digest()
        # Two short names may come out alike.
        readers = told_apart([masked(reader, key) for reader in readers])
    with transaction.atomic():
        added = _add(user, workspace, readers, "readers of a file")
    return Added(added.number, added.kept, found.form, len(found.readers) - len(readers))


def _add(user: User, workspace: Workspace, readers: Iterable[Sample], what: str) -> Added:
    locked = Workspace.objects.select_for_update().get(pk=workspace.pk)
    there = set(locked.readers.values_list("name", flat=True))
    new = [_as_row(locked, reader) for reader in readers if reader.name not in there]
    if len(there) + len(new) > MOST:
        raise Refused(f"A workspace has at most {MOST} sample readers; these would make {len(there) + len(new)}.")
    try:
        with transaction.atomic():
            SampleReader.objects.bulk_create(new)
    except IntegrityError:
        raise Refused("Somebody added a reader of one of these names meanwhile. Nothing was added; try again.") from None
    if new:
        record("workspace.changed", actor=user, what=f"{len(new)} {what}", house=locked.pk)
        tell_of_settings(locked)
    return Added(len(new), tuple(reader.name for reader in readers if reader.name in there))


def _as_row(workspace: Workspace, reader: Sample) -> SampleReader:
    values = dict(reader.values)
    own = {name: values.pop(name, "") for name in _OWN}
    row = SampleReader(workspace=workspace, name=reader.name, values=values, **own)
    try:
        row.full_clean(validate_unique=False, validate_constraints=False)
    except ValidationError as fault:
        name, said = next(iter(fault.message_dict.items()))
        raise Refused(f"“{reader.name[:60]}” cannot be kept: {name.replace('_', ' ')}: {said[0]}") from fault
    return row


def as_samples(workspace: Workspace) -> list[Sample]:
    """The readers of a workspace as files hold them."""
    return [
        Sample(reader.name, {**{name: value for name in _OWN if (value := getattr(reader, name))}, **_texts(reader.values)})
        for reader in workspace.readers.all()
    ]


def _texts(values: dict[str, Any]) -> dict[str, str]:
    return {name: str(value) for name, value in values.items()}
