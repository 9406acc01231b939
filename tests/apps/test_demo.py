"""The demo's past: every row is what people would have made of it, and the answers that ship are those of the checks."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from typing import Any

import pytest
from django.utils import timezone

from jetwind.apps.approvals.models import Release, SignOff
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.audit.services import verify
from jetwind.apps.demo import answers, world
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.jobs.models import Work
from jetwind.apps.proofs.models import Arrival, Reply, TestCopy
from jetwind.apps.review.answers import check_now
from jetwind.apps.review.models import CheckRun
from jetwind.apps.sets.models import MessageSet


def test_stages(db: None) -> None:
    """A dozen messages and more in all stages, one released, one set with one missing; the log holds and nothing lies in the future."""
    before = timezone.now()
    workspace = world.build()
    stages = dict(Mailing.objects.values_list("title", "stage"))
    past = {title: stages[title] for title in ("Winter firing slots", "Membership for 2027", "Glaze evening", "Raku night")}
    assert past == {
        "Winter firing slots": "released",
        "Membership for 2027": "cleared",
        "Glaze evening": "sent-back",
        "Raku night": "under-review",
    }
    assert sorted(Revision.objects.filter(mailing__title__in=past, number=3).values_list("mailing__title", flat=True)) == [
        "Raku night",
        "Winter firing slots",
    ]
    assert sorted(SignOff.objects.values_list("mailing__title", "said", "voided_reason")) == [
        ("Glaze evening", "refused", "refused"),
        ("Membership for 2027", "signed", ""),
        ("Membership for 2027", "signed", ""),
        ("Winter firing slots", "signed", ""),
        ("Winter firing slots", "signed", ""),
        ("Winter firing slots", "signed", "revision 3 came in"),
    ]
    release = Release.objects.get()
    assert release.mailing.planned_at is not None and release.at < release.mailing.planned_at
    assert (Arrival.objects.filter(copy__isnull=False).count(), Reply.objects.count()) == (6, 3)
    assert set(TestCopy.objects.values_list("state", flat=True)) == {"handed-over"}
    found = verify()
    assert found.broken is None and found.entries > 100
    assert LogEntry.objects.filter(at__gt=timezone.now()).count() == 0 and before <= timezone.now()
    made = MessageSet.objects.get(workspace=workspace)
    assert list(made.members.filter(mailing=None).values_list("name", flat=True)) == ["Receipt"] and made.members.count() == 6
    # Workers are asked for what is still under way, and for nothing that is over.
    over = (
        Revision.objects.filter(mailing__title__in=past)
        .exclude(number__in=[3])
        .filter(mailing__title__in=["Raku night", "Winter firing slots"])
    )
    assert not Work.objects.filter(subject__in=[f"revision:{one.pk}" for one in over]).exists()


def test_short(db: None) -> None:
    """In short, nobody has signed anything, and there is no set."""
    world.build(is_short=True)
    assert set(Mailing.objects.values_list("stage", flat=True)) == {"taken-in"} and not MessageSet.objects.exists()


@pytest.mark.django_db
def test_answers_are_those_of_the_checks() -> None:
    """What ships is what the checks say: else ``manage.py demo --write-answers`` makes it again."""
    said: dict[str, Any] = {}

    def ask(revision: Revision) -> None:
        run = check_now(revision, is_prepared=True)
        said[revision.content_sha256] = json.loads(json.dumps(answers.as_table(CheckRun.objects.get(pk=run.pk))))

    world.build(give_answers=ask)
    kept = answers.kept()
    assert set(said) == set(kept)
    for content, table in said.items():
        assert table["findings"] == kept[content]["findings"]
        assert table["spam"] == kept[content]["spam"]
        assert {name: answer[0] for name, answer in table["outcomes"].items()} == {
            name: answer[0] for name, answer in kept[content]["outcomes"].items()
        }


def test_the_clock_goes_on(db: None) -> None:
    """After the past the clock is the machine's again, whatever happened within."""
    from jetwind.apps.demo.past import at

    with at(2026, 11, 9, 10, 12):
        assert timezone.now() == datetime(2026, 11, 9, 9, 12, tzinfo=UTC)
    with pytest.raises(ZeroDivisionError), at(2026, 11, 9, 10, 12):
        1 / 0
    assert abs((timezone.now() - datetime.now(UTC)).total_seconds()) < 60
