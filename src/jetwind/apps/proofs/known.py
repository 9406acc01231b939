"""The fact about the test sends of a revision that the revision's query asks for."""

from __future__ import annotations

from django.contrib.postgres.aggregates import StringAgg
from django.db.models import CharField, OuterRef, Subquery
from django.db.models.functions import MD5, Cast

from jetwind.apps.intake.known import Known
from jetwind.apps.proofs.models import Arrival


def _arrivals_key() -> Subquery:
    compared = Arrival.objects.filter(copy__send__revision=OuterRef("pk"), compared__isnull=False).order_by().values("copy__send__revision")
    numbers = StringAgg(Cast("pk", CharField()), delimiter=" ", order_by="pk")
    return Subquery(compared.annotate(key=MD5(numbers)).values("key"), output_field=CharField())


#: One value for the comparisons of its test copies with what arrived; None where nothing was compared.
ARRIVALS_KEY: Known[str | None] = Known("arrivals_key", _arrivals_key)
