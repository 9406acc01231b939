"""The facts about comments that the query of a revision asks for."""

from __future__ import annotations

from typing import Any

from django.contrib.postgres.expressions import ArraySubquery
from django.db.models import F, OuterRef, Value
from django.db.models.functions import Coalesce, Concat, JSONObject, NullIf, Trim

from jetwind.apps.comments.models import Comment, Thread
from jetwind.apps.intake.known import Known
from jetwind.apps.workspace.models import Membership


def shown_name(person: str) -> Coalesce:
    """The name of a person as screens show it, as a column; ``person`` is the field that leads to the person."""
    whole = Trim(Concat(F(f"{person}__first_name"), Value(" "), F(f"{person}__last_name")))
    return Coalesce(NullIf(whole, Value("")), F(f"{person}__username"))


def comments_of_thread() -> ArraySubquery:
    """The comments of each thread of a query, one JSON object for each."""
    told = Comment.told.through.objects.filter(comment=OuterRef("pk")).order_by("user__username").values_list(shown_name("user"))
    said = Comment.objects.filter(thread=OuterRef("pk")).order_by("pk")
    return ArraySubquery(
        said.values_list(
            JSONObject(by="by", name=Coalesce(shown_name("by"), "said_by"), words="words", at="at", told=ArraySubquery(told)),
        )
    )


#: The columns of a thread in the fact.
THREAD = ("pk", "kind", "station", "fingerprint", "anchor", "profile", "left", "top", "named")


def thread_columns() -> JSONObject:
    """A thread with its comments as a JSON object."""
    settled = {"settled_at": "settled_at", "settled_by": shown_name("settled_by")}
    own = {name: name for name in THREAD}
    return JSONObject(**own, **settled, revision="revision__number", comments=comments_of_thread())


def _open_threads() -> ArraySubquery:
    threads = Thread.objects.filter(mailing=OuterRef("mailing_id"), revision__number__lte=OuterRef("number"), settled_at=None)
    return ArraySubquery(threads.order_by("pk").values_list(thread_columns()))


def _people() -> ArraySubquery:
    active = Membership.objects.filter(workspace=OuterRef("mailing__workspace_id"), deactivated_at=None, user__is_active=True)
    return ArraySubquery(active.order_by("pk").values_list(JSONObject(pk="user_id", name=shown_name("user"), roles="roles")))


#: The threads about it that nobody has settled, made on it or on an earlier revision; a table for each.
OPEN_THREADS: Known[list[dict[str, Any]]] = Known("open_threads", _open_threads)
#: Number, name and roles of everybody in its workspace.
PEOPLE: Known[list[dict[str, Any]]] = Known("people_of_house", _people)
