"""The readiness of a message: the rule of lists, which the database carries out, against that of one message."""

import random
from typing import Any

import pytest

from jetwind.apps.approvals.models import SignOff
from jetwind.apps.comments.models import Thread
from jetwind.apps.departures.selectors import leaving
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import selectors
from jetwind.apps.review.models import CheckRun, Excuse, FindingRecord, StationLook
from jetwind.apps.review.questions import context_of
from jetwind.apps.review.selectors import walk_of
from jetwind.core.reports import STATIONS
from tests.apps.helpers import taken_in

SLUGS = [station.slug for station in STATIONS]
PRINTS = ["a", "b", "c", "d"]


@pytest.mark.django_db
def test_lists_and_one_message_agree(house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
    """150 messages in states drawn by lot: findings, faults told together, excuses of every kind, looks, work, comments, stages."""
    model = taken_in(house)
    # Circumstances play no part here, and finding them out takes most of the time.
    context = context_of(model)
    monkeypatch.setattr(selectors, "context_of", lambda revision: context)
    monkeypatch.setattr(selectors, "machines_of", lambda revision: ())
    told: set[str] = set()
    for seed in range(150):
        draw = random.Random(seed)
        rule = {
            "comments": bool(seed % 2),
            "fixes": bool(seed % 3),
            "stations": ["looked", "left-out", "free"][seed % 3],
            "days": 7 if seed % 5 else None,
        }
        house.workspace.clearing = {
            "every": {**rule, "confirming": ["nobody", "reviewers", "everybody"][seed % 4 % 3], "in_order": bool(seed % 7)}
        }
        house.workspace.save(update_fields=["clearing"])
        revision = _drawn(house, model, draw)
        [row] = leaving([revision.mailing_id])
        found = walk_of(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        # What stands in the database here was answered to no question, so that it is not for this test to say whether it still holds.
        found.is_stale = False
        counted = row.facts
        assert (counted.stops, counted.fixes, counted.notes) == (found.stops, found.fixes, found.notes), seed
        assert row.readiness == found.readiness, seed
        told |= {one.words.split(" ", 1)[-1][:24] for one in row.readiness.missing}
    # Every kind of sentence was drawn, so that the two were held against each other in all of them.
    assert len(told) >= 12, told


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
            by_approver=draw.random() < 0.5, confirmed_at=mailing.created_at if draw.random() < 0.3 else None,
        )  # fmt: skip
    looked = SLUGS if draw.random() < 0.3 else draw.sample(SLUGS, draw.randrange(len(SLUGS)))
    StationLook.objects.bulk_create(
        StationLook(revision=newest, station=slug, by=house.reviewer, left_out=draw.choice(["", "", "no links"])) for slug in looked
    )
    for person in draw.sample([house.reviewer, house.approver], draw.randrange(3)):
        SignOff.objects.create(
            mailing=mailing, revision=newest, content_sha256=newest.content_sha256, by=person, role="reviewer",
            roles=draw.choice([["reviewer"], ["approver"], ["approver", "reviewer"]]),
            condition=draw.choice([{}, {}, {"kind": "comment", "name": 1, "words": "it is done"}]),
            condition_met_at=draw.choice([None, mailing.created_at]), voided_at=draw.choice([None, None, mailing.created_at]),
        )  # fmt: skip
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
