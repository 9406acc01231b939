"""The readiness of a message: the rule of lists, which the database carries out, against that of one message."""

import random
from typing import Any

import pytest

from jetwind.apps.accounts.permissions import Role
from jetwind.apps.comments.models import Thread
from jetwind.apps.departures.selectors import leaving
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import selectors
from jetwind.apps.review.models import CheckRun, Excuse, FindingRecord, StationLook
from jetwind.apps.review.questions import context_of
from jetwind.apps.review.readiness import WALKED, facts_of, readiness
from jetwind.apps.review.selectors import walk_of
from jetwind.core.reports import STATIONS
from tests.apps.helpers import taken_in

SLUGS = [station.slug for station in STATIONS]
PRINTS = ["a", "b", "c", "d"]
READY = {
    "stage": "under-review", "is_checked": True, "is_busy": False, "unlooked": 0,
    "stops": 0, "fixes": 0, "notes": 0, "looked": WALKED, "clear": WALKED, "comments": 0,
}  # fmt: skip


@pytest.mark.parametrize(
    ("changed", "stripes", "holding", "turn"),
    [
        ({}, 5, "waits for sign-offs", Role.APPROVER),
        ({"looked": WALKED - 1, "clear": WALKED - 1}, 4, "1 station not looked at", Role.REVIEWER),
        ({"comments": 1, "looked": 3, "clear": 3}, 1, "1 open comment", Role.REVIEWER),
        ({"comments": 3}, 5, "3 open comments", Role.REVIEWER),
        ({"looked": 3, "clear": 3}, 1, f"{WALKED - 3} stations not looked at", Role.REVIEWER),
        ({"stops": 1}, 3, "1 open stop", Role.REVIEWER),
        ({"stops": 2, "looked": 0, "clear": 0}, 0, "2 open stops", Role.REVIEWER),
        ({"unlooked": 1}, 0, "not everything was checked", Role.REVIEWER),
        ({"is_checked": False}, 0, "not checked yet", Role.REVIEWER),
        ({"is_checked": False, "is_busy": True}, 0, "being checked", None),
        ({"is_busy": True}, 5, "waits for sign-offs", Role.APPROVER),
        ({"stage": "sent-back", "stops": 1}, 3, "sent back; waits for the author", Role.AUTHOR),
        ({"stage": "cleared"}, 5, "cleared; waits for the operator", Role.OPERATOR),
        ({"stage": "released"}, 5, "nothing: released and locked", None),
    ],
)  # fmt: skip
def test_the_rule(changed: dict[str, Any], stripes: int, holding: str, turn: Role | None) -> None:
    """Row by row."""
    told = readiness(READY | changed)
    assert (told.stripes, told.holding, told.turn) == (stripes, holding, turn)


@pytest.mark.django_db
def test_lists_and_one_message_agree(house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """150 messages in states drawn by lot: findings, faults told together, excuses of every kind, looks, work, comments, stages."""
    model = taken_in(house)
    # Circumstances play no part here, and finding them out takes most of the time.
    context = context_of(model)
    monkeypatch.setattr(selectors, "context_of", lambda revision: context)
    monkeypatch.setattr(selectors, "machines_of", lambda revision: ())
    for seed in range(150):
        draw = random.Random(seed)
        house.workspace.comments_hold = bool(seed % 2)
        house.workspace.save(update_fields=["comments_hold"])
        revision = _drawn(house, model, draw)
        [row] = leaving([revision.mailing_id])
        found = walk_of(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        counted = facts_of(row.revision)
        assert (counted["stops"], counted["fixes"], counted["notes"]) == (found.stops, found.fixes, found.notes), seed
        assert row.readiness == found.readiness, seed
        assert row.readiness == readiness(counted), seed


def _drawn(house: Any, model: Revision, draw: random.Random) -> Revision:
    """A message of two revisions in a state drawn by lot; its newest."""
    mailing = Mailing.objects.create(workspace=house.workspace, title="Pots", created_by=house.author)
    revisions = []
    for number in (1, 2):
        revision = Revision.objects.get(pk=model.pk)
        revision.pk, revision.mailing, revision.number = None, mailing, number
        revision._state.adding = True
        revision.save()
        revisions.append(revision)
    older, newest = revisions
    if draw.random() < 0.9:
        for key in ("older", "newest"):
            run = CheckRun.objects.create(
                revision=newest, key=key, outcomes={"a.b": ["ran-out" if draw.random() < 0.2 else "clear", "", {}, ""]}, summary={}
            )
            run.summary = {"unlooked": len(run.unlooked)}
            run.save()
            FindingRecord.objects.bulk_create(_finding(run, order, draw) for order in range(draw.randrange(5)))
    for number, print_ in enumerate(draw.sample([*PRINTS, "cause"], draw.randrange(5))):
        Excuse.objects.create(
            mailing=mailing, check_id="a.b", fingerprint=print_, reason="so", by=house.reviewer, level="fix",
            members={} if draw.random() < 0.5 else {member: draw.randrange(1, 4) for member in draw.sample(PRINTS, 2)},
            only_revision=draw.choice([None, None, older, newest]),
            lifted_at=mailing.created_at if number and draw.random() < 0.2 else None,
        )  # fmt: skip
    looked = SLUGS if draw.random() < 0.3 else draw.sample(SLUGS, draw.randrange(len(SLUGS)))
    StationLook.objects.bulk_create(StationLook(revision=newest, station=slug, by=house.reviewer) for slug in looked)
    if draw.random() < 0.3:
        Work.objects.create(kind="checks", subject=f"revision:{newest.pk}", state=draw.choice(Work.State.values))
    for _ in range(draw.randrange(3)):
        settled = mailing.created_at if draw.random() < 0.4 else None
        thread = Thread.objects.create(
            mailing=mailing, revision=draw.choice(revisions), kind="station", station="links", named="Links", settled_at=settled
        )
        thread.comments.create(words="Here", said_by="Una")
    # A released message takes no findings, so the stage comes last.
    Mailing.objects.filter(pk=mailing.pk).update(stage=draw.choice(Mailing.Stage.values))
    return newest


def _finding(run: CheckRun, order: int, draw: random.Random) -> FindingRecord:
    together = draw.random() < 0.5
    return FindingRecord(
        run=run,
        order=order,
        check_id="a.b",
        station=draw.choice(SLUGS),
        level=draw.choice(["stop", "fix", "fix", "note"]),
        fingerprint=draw.choice(PRINTS),
        cause="cause" if together else "",
        members={print_: draw.randrange(1, 4) for print_ in draw.sample(PRINTS, 2)} if together else {},
        part="html",
        sentence="Something.",
    )
