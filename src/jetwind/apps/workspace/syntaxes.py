"""Field syntaxes of a workspace: the shipped one, and those that it describes by their marks."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from django.db import IntegrityError, transaction
from django.db.models import ProtectedError

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.ui.refusal import Refused
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import FieldSyntax, Workspace
from jetwind.apps.workspace.services import tell_of_settings
from jetwind.core.fields import LIQUID, Syntax, UnusableSyntax, as_description, described

#: Syntaxes of a workspace; one for each sending system is enough.
MOST = 20


def shipped_syntax(workspace: Workspace) -> Syntax:
    """Liquid, with values escaped or not as this house's sending system does it."""
    return replace(LIQUID, escapes=workspace.escapes_values)


@transaction.atomic
def keep_syntax(user: User, workspace: Workspace, given: Mapping[str, Any], row: FieldSyntax | None = None) -> FieldSyntax:
    """Describe a syntax, or one that is there anew.

    Raises:
        NotAllowed, Refused: not permitted; it is no syntax; the name is taken; there are too many.
    """
    permit(user, "workspace:configure", workspace)
    try:
        syntax = described({key: value for key, value in given.items() if value not in ("", [], None)})
    except UnusableSyntax as unusable:
        raise Refused(f"This cannot be used as a syntax: {unusable}.") from unusable
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    if syntax.name.casefold() == LIQUID.name.casefold():
        raise Refused(f"“{LIQUID.name}” is the name of the shipped syntax; choose another.")
    if row is None and locked.syntaxes.count() >= MOST:
        raise Refused(f"A workspace has at most {MOST} syntaxes of its own.")
    kept = row or FieldSyntax(workspace=locked)
    kept.name, kept.description = syntax.name, as_description(syntax)
    try:
        with transaction.atomic():
            kept.save()
    except IntegrityError:
        raise Refused(f"There is a syntax “{syntax.name}” already; choose another name.") from None
    record("workspace.changed", actor=user, what=f"the field syntax {syntax.name}", house=locked.pk)
    tell_of_settings(locked)
    return kept


@transaction.atomic
def remove_syntax(user: User, row: FieldSyntax) -> None:
    """Take a syntax out of the house.

    Raises:
        NotAllowed, Refused: not permitted; a message is written in it.
    """
    permit(user, "workspace:configure", row.workspace)
    try:
        row.delete()
    except ProtectedError as used:
        title = next(iter(used.protected_objects))
        raise Refused(f"“{row.name}” stays: “{title}” and perhaps others are written in it.") from None
    record("workspace.changed", actor=user, what=f"the field syntaxes: {row.name} was removed", house=row.workspace_id)
