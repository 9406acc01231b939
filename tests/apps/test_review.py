"""Checks of a revision, stations, excuses, sending back."""

from typing import Any

import pytest
from django.db import IntegrityError, transaction

from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.services import add_revision
from jetwind.apps.jobs.models import Work
from jetwind.apps.review import answers, services
from jetwind.apps.review.models import CheckRun, Excuse
from jetwind.apps.review.questions import is_outdated
from jetwind.apps.review.selectors import walk_of
from jetwind.apps.review.tasks import check_revision
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.core.reports import STATIONS
from tests.apps.helpers import checked, listed_in, taken_in, walked
from tests.factories import GOOD_HTML, mail

FAULTY = mail(GOOD_HTML.replace("https://www.kiln.org/sale", "http://www.kiln.org/sale") + '<img src="https://k.org/a.png">')


def open_checks(revision: Any) -> list[str]:
    """Ids of open findings."""
    return sorted(found.record.check_id for found in walk_of(revision).findings if found.is_open)


def fingerprint(revision: Any, check_id: str) -> str:
    """The fingerprint of a finding of a revision."""
    return next(found.record.fingerprint for found in walk_of(revision).findings if found.record.check_id == check_id)


def over_http(*numbers: int) -> str:
    """A copy with links over http to these pages."""
    return GOOD_HTML.replace(
        "</h1>", "</h1>" + "".join(f'<p><a href="http://kiln.org/{number}">Page {number}</a></p>' for number in numbers)
    )


class TestChecks:
    """Run in the background, kept by their question."""

    def test_the_task_runs_the_checks_once(self, house: Any) -> None:
        """A task that runs twice leaves one run; the work says done."""
        revision = taken_in(house, FAULTY)
        work = Work.objects.get(kind="checks")
        Work.objects.update(state=Work.State.WAITING)
        for _ in range(2):
            check_revision.func(revision_id=revision.pk, work_id=work.pk)
        work.refresh_from_db()
        assert (work.state, work.done, CheckRun.objects.count()) == ("done", 1, 1)
        assert open_checks(revision) == ["access.alt-missing", "images.no-width", "links.insecure"]

    def test_changed_circumstances_make_it_stale_and_a_new_run(self, house: Any) -> None:
        """Another kind is another question; going back finds the first answer again."""
        revision = taken_in(house, mail("<p>Your receipt, with thanks and greetings</p>"))
        first = revision.check_runs.get()
        Mailing.objects.filter(pk=revision.mailing_id).update(kind="transactional")
        revision.refresh_from_db()
        assert walk_of(revision).is_stale
        answers.check_now(revision)
        assert CheckRun.objects.count() == 2
        assert "footer.unsubscribe-missing" not in open_checks(revision)
        Mailing.objects.filter(pk=revision.mailing_id).update(kind="promotional")
        revision.refresh_from_db()
        assert answers.check_now(revision).pk == first.pk
        assert "footer.unsubscribe-missing" in open_checks(revision)

    def test_asking_twice_is_one_piece_of_work(self, house: Any) -> None:
        """The database keeps one open work of a kind for a revision."""
        revision = taken_in(house)
        assert answers.ask_for_checks(revision).pk == answers.ask_for_checks(revision).pk

    def test_a_failing_task_says_so(self, house: Any) -> None:
        """The work is marked failed with its reason."""
        revision = taken_in(house)
        work = answers.ask_for_checks(revision)
        with pytest.raises(Exception, match="does not exist"):
            check_revision.func(revision_id=0, work_id=work.pk)
        work.refresh_from_db()
        assert work.state == "failed"
        assert work.problem == "Jetwind failed at it; the worker's log says how"


class TestStations:
    """Marks of the course and the windsock."""

    def test_what_changes_while_checks_run_is_asked_about_again(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """A brief that is changed after the running checks have read it: the request is given the open work, and is not lost."""
        revision = taken_in(house)
        Work.objects.all().delete()
        work = answers.ask_for_checks(revision)
        real = answers.check_now

        def changed_meanwhile(one: Any, *given: Any, **more: Any) -> Any:
            run = real(one, *given, **more)
            services.forbid_wording(house.author, one.mailing, "glaze")
            return run

        monkeypatch.setattr(answers, "check_now", changed_meanwhile)
        check_revision.func(revision_id=revision.pk, work_id=work.pk)
        monkeypatch.undo()
        again = Work.objects.filter(kind="checks").latest("pk")
        assert (again.pk != work.pk, again.state) == (True, Work.State.WAITING)
        check_revision.func(revision_id=revision.pk, work_id=again.pk)
        assert Work.objects.filter(kind="checks").latest("pk").pk == again.pk
        assert not is_outdated(Revision.objects.get(pk=revision.pk))

    def test_marks(self, house: Any) -> None:
        """Empty until looked at, half with open findings, full when clear."""
        revision = taken_in(house, FAULTY)
        services.look_at(house.reviewer, revision, "links")
        services.look_at(house.reviewer, revision, "wording")
        marks = {state.slug: state.mark for state in walk_of(revision).stations}
        assert (marks["links"], marks["wording"], marks["images"]) == ("half", "full", "empty")
        services.unlook(house.reviewer, revision, "wording")
        assert {state.slug: state.mark for state in walk_of(revision).stations}["wording"] == "empty"

    def test_the_first_look_takes_it_under_review(self, house: Any) -> None:
        """Stage and log."""
        revision = taken_in(house)
        services.look_at(house.reviewer, revision, "links")
        revision.mailing.refresh_from_db()
        assert revision.mailing.stage == "under-review"

    def test_the_windsock_lifts_stripe_by_stripe(self, house: Any) -> None:
        """Limp at first, all five with every station clear; an open stop holds it down."""
        clean = taken_in(house)
        assert walk_of(clean).readiness.stripes == 0
        for number, station in enumerate(STATIONS[:6], 1):
            services.look_at(house.reviewer, clean, station.slug)
            assert walk_of(clean).readiness.stripes == number * 5 // 11
        assert walk_of(walked(house, clean)).readiness.stripes == 5
        faulty = walked(house, taken_in(house, FAULTY))
        assert walk_of(faulty).stops == 1
        assert walk_of(faulty).readiness.stripes == 3

    def test_unknown_station(self, house: Any) -> None:
        """Refused by name."""
        with pytest.raises(Refused, match="no station “cockpit”"):
            services.look_at(house.reviewer, taken_in(house), "cockpit")


class TestExcuses:
    """A finding accepted with a reason."""

    def test_holds_while_the_thing_stays(self, house: Any) -> None:
        """Over a new revision in which only other things changed; not once the thing changes."""
        revision = taken_in(house, FAULTY)
        services.excuse(
            house.reviewer, revision, fingerprint(revision, "links.insecure"), "the shop has no https", only_this_revision=False
        )
        assert open_checks(revision) == ["access.alt-missing", "images.no-width"]
        add_revision(house.author, revision.mailing, FAULTY.replace(b"Spring glaze", b"Summer glaze"), "b.eml")
        assert open_checks(checked(revision.mailing)) == ["access.alt-missing", "images.no-width"]
        add_revision(house.author, revision.mailing, FAULTY.replace(b"http://www.kiln.org/sale", b"http://www.kiln.org/sold"), "c.eml")
        assert open_checks(checked(revision.mailing)) == ["access.alt-missing", "images.no-width", "links.insecure"]

    def test_for_one_revision_only(self, house: Any) -> None:
        """Open again in the next, where it may be excused anew."""
        revision = taken_in(house, FAULTY)
        print_ = fingerprint(revision, "links.insecure")
        services.excuse(house.reviewer, revision, print_, "just this once", only_this_revision=True)
        assert "links.insecure" not in open_checks(revision)
        add_revision(house.author, revision.mailing, FAULTY.replace(b"Spring", b"Summer"), "b.eml")
        second = checked(revision.mailing)
        assert "links.insecure" in open_checks(second)
        services.excuse(house.reviewer, second, print_, "once more", only_this_revision=True)
        assert "links.insecure" not in open_checks(second)

    def test_lifted(self, house: Any) -> None:
        """Open again, and the record of it stays."""
        revision = taken_in(house, FAULTY)
        print_ = fingerprint(revision, "links.insecure")
        services.excuse(house.reviewer, revision, print_, "the shop has no https", only_this_revision=False)
        services.lift_excuse(house.reviewer, revision, print_)
        assert "links.insecure" in open_checks(revision)
        assert Excuse.objects.get().lifted_at is not None

    @pytest.mark.parametrize(("reason", "said"), [("", "needs a reason"), ("  x ", "needs a reason"), ("x" * 501, "there is room for 500")])
    def test_reasons_that_are_none(self, house: Any, reason: str, said: str) -> None:
        """Empty, too short to mean anything, too long to keep."""
        revision = taken_in(house, FAULTY)
        with pytest.raises(Refused, match=said):
            services.excuse(house.reviewer, revision, fingerprint(revision, "links.insecure"), reason, only_this_revision=False)

    def test_of_several_faults_it_holds_for_those_that_were_there(self, house: Any) -> None:
        """Fewer are still excused; one more, or one in a further place, is open; it may be excused anew, and lifted."""
        revision = taken_in(house, mail(over_http(1, 2)))
        services.excuse(
            house.reviewer, revision, fingerprint(revision, "links.insecure"), "the shop has no https", only_this_revision=False
        )
        for numbers, is_open in (((2,), False), ((2, 1), False), ((1, 1), True), ((1, 2, 3), True)):
            add_revision(house.author, revision.mailing, mail(over_http(*numbers)), "b.eml")
            newest = checked(revision.mailing)
            assert ("links.insecure" in open_checks(newest)) is is_open, numbers
            assert listed_in(revision.mailing.workspace)[0].facts.fixes == walk_of(newest).fixes
        services.excuse(house.approver, newest, fingerprint(newest, "links.insecure"), "the same shop", only_this_revision=False)
        assert "links.insecure" not in open_checks(newest)
        services.lift_excuse(house.reviewer, newest, fingerprint(newest, "links.insecure"))
        assert "links.insecure" in open_checks(newest)

    def test_lifting_leaves_no_older_excuse_behind(self, house: Any) -> None:
        """One press lifts every excuse that covers what is there."""
        revision = taken_in(house, mail(over_http(1)))
        for numbers in ((1,), (1, 2)):
            add_revision(house.author, revision.mailing, mail(over_http(*numbers)), "b.eml")
            newest = checked(revision.mailing)
            services.excuse(house.reviewer, newest, fingerprint(newest, "links.insecure"), "the same shop", only_this_revision=False)
        add_revision(house.author, revision.mailing, mail(over_http(1)), "c.eml")
        newest = checked(revision.mailing)
        services.lift_excuse(house.reviewer, newest, fingerprint(newest, "links.insecure"))
        assert "links.insecure" in open_checks(newest)
        assert not Excuse.objects.filter(lifted_at=None).exists()

    def test_for_all_of_a_cause(self, house: Any) -> None:
        """It holds when places come, and says so in the log and in what is kept of it."""
        revision = taken_in(house, mail(over_http(1)))
        print_ = fingerprint(revision, "links.insecure")
        made = services.excuse(house.reviewer, revision, print_, "the shop has no https", only_this_revision=False, for_all=True)
        assert (made.for_all, made.members) == (True, {})
        add_revision(house.author, revision.mailing, mail(over_http(4, 5, 6)), "b.eml")
        newest = checked(revision.mailing)
        assert "links.insecure" not in open_checks(newest)
        assert listed_in(revision.mailing.workspace)[0].facts.fixes == walk_of(newest).fixes
        with pytest.raises(Refused, match="a moment ago"):
            services.excuse(house.approver, newest, fingerprint(newest, "links.insecure"), "me too, please", only_this_revision=False)
        services.lift_excuse(house.reviewer, newest, fingerprint(newest, "links.insecure"))
        assert "links.insecure" in open_checks(newest)

    def test_excuses_of_single_faults_cover_them_together(self, house: Any) -> None:
        """Two that were excused one by one stay so when they are told as one finding."""
        revision = taken_in(house, mail(over_http(1)))
        for number in (1, 2):
            add_revision(house.author, revision.mailing, mail(over_http(number)), "b.eml")
            newest = checked(revision.mailing)
            services.excuse(house.reviewer, newest, fingerprint(newest, "links.insecure"), f"page {number}", only_this_revision=False)
        add_revision(house.author, revision.mailing, mail(over_http(2, 1)), "c.eml")
        assert "links.insecure" not in open_checks(checked(revision.mailing))

    def test_twice_and_unknown(self, house: Any) -> None:
        """Two people at once cannot both win; a finding that is not there cannot be excused."""
        revision = taken_in(house, FAULTY)
        print_ = fingerprint(revision, "links.insecure")
        services.excuse(house.reviewer, revision, print_, "the shop has no https", only_this_revision=False)
        with pytest.raises(Refused, match="a moment ago"):
            services.excuse(house.approver, revision, print_, "me too, please", only_this_revision=False)
        with pytest.raises(Refused, match="not in the newest check"):
            services.excuse(house.reviewer, revision, "0" * 16, "whatever it is", only_this_revision=False)
        with pytest.raises(NotAllowed):
            services.excuse(house.author, revision, print_, "my own fault", only_this_revision=False)

    def test_an_excuse_without_reason_is_refused_by_the_database(self, house: Any) -> None:
        """Rules of state stand there too."""
        revision = taken_in(house)
        with pytest.raises(IntegrityError), transaction.atomic():
            Excuse.objects.create(
                mailing=revision.mailing,
                check_id="links.insecure",
                fingerprint="a",
                reason="",
                sentence="x",
                level="fix",
                by=house.reviewer,
            )

    def test_a_refused_reason_comes_back(self, house: Any) -> None:
        """Nothing typed is lost."""
        revision = taken_in(house, FAULTY)
        print_ = fingerprint(revision, "links.insecure")
        client = house.client(house.reviewer)
        back = f"/mailings/{revision.mailing_id}/r1/links/?finding={print_}"
        answer = client.post(f"/mailings/{revision.mailing_id}/r1/excuse/{print_}/", {"reason": "no", "back": back}, follow=True)
        page = answer.content.decode()
        assert "needs a reason" in page
        assert ">no</textarea>" in page
        other = fingerprint(revision, "access.alt-missing")
        client.post(f"/mailings/{revision.mailing_id}/r1/excuse/{print_}/", {"reason": "no", "back": back})
        for address in (f"/mailings/{revision.mailing_id}/r1/access/?finding={other}", back):
            assert ">no</textarea>" not in client.get(address).content.decode()
