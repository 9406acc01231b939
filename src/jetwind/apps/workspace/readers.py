"""Sample readers: kept one by one, taken in from a file, made to be awkward."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils.crypto import salted_hmac

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.ui.merging import merged_fields
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.apps.workspace.services import tell_of_settings
from jetwind.core.message import Sample
from jetwind.core.readers import ReadersFile, UnusableReaders, awkward_readers, masked, told_apart
from jetwind.core.readers.files import NAME
from jetwind.engines.bounded import PastBudget, fewest_bounded, read_readers_bounded

#: Readers of a workspace: every message is merged for each of them.
MOST = 500
#: Columns that are no fields of a message but belong to the reader.
_OWN = ("email", "time_zone", "remark")


@dataclass(frozen=True, slots=True)
class Added:
    """The outcome of adding readers: the number of new ones, and the names of readers who were there before and stayed unchanged.

    ``form`` is how the file was read; ``left_out`` are readers of it that show nothing that those taken do not.
    """

    number: int
    kept: tuple[str, ...]
    form: str = ""
    left_out: int = 0


_SINGLE = ("name", "email", "time_zone", "remark")


def shown_reader(reader: SampleReader) -> dict[str, Any]:
    """A reader as plain values: what a page shows, and what :func:`keep_reader` merges against."""
    return {name: getattr(reader, name) for name in _SINGLE} | {f"value of {name}": value for name, value in reader.values.items()}


@transaction.atomic
def keep_reader(user: User, reader: SampleReader, shown: Mapping[str, Any] | None = None) -> SampleReader:
    """Add or change a sample reader. What changed against ``shown`` is merged into what holds now.

    Raises:
        NotAllowed, Refused: not permitted; another reader has the name; a value that somebody else changed, or the reader was removed.
    """
    permit(user, "workspace:configure", reader.workspace)
    Workspace.objects.select_for_update(no_key=True).get(pk=reader.workspace_id)
    if reader.pk is not None:
        now = SampleReader.objects.filter(pk=reader.pk).first()
        if now is None:
            raise Refused(f"Somebody removed {reader.name} meanwhile; add the reader as a new one.")
        kept = merged_fields(shown, shown_reader(reader), shown_reader(now))
        for name in _SINGLE:
            setattr(reader, name, kept[name])
        reader.values = now.values | {name: kept[f"value of {name}"] for name in reader.values if kept[f"value of {name}"] is not None}
    with refusing("one_reader_of_a_name", f"There is a reader “{reader.name}” already; choose another name."):
        reader.save()
    record("workspace.changed", actor=user, what=f"the sample reader {reader.name}", house=reader.workspace_id)
    tell_of_settings(reader.workspace)
    return reader


@transaction.atomic
def remove_reader(user: User, reader: SampleReader) -> None:
    """Take a sample reader out of the house; removed twice, it is gone once.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:configure", reader.workspace)
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=reader.workspace_id)
    removed, _ = locked.readers.filter(pk=reader.pk).delete()
    if removed:
        record("workspace.changed", actor=user, what=f"the sample readers: {reader.name} was removed", house=locked.pk)
        tell_of_settings(locked)


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


@dataclass(frozen=True, slots=True)
class ColumnOfFile:
    """A column of a file: its heading, the first values, and what it is taken for: a field, ``reader`` for the name, empty to leave it out."""

    heading: str
    values: tuple[str, ...]
    field: str


@dataclass(frozen=True, slots=True)
class Preview:
    """The contents of a file, before anything of it is taken: how it was read, how many readers, and its columns with their first values."""

    form: str
    readers: int
    takes: int
    columns: tuple[ColumnOfFile, ...]
    choices: tuple[str, ...]

    @property
    def rows(self) -> list[list[str]]:
        """The first rows, a value for each column."""
        return [[column.values[number] for column in self.columns] for number in range(min(PREVIEWED, self.readers))]


#: Rows that a preview shows, and columns: of more, those are left as they are.
PREVIEWED, MOST_COLUMNS = 5, 40


def preview(user: User, workspace: Workspace, data: bytes) -> Preview:
    """The contents of a file, with each column taken for what it was taken for last time, or for the field that has its name.

    Raises:
        NotAllowed, Refused: not permitted; the file cannot be read.
    """
    permit(user, "workspace:configure", workspace)
    found = _read(data)
    taken = columns_taken(workspace, found.fields)
    columns = tuple(
        ColumnOfFile(heading, tuple(reader.values.get(heading, "")[:60] for reader in found.readers[:PREVIEWED]), taken[heading])
        for heading in found.fields[:MOST_COLUMNS]
    )
    choices = tuple(dict.fromkeys([*workspace.field_list, *_OWN]))
    return Preview(found.form, len(found.readers), min(len(found.readers), workspace.readers_of_a_file), columns, choices)


def columns_taken(workspace: Workspace, headings: Iterable[str]) -> dict[str, str]:
    """For each heading the field it is taken for: as last time, by its name, or as a field of that very name."""
    known = {_plain(name): name for name in (*workspace.field_list, *_OWN, NAME)}
    return {heading: workspace.reader_columns.get(heading, known.get(_plain(heading), heading)) for heading in headings}


def _plain(name: str) -> str:
    return re.sub(r"[\W_]+", "", name.casefold())


def _read(data: bytes) -> ReadersFile:
    try:
        return read_readers_bounded(data, start=settings.HELPERS_START)
    except (UnusableReaders, PastBudget) as unusable:
        raise Refused(f"The file cannot be used: {unusable}.") from unusable


def _under_fields(readers: Iterable[Sample], columns: Mapping[str, str]) -> tuple[Sample, ...]:
    """Readers with each value under the field that its column is taken for; of two columns for one field, the first that is filled."""
    found: list[Sample] = []
    for reader in readers:
        values: dict[str, str] = {}
        name = reader.name
        for heading, value in reader.values.items():
            field = columns.get(heading, heading)
            if field == NAME:
                name = value.strip() or name
            elif field and not values.get(field):
                values[field] = value
        found.append(Sample(name, values))
    return told_apart(found)


def take_in_readers(
    user: User, workspace: Workspace, data: bytes, *, mask: bool = False, columns: Mapping[str, str] | None = None
) -> Added:
    """Add the readers of a CSV, vCard or JSON file: all of them or none; of a file that looks like an audience, the few that differ.

    ``columns`` says by heading what each column is taken for (a field, ``reader`` for the name, nothing to leave it out), and is
    remembered for the next file; without it the headings are taken as last time. ``mask`` puts other letters in the place of names and
    addresses before anything is kept.

    Raises:
        NotAllowed, Refused: not permitted; the file cannot be read, or a reader cannot be kept; the sentence names it.
    """
    permit(user, "workspace:configure", workspace)
    found = _read(data)
    chosen = {heading: field for heading, field in (columns or {}).items() if heading in found.fields}
    for field in chosen.values():
        if len(field) > 60:
            raise Refused(f"“{field[:40]}…” is too long for the name of a field.")
    readers: Sequence[Sample] = _under_fields(found.readers, {**columns_taken(workspace, found.fields), **chosen})
    if len(readers) > workspace.readers_of_a_file:
        try:
            readers = fewest_bounded(readers, workspace.readers_of_a_file, start=settings.HELPERS_START)
        except PastBudget as past:
            raise Refused(f"Choosing among the {len(found.readers):,} readers of the file cannot be done: {past}.") from past
    if mask:
        key = salted_hmac("jetwind.readers", str(workspace.pk)).digest()
        # Two short names may come out alike.
        readers = told_apart([masked(reader, key) for reader in readers])
    with transaction.atomic():
        added = _add(user, workspace, readers, "readers of a file")
        _remember(workspace, chosen)
    return Added(added.number, added.kept, found.form, len(found.readers) - len(readers))


def _remember(workspace: Workspace, columns: Mapping[str, str]) -> None:
    """Keep what columns were taken for, for the next file; the newest of many."""
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    kept = {**{heading: field for heading, field in locked.reader_columns.items() if heading not in columns}, **columns}
    locked.reader_columns = dict(list(kept.items())[-_MOST_REMEMBERED:])
    locked.save(update_fields=["reader_columns"])
    workspace.reader_columns = locked.reader_columns


#: Headings of columns that are remembered.
_MOST_REMEMBERED = 200


def _add(user: User, workspace: Workspace, readers: Iterable[Sample], what: str) -> Added:
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    there = set(locked.readers.values_list("name", flat=True))
    new = [_as_row(locked, reader) for reader in readers if reader.name not in there]
    if len(there) + len(new) > MOST:
        raise Refused(f"A workspace has at most {MOST} sample readers; these would make {len(there) + len(new)}.")
    with refusing("one_reader_of_a_name", "Somebody added a reader of one of these names meanwhile. Nothing was added; try again."):
        SampleReader.objects.bulk_create(new)
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
