"""The facts about the links of a revision that the revision's query asks for."""

from __future__ import annotations

from typing import Any

from django.contrib.postgres.expressions import ArraySubquery
from django.db.models import OuterRef, Subquery
from django.db.models.functions import JSONObject

from jetwind.apps.intake.known import Known
from jetwind.apps.links.models import LISTS, SINGLE, CurrentAnswers, LetOpen, SeenByHand, Wire


def _opened() -> Subquery:
    opened = CurrentAnswers.objects.filter(revision=OuterRef("pk"))
    return Subquery(opened.values_list(JSONObject(key="key", links="links", pictures="pictures", there="there"))[:1])


def _seen() -> ArraySubquery:
    seen = SeenByHand.objects.filter(mailing=OuterRef("mailing_id")).order_by("id")
    told = JSONObject(address="address", at="at", first="by__first_name", last="by__last_name", name="by__username")
    return ArraySubquery(seen.values_list(told))


def _wire() -> Subquery:
    wire = Wire.objects.filter(workspace=OuterRef("mailing__workspace_id"))
    return Subquery(wire.values_list(JSONObject(**{name: name for name in (*LISTS, *SINGLE)}))[:1])


def _let_open() -> ArraySubquery:
    return ArraySubquery(LetOpen.objects.filter(mailing=OuterRef("mailing_id")).order_by("id").values("address"))


#: Which answers stand for it, and how many of its links are there; None where nothing was opened.
OPENED: Known[dict[str, Any] | None] = Known("opened_row", _opened)
#: The addresses that somebody opened by hand, with that person, a table for each.
SEEN: Known[list[dict[str, Any]]] = Known("links_seen", _seen)
#: The workspace's settings for opening links and fetching pictures; None where nobody set them.
WIRE: Known[dict[str, Any] | None] = Known("wire_row", _wire)
#: The addresses that persons let open.
LET_OPEN: Known[list[str]] = Known("links_let_open", _let_open)
