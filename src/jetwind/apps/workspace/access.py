"""Who may do what: asked by views before they show a button, and by services before they act."""

from __future__ import annotations

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import PERMISSIONS, roles_for
from jetwind.apps.ui.refusal import NotAllowed
from jetwind.apps.workspace.models import Membership, Workspace


def workspace_of(user: User) -> Workspace:
    """The workspace that a person works in.

    Raises:
        NotAllowed: the person belongs to none.
    """
    membership = Membership.objects.select_related("workspace").filter(user_id=user.pk).order_by("id").first()
    if membership is None:
        raise NotAllowed("You belong to no workspace yet; ask whoever runs Jetwind to add you to one.")
    user.known_membership = membership
    return membership.workspace


def roles_of(user: User, workspace: Workspace) -> frozenset[str]:
    """A person's roles."""
    membership = Membership.objects.filter(user=user, workspace=workspace).first()
    return frozenset(membership.roles) if membership else frozenset()


def may(user: User, permission: str, workspace: Workspace) -> bool:
    """Whether a role of the person includes the permission.

    Raises:
        KeyError: there is no such permission.
    """
    return bool(roles_for(permission) & roles_of(user, workspace))


def permissions_of(user: User, workspace: Workspace) -> frozenset[str]:
    """Everything that the person may do here, for the buttons of a page; whoever presses one is asked anew by :func:`permit`."""
    known = user.known_membership
    roles = frozenset(known.roles) if known is not None and known.workspace_id == workspace.pk else roles_of(user, workspace)
    return frozenset(permission for permission, holders in PERMISSIONS.items() if holders & roles)


def permit(user: User, permission: str, workspace: Workspace) -> None:
    """Go on only if the person may.

    Raises:
        NotAllowed: the person may not; the text says who may.
    """
    if not may(user, permission, workspace):
        who = " or ".join(sorted(roles_for(permission)))
        raise NotAllowed(f"This is for the {who}; your roles do not include it.")
