"""The fact about mends that the query of a revision asks for."""

from __future__ import annotations

from django.db.models import OuterRef, Subquery

from jetwind.apps.intake.known import Known
from jetwind.apps.mends.models import PreparedMends


def _sure() -> Subquery:
    return Subquery(PreparedMends.objects.filter(revision=OuterRef("pk")).values("sure")[:1])


#: How many sure mends the revision is offered; None where nobody has looked for mends.
SURE_MENDS: Known[int | None] = Known("sure_mends", _sure)
