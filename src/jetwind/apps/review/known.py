"""The facts about the review of a revision that the revision's query asks for."""

from __future__ import annotations

from typing import Any

from django.contrib.postgres.expressions import ArraySubquery
from django.db.models import CharField, OuterRef, Subquery, Value
from django.db.models.functions import Cast, Concat, JSONObject

from jetwind.apps.comments.known import shown_name
from jetwind.apps.intake.known import Known
from jetwind.apps.jobs.machines import in_the_house
from jetwind.apps.jobs.services import latest_of_each
from jetwind.apps.review.models import PicturesRead, SenderPapers, StationLook


def _works() -> ArraySubquery:
    return ArraySubquery(latest_of_each(Concat(Value("revision:"), Cast(OuterRef("pk"), CharField()))))


def _looks() -> ArraySubquery:
    looks = StationLook.objects.filter(revision=OuterRef("pk"))
    return ArraySubquery(looks.values_list(JSONObject(station="station", left_out="left_out", by=shown_name("by"))))


def _pictures_read() -> Subquery:
    return Subquery(PicturesRead.objects.filter(revision=OuterRef("pk")).values("key")[:1])


def _papers() -> Subquery:
    papers = SenderPapers.objects.filter(revision=OuterRef("pk"))
    return Subquery(papers.values_list(JSONObject(papers="papers", asked_for="asked_for"))[:1])


#: The newest work of each kind on it, a table for each.
WORKS: Known[list[dict[str, Any]]] = Known("works", _works)
#: The stations that somebody looked at or left out, a table for each: ``left_out`` is the reason, empty for a look.
LOOKS: Known[list[dict[str, str]]] = Known("looks_at_stations", _looks)
#: The facts of the machines that count.
MACHINES: Known[list[dict[str, Any]]] = Known("machines", in_the_house)
#: One value for what the pictures say whose words were asked for; None where none were.
PICTURES_READ: Known[str | None] = Known("pictures_read_key", _pictures_read)
#: The answers of the name records about the sender, with the question; None where nobody asked.
PAPERS: Known[dict[str, Any] | None] = Known("papers_row", _papers)
