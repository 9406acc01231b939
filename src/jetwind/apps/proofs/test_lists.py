"""Test lists: the people who get test sends, typed one by one or brought as a file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from django.conf import settings
from django.core.exceptions import ValidationError
from django.core.validators import validate_email
from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.proofs.models import TestAddress, TestList
from jetwind.apps.proofs.reach import is_allowed
from jetwind.apps.ui.merging import merged_fields
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import SampleReader, Workspace
from jetwind.core.message import Sample
from jetwind.core.readers import ReadersFile, UnusableReaders, written
from jetwind.core.source.cells import as_csv
from jetwind.engines.bounded import PastBudget, read_readers_bounded

#: A test list is colleagues, not an audience.
MOST_ADDRESSES = 50
#: Headings under which a file of people gives the address, the sample reader and the devices, in the languages of the house's files.
_ADDRESS, _READER, _DEVICES = ("email", "e-mail", "address", "mail"), ("sample reader",), ("devices", "device", "note")


@dataclass(frozen=True, slots=True)
class Person:
    """A person of a test list: address, name, the sample reader by default, and the devices in the person's own words."""

    address: str
    name: str = ""
    reader: SampleReader | None = None
    devices: str = ""


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


@transaction.atomic
def make_usual(user: User, test_list: TestList) -> None:
    """Have the form for a new test send begin with a list.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:configure", test_list.workspace)
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=test_list.workspace_id)
    locked.test_lists.filter(is_usual=True).update(is_usual=False)
    locked.test_lists.filter(pk=test_list.pk).update(is_usual=True)
    record("workspace.changed", actor=user, what=f"the usual test list is {test_list.name}", house=locked.pk)


def add_person(user: User, test_list: TestList, person: Person) -> TestAddress:
    """Put a person on a test list.

    Raises:
        NotAllowed, Refused: not permitted; no address; a domain that test sends may not reach; on the list already; list full.
    """
    workspace = test_list.workspace
    permit(user, "workspace:configure", workspace)
    checked = _checked(workspace, person)
    with transaction.atomic():
        TestList.objects.select_for_update(no_key=True).get(pk=test_list.pk)
        if test_list.addresses.filter(address__iexact=checked.address).exists():
            raise Refused(f"{checked.address} is on “{test_list.name}” already.")
        if test_list.addresses.count() >= MOST_ADDRESSES:
            raise Refused(f"“{test_list.name}” has {MOST_ADDRESSES} addresses; a test list is for colleagues.")
        made = _row(test_list, checked)
        made.save()
        record("workspace.changed", actor=user, what=f"the test list {test_list.name}: {made.address} added", house=workspace.pk)
    return made


def shown(entry: TestAddress) -> dict[str, Any]:
    """The entries of a person as a form shows them; the reader is a number."""
    return {"name": entry.name, "reader": entry.reader_id, "devices": entry.devices}


@transaction.atomic
def change_person(user: User, entry: TestAddress, given: Mapping[str, Any], before: Mapping[str, Any] | None = None) -> TestAddress:
    """Say of a person of a list another name, another reader or other devices. The address stays.

    What changed against ``before``, the entries that the page showed, is merged into what holds now.

    Raises:
        NotAllowed, Refused: not permitted; too long a name; the person was removed, or an entry was changed meanwhile.
    """
    workspace = entry.list.workspace
    permit(user, "workspace:configure", workspace)
    locked = TestAddress.objects.select_for_update(no_key=True).filter(pk=entry.pk).first()
    if locked is None:
        raise Refused(f"Somebody took {entry.address} off “{entry.list.name}” meanwhile.")
    holds = merged_fields(before, given, shown(locked))
    reader = workspace.readers.filter(pk=holds["reader"]).first() if holds["reader"] else None
    checked = _checked(workspace, Person(locked.address, holds["name"], reader, holds["devices"]))
    locked.name, locked.reader, locked.devices = checked.name, checked.reader, checked.devices
    locked.save()
    record("workspace.changed", actor=user, what=f"the test list {entry.list.name}: {entry.address} described anew", house=workspace.pk)
    return locked


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


def take_in_people(user: User, test_list: TestList, data: bytes) -> tuple[int, int]:
    """Put the people of a CSV, vCard or JSON file on a list: all of them or none. Returns how many were added, and how many were there.

    Raises:
        NotAllowed, Refused: not permitted; the file cannot be read; a person without an address, or with one outside; too many.
    """
    workspace = test_list.workspace
    permit(user, "workspace:configure", workspace)
    readers = {reader.name.casefold(): reader for reader in workspace.readers.all()}
    people = [_checked(workspace, _person(sample, readers)) for sample in _read(data).readers]
    with transaction.atomic():
        TestList.objects.select_for_update(no_key=True).get(pk=test_list.pk)
        there = {address.casefold() for address in test_list.addresses.values_list("address", flat=True)}
        new: dict[str, Person] = {}
        for person in people:
            if person.address.casefold() not in there:
                new.setdefault(person.address.casefold(), person)
        if len(there) + len(new) > MOST_ADDRESSES:
            raise Refused(
                f"“{test_list.name}” would have {len(there) + len(new)} addresses; a test list is for colleagues, at most {MOST_ADDRESSES}."
            )
        TestAddress.objects.bulk_create(_row(test_list, person) for person in new.values())
        if new:
            what = f"the test list {test_list.name}: {len(new)} people of a file added"
            record("workspace.changed", actor=user, what=what, house=workspace.pk)
    return len(new), len(people) - len(new)


def as_file(test_list: TestList, form: str) -> bytes:
    """The people of a list as a file: ``csv`` (RFC 4180) or ``vcf`` (vCard, RFC 6350), in UTF-8."""
    people = [
        (entry.name, entry.address, entry.reader.name if entry.reader else "", entry.devices)
        for entry in test_list.addresses.select_related("reader")
    ]
    headings = ("name", "email", "sample reader", "devices")
    if form == "csv":
        return as_csv(headings, people).encode()
    return written(
        [Sample(name or address, dict(zip(headings[1:], (address, *said), strict=True))) for name, address, *said in people], form
    )


def _read(data: bytes) -> ReadersFile:
    try:
        return read_readers_bounded(data, start=settings.HELPERS_START)
    except UnusableReaders as unusable:
        raise Refused(f"The file cannot be read as a list of people: {unusable}.") from unusable
    except PastBudget as past:
        raise Refused(f"Reading the file cannot be done: {past}.") from past


def _person(sample: Sample, readers: dict[str, SampleReader]) -> Person:
    values = {name.strip().casefold(): value.strip() for name, value in sample.values.items()}

    def first(names: tuple[str, ...]) -> str:
        return next((values[name] for name in names if values.get(name)), "")

    address, reader, name = first(_ADDRESS), first(_READER), values.get("name") or sample.name
    if not address:
        raise Refused(f"“{name[:60]}” has no address in the file; a column “email” gives it. Nobody was added.")
    if reader and reader.casefold() not in readers:
        raise Refused(f"The file names the sample reader “{reader[:60]}”, and there is none of that name. Nobody was added.")
    return Person(address, "" if name == address else name, readers.get(reader.casefold()), first(_DEVICES))


def _checked(workspace: Workspace, person: Person) -> Person:
    """A person whose address may be reached, with one-line words.

    Raises:
        Refused: no address; a domain that test sends may not reach; too long a name or too many devices.
    """
    address, name, devices = (" ".join(text.split()) for text in (person.address, person.name, person.devices))
    try:
        validate_email(address)
    except ValidationError:
        raise Refused(f"“{address[:80]}” is not an e-mail address.") from None
    if not is_allowed(address, workspace):
        allowed = ", ".join(workspace.test_domains) or "none yet"
        raise Refused(f"{address} is outside the domains that test sends may reach ({allowed}).")
    if len(name) > 120:
        raise Refused(f"The name of {address} has more than 120 characters.")
    if len(devices) > 200:
        raise Refused(f"The devices of {address} have more than 200 characters.")
    return Person(address, name, person.reader, devices)


def _row(test_list: TestList, person: Person) -> TestAddress:
    return TestAddress(list=test_list, address=person.address, name=person.name, reader=person.reader, devices=person.devices)
