"""The facts about the sign-offs of a revision that the revision's query asks for."""

from __future__ import annotations

from django.db.models import Count, OuterRef, Subquery

from jetwind.apps.approvals.models import SignOff
from jetwind.apps.intake.known import Known


def _valid_sign_offs() -> Subquery:
    valid = SignOff.objects.filter(revision=OuterRef("pk"), voided_at=None).order_by().values("revision")
    return Subquery(valid.annotate(number=Count("pk")).values("number"))


#: How many sign-offs are valid; None where nobody signed.
VALID_SIGN_OFFS: Known[int | None] = Known("valid_sign_offs", _valid_sign_offs)
