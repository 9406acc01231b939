"""Who may do what: declared once for each view, and asked again by services before they act."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import wraps
from typing import Concatenate, Literal, ParamSpec, cast

from django.conf import settings
from django.db.models.functions import Coalesce
from django.http import HttpRequest
from django.http.response import HttpResponseBase
from django_htmx.middleware import HtmxDetails

from jetwind.apps.accounts.models import User
from jetwind.apps.accounts.permissions import PERMISSIONS, roles_for
from jetwind.apps.ui.again import tried_again
from jetwind.apps.ui.refusal import NotAllowed
from jetwind.apps.workspace.desk import at_the_desk
from jetwind.apps.workspace.desk_side import is_helper
from jetwind.apps.workspace.models import Membership, Workspace

Rest = ParamSpec("Rest")


class PersonRequest(HttpRequest):
    """A request of a person who is signed in and may send it, with the workspace that they work in and their roles there.

    ``asks`` makes every request one before it calls the view.
    """

    user: User
    workspace: Workspace
    roles: frozenset[str]
    #: What htmx says of the request; false where it did not send it.
    htmx: HtmxDetails


View = Callable[Concatenate[PersonRequest, Rest], HttpResponseBase]
Guarded = Callable[Concatenate[HttpRequest, Rest], HttpResponseBase]


@dataclass(frozen=True, slots=True)
class NeededPermissions:
    """The permissions that a view asks for: one for looking and one for sending; None where it does not take such requests."""

    look: str | None
    send: str | None


def asks(
    look: str | None = None, *, send: str | None = None, works: bool | Literal["long"] | None = None
) -> Callable[[View[Rest]], Guarded[Rest]]:
    """Declare, and ask for, the permission that a view needs: ``look`` for GET, ``send`` for POST.

    ``works`` says whether the view works on what a message holds, and is therefore carried out at the desk (``desk.py``): "long" for
    files that take a while to make. Without it, it does where its address names a mailing.

    The table of docs/permissions.md is made from these declarations.

    Raises:
        KeyError: there is no such permission; when the view is imported.
    """
    for permission in (look, send):
        if permission is not None:
            roles_for(permission)

    def declare(view: View[Rest]) -> Guarded[Rest]:
        @wraps(view)
        def guarded(given: HttpRequest, /, *args: Rest.args, **kwargs: Rest.kwargs) -> HttpResponseBase:
            request = _of_person(given)
            permission = send if request.method == "POST" else look
            if permission is not None and not request.roles & roles_for(permission):
                raise refusal(permission)
            if settings.DESK == "helpers" and (works if works is not None else "mailing_id" in kwargs) and not is_helper():
                return at_the_desk(request, kwargs, is_long=works == "long")
            return tried_again(view, request, *args, **kwargs)

        guarded.works = works  # type: ignore[attr-defined]
        guarded.asked = NeededPermissions(look, send)  # type: ignore[attr-defined]
        return guarded

    return declare


def _of_person(given: HttpRequest) -> PersonRequest:
    """The request as one of the person who sent it.

    Raises:
        NotAllowed: the person belongs to no workspace.
    """
    request = cast(PersonRequest, given)
    membership = membership_of(request.user)
    request.workspace, request.roles = membership.workspace, frozenset(membership.roles)
    return request


#: The number of things that wait for the person of a membership, as a column; an app above gives it.
counts_unread: Callable[[], Coalesce] | None = None


def memberships_of(user: User) -> list[Membership]:
    """The memberships in force of a person, the first joined first; looked up once a request."""
    if user.known_memberships is None:
        found = Membership.objects.select_related("workspace").filter(user_id=user.pk, deactivated_at=None).order_by("id")
        user.known_memberships = list(found.annotate(unread=counts_unread()) if counts_unread is not None else found)
    return user.known_memberships


def membership_of(user: User) -> Membership:
    """The membership of the workspace that a person works in: the one chosen, or the first.

    Raises:
        NotAllowed: the person belongs to none.
    """
    known = memberships_of(user)
    if not known:
        raise NotAllowed("You belong to no workspace now; ask an owner of one to invite you.")
    return next((one for one in known if one.workspace_id == user.chosen_workspace), known[0])


def workspace_of(user: User) -> Workspace:
    """The workspace that a person works in.

    Raises:
        NotAllowed: the person belongs to none.
    """
    return membership_of(user).workspace


def roles_of(user: User, workspace: Workspace) -> frozenset[str]:
    """A person's roles, asked of the database now."""
    membership = Membership.objects.filter(user=user, workspace=workspace, deactivated_at=None).first()
    return frozenset(membership.roles) if membership else frozenset()


def may(user: User, permission: str, workspace: Workspace) -> bool:
    """Whether a role of the person includes the permission.

    Raises:
        KeyError: there is no such permission.
    """
    return bool(roles_for(permission) & roles_of(user, workspace))


def permissions_of(user: User, workspace: Workspace) -> frozenset[str]:
    """Everything that the person may do here, for the buttons of a page. A press is judged anew by :func:`permit`."""
    known = next((one for one in memberships_of(user) if one.workspace_id == workspace.pk), None)
    roles = frozenset(known.roles) if known is not None else frozenset()
    return frozenset(permission for permission, holders in PERMISSIONS.items() if holders & roles)


def permit(user: User, permission: str, workspace: Workspace) -> None:
    """Go on only if the person may.

    Raises:
        NotAllowed: the person may not; the text says who may.
    """
    if not may(user, permission, workspace):
        raise refusal(permission)


def refusal(permission: str) -> NotAllowed:
    """The sentence for somebody whose roles do not include a permission."""
    who = " or ".join(sorted(roles_for(permission)))
    return NotAllowed(f"This is for the {who}; your roles do not include it.")
