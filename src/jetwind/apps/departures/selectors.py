"""Messages in the order in which they leave, and what holds each back."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

from django.db.models import OuterRef, Prefetch, Q, Subquery
from django.db.models.functions import JSONObject
from django.urls import reverse

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs.models import Work
from jetwind.apps.review.excusing import InForce
from jetwind.apps.review.models import CheckRun, Excuse, FindingRecord, StationLook
from jetwind.apps.workspace.models import Workspace
from jetwind.core.reports import STATIONS


@dataclass(frozen=True, slots=True)
class Leaving:
    """One row: a mailing with its newest revision."""

    mailing: Mailing
    revision: Revision
    stops: int
    fixes: int
    notes: int
    stripes: int
    holding: str
    is_checked: bool
    is_busy: bool

    @property
    def address(self) -> str:
        """Where its walk begins."""
        return reverse("station", args=[self.mailing.pk, self.revision.number, "envelope"])

    @property
    def is_cleared(self) -> bool:
        """Whether its windsock hangs straight."""
        return self.mailing.stage in (Mailing.Stage.CLEARED, Mailing.Stage.RELEASED)


def departures(workspace: Workspace, *, search: str = "", stage: str = "") -> list[Leaving]:
    """All mailings that fit, soonest first, those without a planned time last. A fixed number of queries."""
    newest = Revision.objects.filter(mailing=OuterRef("pk")).order_by("-number").values("pk")[:1]
    found = Mailing.objects.filter(workspace=workspace).annotate(newest_id=Subquery(newest)).order_by("planned_at", "-id")
    if stage:
        found = found.filter(stage=stage)
    if search:
        found = found.filter(
            Q(title__icontains=search) | Q(audience__icontains=search) | Q(revisions__subject__icontains=search)
        ).distinct()
    mailings = list(found)
    ids = [mailing.newest_id for mailing in mailings]
    last_run = CheckRun.objects.filter(revision=OuterRef("pk")).order_by("-created_at")
    revisions = {
        revision.pk: revision
        for revision in Revision.objects.filter(pk__in=ids)
        .annotate(last_run=Subquery(last_run.values_list(JSONObject(pk="pk", unlooked="summary__unlooked"))[:1]))
        .select_related("uploaded_by")
        .prefetch_related(Prefetch("looks", queryset=StationLook.objects.only("station", "revision_id")))
    }
    run_of = {revision.last_run["pk"]: revision for revision in revisions.values() if revision.last_run}
    runs = list(run_of)
    excused: dict[int, list[Excuse]] = {}
    for excuse in Excuse.objects.filter(mailing__in=mailings, lifted_at=None):
        excused.setdefault(excuse.mailing_id, []).append(excuse)
    excuses = {
        run_id: InForce(
            (excuse.fingerprint, excuse.members, excuse.pk)
            for excuse in excused.get(revision.mailing_id, ())
            if excuse.only_revision_id in (None, revision.pk)
        )
        for run_id, revision in run_of.items()
    }
    counts: dict[int, Counter[tuple[str, str]]] = {run_id: Counter() for run_id in runs}
    for run_id, level, station, *prints in FindingRecord.objects.filter(run_id__in=runs).values_list(
        "run_id", "level", "station", "fingerprint", "cause", "members"
    ):
        if excuses[run_id].covering(*prints) is None:
            counts[run_id][level, station] += 1
    busy = set(
        Work.objects.filter(state__in=[Work.State.WAITING, Work.State.RUNNING], subject__in=[f"revision:{pk}" for pk in ids]).values_list(
            "subject", flat=True
        )
    )
    return [_row(mailing, revisions[mailing.newest_id], counts, busy) for mailing in mailings]


def _row(mailing: Mailing, revision: Revision, counts: dict[int, Counter[tuple[str, str]]], busy: set[str]) -> Leaving:
    run: dict[str, Any] = getattr(revision, "last_run", None) or {}
    run_id = run.get("pk")
    own = counts.get(run_id, Counter()) if run_id else Counter()
    stops = sum(count for (level, _), count in own.items() if level == "stop")
    fixes = sum(count for (level, _), count in own.items() if level == "fix")
    notes = sum(count for (level, _), count in own.items() if level == "note")
    looked = {look.station for look in revision.looks.all()}
    weighty = {station for (level, station), _ in own.items() if level != "note"}
    walked = [station for station in STATIONS if station.slug != "sign-off"]
    clear = sum(station.slug in looked and station.slug not in weighty for station in walked)
    unlooked = int(run.get("unlooked") or 0)
    stripes = clear * 5 // len(walked) if run_id and not unlooked else 0
    is_busy = f"revision:{revision.pk}" in busy
    return Leaving(
        mailing,
        revision,
        stops,
        fixes,
        notes,
        min(stripes, 3) if stops else stripes,
        _holding(mailing, stops, unlooked, len(walked) - len(looked), run_id is not None, is_busy),
        run_id is not None,
        is_busy,
    )


def _holding(mailing: Mailing, stops: int, unlooked: int, unseen: int, is_checked: bool, is_busy: bool) -> str:
    """What holds a message back, in a few words."""
    if mailing.stage == Mailing.Stage.RELEASED:
        return "nothing: released and locked"
    if mailing.stage == Mailing.Stage.CLEARED:
        return "cleared; waits for the operator"
    if mailing.stage == Mailing.Stage.SENT_BACK:
        return "sent back; waits for the author"
    if not is_checked:
        return "being checked" if is_busy else "not checked yet"
    if stops:
        return "1 open stop" if stops == 1 else f"{stops} open stops"
    if unlooked:
        return "not everything was checked"
    if unseen > 0:
        return f"{unseen} stations not looked at"
    return "waits for sign-offs"
