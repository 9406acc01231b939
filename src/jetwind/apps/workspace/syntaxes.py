"""Field syntaxes of a workspace: the shipped one, and those that it describes by their marks."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from django.db import transaction
from django.db.models import ProtectedError

from jetwind.apps.accounts.models import User
from jetwind.apps.audit.services import record
from jetwind.apps.ui.merging import merged_fields
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import permit
from jetwind.apps.workspace.models import FieldSyntax, Workspace
from jetwind.apps.workspace.services import tell_of_settings
from jetwind.core.fields import LIQUID, Syntax, UnusableSyntax, as_description, described

#: Syntaxes of a workspace; one for each sending system is enough.
MOST = 20


def shipped_syntax(workspace: Workspace) -> Syntax:
    """Liquid, with values escaped or not as this house's sending system does it."""
    return replace(LIQUID, escapes=workspace.escapes_values)


#: The entries of a description that a form shows.
ENTRIES = ("name", "open", "close", "default", "block-open", "block-close", "if", "else", "end", "comment-open", "comment-close")


def entries(description: Mapping[str, Any]) -> dict[str, Any]:
    """A description with each entry as a form shows it: words parted by blanks, nothing as an empty text."""
    shown = {key: " ".join(value) if isinstance(value := description.get(key, ""), list) else value for key in ENTRIES}
    return shown | {"escapes": bool(description.get("escapes"))}


@transaction.atomic
def keep_syntax(
    user: User, workspace: Workspace, given: Mapping[str, Any], row: FieldSyntax | None = None, shown: Mapping[str, Any] | None = None
) -> FieldSyntax:
    """Describe a syntax, or one that is there anew. What changed against ``shown`` is merged into what holds now.

    ``shown`` has the same entries as ``given``.

    Raises:
        NotAllowed, Refused: not permitted; it is no syntax; the name is taken; there are too many; a mark that somebody else changed.
    """
    permit(user, "workspace:configure", workspace)
    locked = Workspace.objects.select_for_update(no_key=True).get(pk=workspace.pk)
    if row is not None:
        row = locked.syntaxes.filter(pk=row.pk).first()
        if row is None:
            raise Refused("Somebody removed this syntax meanwhile; describe it as a new one.")
        given = merged_fields(shown, given, entries(row.description))
    try:
        syntax = described({key: value for key, value in given.items() if value not in ("", [], None)})
    except UnusableSyntax as unusable:
        raise Refused(f"This cannot be used as a syntax: {unusable}.") from unusable
    if syntax.name.casefold() == LIQUID.name.casefold():
        raise Refused(f"“{LIQUID.name}” is the name of the shipped syntax; choose another.")
    if row is None and locked.syntaxes.count() >= MOST:
        raise Refused(f"A workspace has at most {MOST} syntaxes of its own.")
    kept = row or FieldSyntax(workspace=locked)
    kept.name, kept.description = syntax.name, as_description(syntax)
    with refusing("one_syntax_of_a_name", f"There is a syntax “{syntax.name}” already; choose another name."):
        kept.save()
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
