"""What was not looked at never counts as clear: on the page, in the list, at the sign-off; and it is asked again by one press."""

from typing import Any

import pytest
from procrastinate.contrib.django.models import ProcrastinateJob

from jetwind.apps.intake.models import Revision
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import answers
from jetwind.apps.review.models import CheckRun
from jetwind.apps.review.selectors import walk_of
from jetwind.apps.review.tasks import check_revision
from jetwind.core.checking import CheckResult, Outcome
from jetwind.core.reports import Review
from jetwind.engines.bounded import CHECKING
from tests.apps.helpers import listed_in, taken_in, walked
from tests.factories import GOOD_HTML, mail


@pytest.fixture
def short(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    """A machine on which the spelling check runs out within the usual limit, and is answered within a longer one; the limits asked with."""
    limits: list[float] = []
    whole = answers.review_bounded

    def bounded(message: Any, context: Any, only: Any = None, **more: Any) -> Review:
        limits.append(more["budget"].all_seconds)
        answer = whole(message, context, only, **more)
        if more["budget"].all_seconds > CHECKING.all_seconds:
            return answer
        gone = CheckResult("wording.spelling", Outcome.RAN_OUT, reason="took longer than 5 s")
        return Review(
            answer.message, tuple(gone if one.check == gone.check else one for one in answer.results), answer.spam, answer.summary
        )

    monkeypatch.setattr(answers, "review_bounded", bounded)
    return limits


def fresh(revision: Revision) -> Revision:
    """As a page finds it."""
    return Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)


def test_the_windsock_stays_down(house: Any, short: list[float]) -> None:
    """Though every station has been looked at and nothing was found; the list says why."""
    revision = walked(house, taken_in(house, mail(GOOD_HTML.replace("glazes", "glazzes"))))
    walk = walk_of(fresh(revision))
    assert (walk.unlooked, walk.readiness.stripes) == (["wording.spelling"], 0)
    [row] = listed_in(house.workspace)
    assert (row.readiness.stripes, row.readiness.holding) == (0, "Not everything was checked: 1 check did not come to an end.")
    client = house.client(house.approver)
    for station in ("wording", "sign-off"):
        page = client.get(f"/mailings/{revision.mailing_id}/r1/{station}/").content.decode()
        assert "Not everything was checked" in page
        assert 'title="wording.spelling"' in page
        assert "(took longer than 5 s)" in page


def test_asked_again_by_one_press(house: Any, short: list[float]) -> None:
    """With a longer limit, only what ran out; then the windsock lifts. Pressed twice, it is done once; not everybody may."""
    revision = walked(house, taken_in(house, mail(GOOD_HTML.replace("glazes", "glazzes"))))
    before = CheckRun.objects.get()
    address = f"/mailings/{revision.mailing_id}/r1/recheck/"
    assert house.client(house.author).post(address, {"longer": "yes"}).status_code == 403
    for _ in range(2):
        house.client(house.reviewer).post(address, {"longer": "yes"})
    [work] = Work.objects.filter(kind="checks", state="waiting")
    check_revision.func(**ProcrastinateJob.objects.get(pk=work.job_id).args)
    assert short == [CHECKING.all_seconds, CHECKING.all_seconds * answers.PATIENT]
    walk = walk_of(fresh(revision))
    assert (walk.unlooked, walk.is_stale) == ([], False)
    assert walk.readiness.stripes > 0
    assert {found.check_id for found in before.findings.all()} <= {found.record.check_id for found in walk.findings}
    assert "wording.spelling" in {found.record.check_id for found in walk.findings}
    assert "Not everything" not in house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/wording/").content.decode()


def test_what_is_still_not_known(house: Any, short: list[float], monkeypatch: pytest.MonkeyPatch) -> None:
    """Asked again within the usual limit, it runs out again, and nothing that was known is lost."""
    revision = taken_in(house, mail(GOOD_HTML + "<a href='#'>x</a>"))
    found = {one.fingerprint for one in CheckRun.objects.get().findings.all()}
    assert found
    monkeypatch.setattr(answers, "PATIENT", 1)
    answers.check_now(fresh(revision), patience=1)
    assert {one.fingerprint for one in CheckRun.objects.get().findings.all()} == found
    assert CheckRun.objects.get().unlooked == ["wording.spelling"]
