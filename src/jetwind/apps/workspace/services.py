"""Changing the house."""

from __future__ import annotations

import re
from typing import Any

from django.db import transaction

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import SampleReader, Workspace

_DOMAIN = re.compile(r"(?=.{1,120}\Z)[a-z0-9](?:[a-z0-9-]*[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9-]*[a-z0-9])?)+\Z")
_FIELD = re.compile(r"[A-Za-z_][\w-]*(?:\.[\w-]+)*\Z")


@transaction.atomic
def configure(
    user: User, workspace: Workspace, *, field_list: str, practice_domains: str, test_domains: str, sign_offs_required: int
) -> None:
    """Set the house's lists, given as words parted by spaces or commas.

    Raises:
        NotAllowed, Refused: not permitted; a domain or field name that is none.
    """
    permit(user, "workspace:configure", workspace)
    fields, practice, tests = (
        sorted(set(re.split(r"[\s,]+", text.strip())) - {""}) for text in (field_list, practice_domains.lower(), test_domains.lower())
    )
    for name in fields:
        if not _FIELD.match(name):
            raise Refused(f"“{name}” cannot be a field name: letters, digits, “_” and “.” only.")
    for domain in (*practice, *tests):
        if not _DOMAIN.match(domain):
            raise Refused(f"“{domain}” is not a domain such as saltmarsh-kiln.example.")
    workspace.field_list, workspace.practice_domains, workspace.test_domains = fields, practice, tests
    workspace.sign_offs_required = sign_offs_required
    workspace.full_clean()
    workspace.save()
    record("workspace.changed", actor=user, what="the settings of the workspace")


@transaction.atomic
def keep_reader(user: User, reader: SampleReader) -> SampleReader:
    """Add or change a sample reader.

    Raises:
        NotAllowed: not permitted.
    """
    permit(user, "workspace:configure", reader.workspace)
    reader.save()
    record("workspace.changed", actor=user, what=f"the sample reader {reader.name}")
    return reader


def reader_values(reader: SampleReader) -> dict[str, Any]:
    """Field values of a reader, its address and zone among them."""
    return {**reader.values, "email": reader.email, "time_zone": reader.time_zone}
