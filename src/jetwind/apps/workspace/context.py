"""The facts of the house in the top line of every page."""

from __future__ import annotations

from typing import Any

from django.http import HttpRequest

from jetwind.apps.accounts.models import User
from jetwind.apps.ui.refusal import NotAllowed
from jetwind.apps.workspace.access import membership_of, memberships_of


def house(request: HttpRequest) -> dict[str, Any]:
    """The workspaces of the person who is signed in, the one they work in, and how much waits for them there. It asks the database nothing that the page has not asked."""
    user = getattr(request, "user", None)
    if not isinstance(user, User):
        return {}
    try:
        here = membership_of(user)
    except NotAllowed:
        return {}
    return {
        "workspaces": [one.workspace for one in memberships_of(user)],
        "own_workspace": here.workspace,
        "own_roles": here.roles,
        "own_unread": getattr(here, "unread", 0),
    }
