"""The facts about the renders of a revision that the revision's query asks for."""

from __future__ import annotations

from typing import Any

from django.contrib.postgres.expressions import ArraySubquery
from django.db.models import OuterRef, Subquery
from django.db.models.functions import JSONObject

from jetwind.apps.intake.known import Known
from jetwind.apps.previews.models import LossTrial, Render
from jetwind.apps.previews.modes import OWN


def _own_renders() -> ArraySubquery:
    own = Render.objects.filter(revision=OuterRef("pk"), mode=OWN)
    return ArraySubquery(own.values_list(JSONObject(**{name: name for name in ("profile", "key", "state", "reader", "made_for")})))


def _loss_tried() -> Subquery:
    trial = LossTrial.objects.filter(revision=OuterRef("pk"))
    return Subquery(trial.values_list(JSONObject(key="key", profiles="profiles"))[:1])


#: Its renders as each profile shows them of itself, a table for each.
OWN_RENDERS: Known[list[dict[str, Any]]] = Known("own_renders", _own_renders)
#: For what and in which profiles it was tried which losses show; None where that was not tried yet.
LOSS_TRIED: Known[dict[str, Any] | None] = Known("loss_tried", _loss_tried)
