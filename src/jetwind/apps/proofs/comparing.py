"""Holding what arrived against the copy as it was handed over, in the background, and telling the checks."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.conf import settings
from django.db import transaction

from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.proofs.known import ARRIVALS_KEY
from jetwind.apps.proofs.models import Arrival
from jetwind.apps.ui.following import follows
from jetwind.core.arrivals import Arrivals, Compared, Journey
from jetwind.core.checking.circumstance import Later
from jetwind.core.message import UnusableInput
from jetwind.engines.bounded import PastBudget, judged_bounded
from jetwind.engines.names import practice_zone

#: What apps above know of links that were rewritten on the way: each gives the comparison back, with a word on where these end.
followers: list[Callable[[Revision, Compared], Compared]] = []


def compare_arrival(arrival: Arrival) -> None:
    """Compare an arrival with its copy, and have the revision checked anew. Safe to run twice."""
    copy = arrival.copy
    if copy is None or not copy.copy_sha256:
        # Copies of before this was kept have nothing that an arrival could be held against.
        Arrival.objects.filter(pk=arrival.pk).update(not_compared="The copy was sent before Jetwind kept copies.")
        return
    came = list(copy.arrivals.filter(is_dropped=False).order_by("pk").values_list("pk", flat=True))
    times = came.index(arrival.pk) + 1 if arrival.pk in came else 1
    journey = Journey(copy.address, copy.handed_over_at, None if arrival.is_dropped else arrival.at, arrivals=times)
    try:
        sides = store.fetch(copy.copy_sha256), store.fetch(arrival.blob_sha256)
        # Copies are signed for the practice field's house alone, so no other records are asked for.
        compared = judged_bounded(*sides, journey, practice_zone(), start=settings.HELPERS_START)
        for follow in followers:
            compared = follow(copy.send.revision, compared)
        told: dict[str, Any] = {"compared": compared.as_json(), "not_compared": ""}
    except PastBudget as past:
        told = {"compared": None, "not_compared": f"Comparing takes more than it may: {past}."}
    except UnusableInput as unusable:
        told = {"compared": None, "not_compared": f"What arrived cannot be read: {unusable}"[:300]}
    with transaction.atomic():
        Arrival.objects.filter(pk=arrival.pk).update(**told)
        follows().copy_arrived(Revision.objects.select_related("mailing__workspace").get(pk=copy.send.revision_id))


def arrivals_for_checks(revision: Revision) -> dict[str, Any]:
    """The comparisons of a revision's copies with what arrived, for the checks."""
    key = ARRIVALS_KEY.of(revision)
    return {"arrivals": Later(key, lambda: _arrivals(revision.pk))} if key else {}


def _arrivals(revision_id: int) -> Arrivals:
    """The newest comparison of each copy of the newest send to each address: a later send to others undoes no difference at this address."""
    found = Arrival.objects.filter(copy__send__revision=revision_id, compared__isnull=False)
    sends = dict(found.order_by("copy__send_id").values_list("copy__address", "copy__send_id"))
    newest = found.order_by("copy__address", "copy_id", "-pk").distinct("copy__address", "copy_id")
    rows = newest.values_list("copy__address", "copy__send_id", "compared")
    return Arrivals(tuple(Compared.from_json(row) for address, send, row in rows if row is not None and sends[address] == send))
