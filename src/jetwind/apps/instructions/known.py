"""The fact about sending back that the query of a revision asks for."""

from __future__ import annotations

from typing import Any

from django.contrib.postgres.expressions import ArraySubquery
from django.db.models import OuterRef, Subquery
from django.db.models.functions import JSONObject

from jetwind.apps.instructions.models import Instruction, SendingBack
from jetwind.apps.intake.known import Known


def _instructions() -> Subquery:
    own = Instruction.objects.filter(sending_back=OuterRef("pk")).order_by("number")
    rows = own.values_list(
        JSONObject(pk="pk", number="number", check_id="check_id", names="names", thread="thread_id", ticked_at="ticked_at")
    )
    last = SendingBack.objects.filter(mailing=OuterRef("mailing_id"), revision__number__lte=OuterRef("number")).order_by("-pk")
    return Subquery(last.values_list(JSONObject(pk="pk", revision="revision__number", rows=ArraySubquery(rows)))[:1])


#: The newest sending back of the message, of it or an earlier revision, with its instructions as tables; None where there was none.
INSTRUCTIONS: Known[dict[str, Any] | None] = Known("instructions", _instructions)
