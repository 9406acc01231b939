"""Sign-offs over exact content, clearance, release."""

import hashlib
import json
import threading
from typing import Any

import pytest
from django.db import IntegrityError, connection, transaction

from jetwind.apps.approvals import services
from jetwind.apps.approvals.models import Release, SignOff
from jetwind.apps.approvals.rules import entries_of, keep_rule
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.instructions.services import send_back
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.selectors import revision_for
from jetwind.apps.intake.services import Details, add_revision, change_details, set_measured_reader, set_syntax
from jetwind.apps.jobs.models import Work
from jetwind.apps.notices.models import Notice
from jetwind.apps.review.answers import ask_for_checks, check_now
from jetwind.apps.review.selectors import walk_of
from jetwind.apps.review.services import excuse, look_at, unlook
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.models import FieldSyntax, SampleReader, Workspace
from jetwind.core.clearing import Rule
from jetwind.core.reports import STATIONS
from tests.apps.helpers import checked, page_of, taken_in, walked
from tests.factories import GOOD_HTML, mail


def cleared(house: Any, raw: bytes | None = None) -> Revision:
    """A revision that reviewer and approver signed."""
    revision = taken_in(house, raw)
    services.sign(house.reviewer, revision)
    services.sign(house.approver, revision, "looks right")
    return Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)


class TestSigning:
    """Somebody other than the author says yes."""

    def test_two_sign_offs_with_an_approver_clear_it(self, house: Any) -> None:
        """One is not enough; the stage follows."""
        revision = taken_in(house)
        services.sign(house.reviewer, revision)
        revision.mailing.refresh_from_db()
        assert revision.mailing.stage == "under-review"
        services.sign(house.approver, revision)
        revision.mailing.refresh_from_db()
        assert revision.mailing.stage == "cleared"
        assert SignOff.objects.filter(content_sha256=revision.content_sha256).count() == 2

    def test_without_an_approver_it_is_not_cleared(self, house: Any) -> None:
        """Two reviewers do not make an approver."""
        from jetwind.apps.accounts.models import User
        from jetwind.apps.workspace.models import Membership

        second = User.objects.create_user("second")
        Membership.objects.create(workspace=house.workspace, user=second, roles=["reviewer"])
        revision = taken_in(house)
        services.sign(house.reviewer, revision)
        services.sign(second, revision)
        assert not services.is_enough(revision)

    def test_what_a_page_read_is_read_again_under_the_lock(self, house: Any) -> None:
        """Somebody takes the same title between the page and the press: signing waits for the recheck."""
        mailing = taken_in(house, mail(GOOD_HTML)).mailing
        shown = revision_for(house.reviewer, mailing.pk, 1)
        other = taken_in(house, mail(GOOD_HTML, Subject="Another")).mailing
        Mailing.objects.filter(pk=other.pk).update(title=mailing.title.upper())
        with pytest.raises(Refused, match="run again in the background"):
            services.sign(house.reviewer, shown)

    def test_too_many_words_are_refused_not_cut(self, house: Any) -> None:
        """The sentence says how many there may be; nothing is signed."""
        revision = taken_in(house, mail(GOOD_HTML))
        with pytest.raises(Refused, match="at most 500 characters; this one has 501"):
            services.sign(house.reviewer, revision, "x" * 501)
        assert services.sign(house.reviewer, revision, "x" * 500).comment == "x" * 500

    def test_who_uploaded_cannot_sign(self, house: Any) -> None:
        """Not even with the role, not an earlier revision's uploader; the database refuses too."""
        house.author.memberships.update(roles=["author", "approver"])
        revision = taken_in(house)
        with pytest.raises(Refused, match="You uploaded this revision"):
            services.sign(house.author, revision)
        add_revision(house.reviewer, revision.mailing, mail(Subject="By the reviewer"), "b.eml")
        newest = revision.mailing.revisions.select_related("mailing__workspace").latest("number")
        check_now(newest)
        with pytest.raises(Refused, match="You uploaded a revision of this message"):
            services.sign(house.author, newest)
        with pytest.raises(IntegrityError, match="does not sign it"), transaction.atomic():
            SignOff.objects.create(
                mailing=revision.mailing, revision=newest, content_sha256=newest.content_sha256, by=house.author, role="approver"
            )

    def test_an_author_or_operator_cannot_sign(self, house: Any) -> None:
        """The role says so."""
        with pytest.raises(NotAllowed, match="approver or reviewer"):
            services.sign(house.operator, taken_in(house))

    def test_open_stops_block(self, house: Any) -> None:
        """Named with their number; excused stops do not count."""
        revision = taken_in(house, mail(GOOD_HTML + '<img src="https://k.org/a.png">'))
        with pytest.raises(Refused, match="1 stop is open"):
            services.sign(house.approver, revision)
        (found,) = [found.record for found in walk_of(revision).findings if found.record.level == "stop"]
        excuse(house.reviewer, revision, found.fingerprint, "a picture for decoration", only_this_revision=False)
        services.sign(house.approver, revision)

    def test_a_page_with_stale_checks_waits_for_new_ones(self, house: Any) -> None:
        """It asks every few seconds, and loads itself anew once checks are under way or done; who may not check has no button there."""
        revision = taken_in(house)
        station = f"/mailings/{revision.mailing_id}/r1/wording/"
        client = house.client(house.reviewer)
        assert "Circumstances have changed" not in client.get(station).content.decode()
        house.workspace.practice_domains = ["kiln.org"]
        house.workspace.save()
        Work.objects.all().delete()
        run = revision.check_runs.get()
        asking = f"/mailings/{revision.mailing_id}/r1/progress/?after={run.pk}"
        assert asking in client.get(station).content.decode()
        still = client.get(asking).content.decode()
        assert asking in still and "Check again now" in still and "data-fresh" not in still
        assert "Check again now" not in house.client(house.operator).get(asking).content.decode()
        ask_for_checks(revision)
        assert "Checks: waiting for a worker" in client.get(asking).content.decode()
        checked(revision.mailing)
        assert "data-fresh" in client.get(asking).content.decode()

    def test_unchecked_stale_and_old_revisions(self, house: Any) -> None:
        """Each says what stands against it."""
        revision = taken_in(house)
        house.workspace.practice_domains = ["kiln.org"]
        house.workspace.save()
        revision.mailing.workspace.refresh_from_db()
        with pytest.raises(Refused, match="run again in the background"):
            services.sign(house.approver, revision)
        add_revision(house.author, revision.mailing, mail(Subject="Newer"), "b.eml")
        with pytest.raises(Refused, match="Revision 2 is newer"):
            services.sign(house.approver, revision)
        newest = revision.mailing.revisions.select_related("mailing__workspace").latest("number")
        with pytest.raises(Refused, match="The checks are running"):
            services.sign(house.approver, newest)

    def test_once_a_person(self, house: Any) -> None:
        """A second time is refused, by service and database."""
        revision = taken_in(house)
        services.sign(house.approver, revision)
        with pytest.raises(Refused, match="You have signed"):
            services.sign(house.approver, revision)
        with pytest.raises(IntegrityError), transaction.atomic():
            SignOff.objects.create(
                mailing=revision.mailing, revision=revision, content_sha256=revision.content_sha256, by=house.approver, role="approver"
            )

    def test_over_other_bytes_the_database_refuses(self, house: Any) -> None:
        """A sign-off belongs to the content of its revision."""
        revision = taken_in(house)
        with pytest.raises(IntegrityError, match="over the content"), transaction.atomic():
            SignOff.objects.create(mailing=revision.mailing, revision=revision, content_sha256="0" * 64, by=house.approver, role="approver")


class TestLooks:
    """Nobody signs and nobody releases what no reviewer has looked at, unless the house says so."""

    @pytest.fixture(autouse=True)
    def holds(self, house: Any) -> None:
        """The house as it is made."""
        house.workspace.clearing = Workspace._meta.get_field("clearing").get_default()
        house.workspace.save()

    def test_a_message_that_was_not_walked(self, house: Any) -> None:
        """Each station is named; the last look lets people sign."""
        revision = taken_in(house)
        slugs = [station.slug for station in STATIONS if station.slug != "sign-off"]
        with pytest.raises(Refused, match=r"^No station was looked at\.$"):
            services.sign(house.reviewer, revision)
        for slug in slugs[1:]:
            look_at(house.reviewer, revision, slug)
        with pytest.raises(Refused, match=r"^1 station was not looked at: Envelope\.$"):
            services.sign(house.reviewer, revision)
        shown = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/sign-off/"))
        assert "1 station was not looked at: Envelope." in shown and "Clear revision 1" not in shown
        look_at(house.reviewer, revision, slugs[0])
        assert services.sign(house.reviewer, revision)

    def test_a_look_that_is_taken_back_holds_the_release(self, house: Any) -> None:
        """Cleared is not released: what no longer holds is asked again."""
        revision = walked(house, taken_in(house))
        services.sign(house.reviewer, revision)
        services.sign(house.approver, revision)
        unlook(house.reviewer, revision, "links")
        with pytest.raises(Refused, match="1 station was not looked at: Links"):
            services.release(house.operator, revision)
        look_at(house.reviewer, revision, "links")
        assert services.release(house.operator, revision)

    def test_a_new_revision_is_walked_anew(self, house: Any) -> None:
        """Looks are of one revision."""
        revision = walked(house, taken_in(house))
        add_revision(house.author, revision.mailing, mail(GOOD_HTML, Subject="Again"), "b.eml")
        newest = checked(revision.mailing)
        with pytest.raises(Refused, match="No station was looked at"):
            services.sign(house.reviewer, newest)

    def test_the_house_may_leave_it_to_its_people(self, house: Any) -> None:
        """A rule, kept on the screen of the rules."""
        with pytest.raises(Refused, match="No station was looked at"):
            services.sign(house.reviewer, taken_in(house))
        keep_rule(house.reviewer, house.workspace, "every", entries_of(Rule()) | {"stations": "free"})
        assert services.sign(house.reviewer, taken_in(house))


class TestTakenBack:
    """A person takes their own sign-off back, before the release."""

    def test_cleared_no_more(self, house: Any) -> None:
        """The message is under review again, approvers are asked, the log says why, and the same person may sign anew."""
        revision = cleared(house)
        client = house.client(house.approver)
        station = f"/mailings/{revision.mailing_id}/r1/sign-off/"
        assert "Take your sign-off back" in page_of(client.get(station))
        client.post(f"{station}take-back/", {"reason": "the price  is wrong"})
        assert Mailing.objects.get().stage == "under-review"
        assert "taken back: the price is wrong" in page_of(client.get(station))
        assert LogEntry.objects.latest("id").sentence == "took back the sign-off of revision 1: the price is wrong"
        with pytest.raises(Refused, match="Waits for the signature of an approver"):
            services.release(house.operator, revision)
        assert not Notice.objects.filter(user=house.approver, kind="asked", read_at=None).exists()
        services.take_back(house.reviewer, revision)
        assert not Notice.objects.filter(kind="asked", read_at=None).exists()
        services.sign(house.reviewer, revision)
        assert Notice.objects.get(user=house.approver, kind="asked", read_at=None).words.startswith("Reviewer signed revision 1;")
        services.sign(house.approver, revision)
        assert Mailing.objects.get().stage == "cleared"

    def test_one_of_two_that_is_not_needed(self, house: Any) -> None:
        """Where enough sign-offs stay, the message stays cleared."""
        house.workspace.clearing = {"every": {"signers": ["approver"], "stations": "free"}}
        house.workspace.save()
        revision = taken_in(house)
        services.sign(house.approver, revision)
        services.sign(house.reviewer, revision)
        services.take_back(house.reviewer, revision)
        assert Mailing.objects.get().stage == "cleared"

    def test_refused(self, house: Any) -> None:
        """Nobody takes back what they did not sign, what is released, or what is another's; a second press finds nothing."""
        revision = cleared(house)
        with pytest.raises(Refused, match="no sign-off of revision 1"):
            services.take_back(house.author, revision)
        with pytest.raises(NotAllowed):
            services.take_back(house.outsider, revision)
        with pytest.raises(Refused, match="at most 180 characters"):
            services.take_back(house.approver, revision, "x" * 181)
        services.take_back(house.approver, revision)
        with pytest.raises(Refused, match="no sign-off of revision 1"):
            services.take_back(house.approver, revision)
        services.sign(house.approver, revision)
        services.release(house.operator, revision)
        with pytest.raises(Refused, match="released and locked"):
            services.take_back(house.approver, revision)
        assert house.client(house.outsider).post(f"/mailings/{revision.mailing_id}/r1/sign-off/take-back/").status_code == 404


class TestVoiding:
    """A change after the yes voids it."""

    @pytest.mark.parametrize("cause", ["revision", "sent back"])
    def test_what_voids(self, house: Any, cause: str) -> None:
        """A new revision, sending back: void with the reason, logged, no longer cleared."""
        revision = cleared(house)
        if cause == "revision":
            add_revision(house.author, revision.mailing, mail(Subject="Other"), "b.eml")
        else:
            send_back(house.reviewer, revision, "one more thing")
        revision.mailing.refresh_from_db()
        assert revision.mailing.stage == ("sent-back" if cause == "sent back" else "under-review")
        said = {"revision": "revision 2 came in", "sent back": "revision 1 was sent back"}[cause]
        assert set(SignOff.objects.values_list("voided_reason", flat=True)) == {said}
        assert f"sign-offs of revision 1 became void: {said}" in [entry.sentence for entry in LogEntry.objects.all()]

    def test_what_was_not_signed_voids_nothing(self, house: Any) -> None:
        """Another plan, syntax or reader changes no content; the checks are asked again, and what they find holds the release back."""
        revision = cleared(house)
        change_details(house.author, revision.mailing, Details("Other title", "promotional", "", None, "UTC"))
        syntax = FieldSyntax.objects.create(
            workspace=house.workspace, name="Angles", description={"name": "Angles", "open": "<<", "close": ">>"}
        )
        set_syntax(house.author, revision.mailing, syntax)
        SampleReader.objects.create(workspace=house.workspace, name="Tove", values={"first_name": "Tove"})
        set_measured_reader(house.reviewer, revision.mailing, "Tove")
        revision.mailing.refresh_from_db()
        assert revision.mailing.stage == "cleared"
        assert set(SignOff.objects.values_list("voided_at", flat=True)) == {None}
        assert Work.objects.filter(kind="checks", subject=f"revision:{revision.pk}", state="waiting").exists()
        with pytest.raises(Refused, match="run again in the background"):
            services.release(house.operator, revision)

    def test_a_void_sign_off_may_be_given_again(self, house: Any) -> None:
        """To the new content."""
        revision = cleared(house)
        add_revision(house.author, revision.mailing, mail(Subject="Other"), "b.eml")
        newest = checked(revision.mailing)
        services.sign(house.approver, newest)
        assert newest.sign_offs.get().voided_at is None


class TestRelease:
    """Locked and read-only from here."""

    def test_the_clearance_record(self, house: Any) -> None:
        """Hashes of all parts, what was excused and by whom, sign-offs, times; its own hash is right."""
        revision = taken_in(house, mail(GOOD_HTML + '<img src="https://k.org/a.png">'))
        print_ = next(found.record.fingerprint for found in walk_of(revision).findings if found.record.level == "stop")
        excuse(house.reviewer, revision, print_, "a picture for decoration", only_this_revision=False)
        services.sign(house.reviewer, revision)
        services.sign(house.approver, revision, "looks right")
        made = services.release(house.operator, revision)
        answer = house.client(house.author).get(f"/mailings/{revision.mailing_id}/clearance.json")
        assert hashlib.sha256(answer.content).hexdigest() == made.record_sha256
        record = json.loads(answer.content)
        assert record["message"]["content_sha256"] == revision.content_sha256
        assert {part["part"] for part in record["parts"]} == {"file", "html", "text"}
        assert record["parts"][0]["sha256"] == revision.source_sha256
        assert [(item["check"], item["reason"], item["by"]) for item in record["excused"]] == [
            ("access.alt-missing", "a picture for decoration", "Reviewer")
        ]
        assert [(item["by"], item["role"], item["comment"]) for item in record["sign_offs"]] == [
            ("Reviewer", "reviewer", ""),
            ("Approver", "approver", "looks right"),
        ]
        assert record["released"]["by"] == "Operator"
        assert record["checks"]["links.insecure"] == "clear"

    def test_locked(self, house: Any) -> None:
        """No upload, no excuse, no details, no sign-off, no second release; a copy can be started."""
        from jetwind.apps.intake.services import start_copy

        revision = cleared(house)
        services.release(house.operator, revision)
        mailing = Mailing.objects.get(pk=revision.mailing_id)
        revision.mailing = mailing
        for refused in (
            lambda: add_revision(house.author, mailing, mail(Subject="Other"), "b.eml"),
            lambda: change_details(house.author, mailing, Details("Other")),
            lambda: services.release(house.operator, revision),
            lambda: services.sign(house.approver, revision),
            lambda: send_back(house.reviewer, revision, "too late"),
        ):
            with pytest.raises(Refused, match="released"):
                refused()
        for statement in ("insert", "update"):
            with pytest.raises(IntegrityError, match="released and locked"), transaction.atomic():
                if statement == "insert":
                    Revision.objects.create(
                        mailing=mailing, number=2, file_name="x", source_sha256="x", content_sha256="x", uploaded_by=house.author
                    )
                else:
                    Mailing.objects.filter(pk=mailing.pk).update(title="changed")
        assert start_copy(house.author, mailing).stage == "taken-in"

    def test_not_before_it_is_cleared_and_not_by_everybody(self, house: Any) -> None:
        """The operator releases what is cleared."""
        revision = taken_in(house)
        with pytest.raises(Refused, match="Waits for 2 signatures"):
            services.release(house.operator, revision)
        with pytest.raises(NotAllowed, match="operator"):
            services.release(house.approver, cleared(house))

    def test_a_lifted_excuse_after_the_clearance_blocks(self, house: Any) -> None:
        """Open stops are counted again at the release."""
        from jetwind.apps.review.services import lift_excuse

        revision = taken_in(house, mail(GOOD_HTML + '<img src="https://k.org/a.png">'))
        print_ = next(found.record.fingerprint for found in walk_of(revision).findings if found.record.level == "stop")
        excuse(house.reviewer, revision, print_, "a picture for decoration", only_this_revision=False)
        services.sign(house.reviewer, revision)
        services.sign(house.approver, revision)
        lift_excuse(house.reviewer, revision, print_)
        with pytest.raises(Refused, match="1 stop is open"):
            services.release(house.operator, revision)


@pytest.mark.django_db(transaction=True)
def test_two_operators_at_once_release_once(house: Any) -> None:
    """One wins, the other is told; one record exists."""
    revision = cleared(house)
    answers: list[str] = []
    start = threading.Barrier(2)

    def release() -> None:
        try:
            start.wait(10)
            services.release(house.operator, Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
            answers.append("released")
        except Refused as refused:
            answers.append(refused.sentence)
        finally:
            connection.close()

    threads = [threading.Thread(target=release) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(20)
    assert sorted(answers)[0] == "released"
    assert "cannot go out twice" in sorted(answers)[1] or "released" in sorted(answers)[1]
    assert Release.objects.count() == 1
