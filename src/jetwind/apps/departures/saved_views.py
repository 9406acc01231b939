"""Keeping a filter of Departures under a name, for oneself or for all."""

from __future__ import annotations

from django.db import transaction
from django.db.models import Q, QuerySet
from django.http import QueryDict

from jetwind.apps.accounts.models import User
from jetwind.apps.departures.filters import Filter
from jetwind.apps.departures.models import SavedView
from jetwind.apps.ui.refusal import Refused, refusing
from jetwind.apps.workspace.access import may, permit
from jetwind.apps.workspace.models import Membership, Workspace

#: Characters of a name; views that one person keeps in a workspace.
LONGEST, MOST = 40, 30


def views_for(user: User, workspace: Workspace) -> QuerySet[SavedView]:
    """The views that a person sees: their own, and those for all."""
    return SavedView.objects.filter(Q(by=user) | Q(is_shared=True), workspace=workspace).select_related("by")


@transaction.atomic
def keep_view(user: User, workspace: Workspace, name: str, query: str, *, is_shared: bool = False) -> SavedView:
    """Keep a filter under a name; one of the same name that the person kept takes the new filter.

    Raises:
        NotAllowed, Refused: no member; no name, or a long one; nothing is chosen; somebody else keeps a shared one of that name; too many.
    """
    permit(user, "mailing:view", workspace)
    name = " ".join(name.replace("\0", "").split())
    if not name or len(name) > LONGEST:
        raise Refused(f"A view has a name of up to {LONGEST} characters.")
    chosen = Filter.of(QueryDict(query)).query
    if not chosen:
        raise Refused("Choose something first; this view would show every message.")
    # A person who keeps two views at once does one after the other.
    Membership.objects.select_for_update(no_key=True).filter(workspace=workspace, user=user).first()
    own = SavedView.objects.filter(workspace=workspace, by=user)
    there = own.filter(name=name, is_shared=is_shared).first()
    if there is None and own.count() >= MOST:
        raise Refused(f"You keep {MOST} views; remove one first.")
    with refusing("one_shared_view_of_a_name", f"There is a view “{name}” for all already; choose another name."):
        if there is not None:
            there.query = chosen
            there.save(update_fields=["query"])
            return there
        return SavedView.objects.create(workspace=workspace, by=user, name=name, query=chosen, is_shared=is_shared)


def drop_view(user: User, view: SavedView) -> None:
    """Remove a view: one's own, or one for all where the person may change the workspace. A second press changes nothing.

    Raises:
        Refused: it is somebody else's.
    """
    if view.by_id != user.pk and not (view.is_shared and may(user, "workspace:configure", view.workspace)):
        raise Refused("The person who keeps this view removes it, or somebody who may change the workspace.")
    SavedView.objects.filter(pk=view.pk).delete()
