"""The facts about the sign-offs and answers of a revision that the revision's query asks for."""

from __future__ import annotations

from typing import Any

from django.contrib.postgres.expressions import ArraySubquery
from django.db.models import Case, CharField, Count, OuterRef, Q, Subquery, Value, When
from django.db.models.fields.json import KT
from django.db.models.functions import JSONObject

from jetwind.apps.approvals.models import Release, SignOff
from jetwind.apps.intake.known import Known
from jetwind.apps.proofs.models import Reply


def _signatures() -> ArraySubquery:
    valid = SignOff.objects.filter(revision=OuterRef("pk"), voided_at=None).order_by("pk")
    waits_for = Case(When(condition_met_at=None, then=KT("condition__words")), default=Value(""), output_field=CharField())
    return ArraySubquery(valid.values_list(JSONObject(by="by", roles="roles", at="at", content="content_sha256", waits_for=waits_for)))


#: Browsers of phones and tablets have "Mobi" in their name; published: MDN, Browser detection using the user agent, "Mobile device detection".
_PHONE = Q(device__icontains="phone") | Q(client__contains="Mobi")


def _seen() -> ArraySubquery:
    right = Reply.objects.filter(link__send__revision=OuterRef("pk"), looks_right=True).order_by("pk")
    return ArraySubquery(right.values_list(Case(When(_PHONE, then=Value("phone")), default=Value("elsewhere"), output_field=CharField())))


def _releases() -> Subquery:
    made = Release.objects.filter(mailing=OuterRef("mailing_id")).order_by().values("mailing")
    return Subquery(made.annotate(number=Count("pk")).values("number"))


#: How often its message was released; None where it never was.
RELEASES: Known[int | None] = Known("times_released", _releases)
#: The signatures that are not void, a table for each, in the order in which they were given.
SIGNATURES: Known[list[dict[str, Any]]] = Known("signatures", _signatures)
#: Where recipients of its test sends found it right: "phone" or "elsewhere", for each such answer.
SEEN: Known[list[str]] = Known("seen_right", _seen)
