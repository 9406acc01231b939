"""Sign-off by rules: what is missing is one list, signatures rest on all that is sent, conditions, refusals, handing on, stand-ins."""

import threading
from collections.abc import Callable
from datetime import UTC, date, datetime, timedelta
from functools import partial
from typing import Any

import pytest
from django.core.management import call_command
from django.db import IntegrityError, connection, transaction
from django.utils import timezone

from jetwind.apps.accounts.models import User
from jetwind.apps.approvals import services, stand_ins
from jetwind.apps.approvals.models import Release, SignOff, StandIn
from jetwind.apps.approvals.rules import drop_rule, entries_of, keep_rule
from jetwind.apps.approvals.standing import rests_on
from jetwind.apps.approvals.tasks import reconsider, reconsider_house
from jetwind.apps.audit.models import LogEntry
from jetwind.apps.comments import services as comments
from jetwind.apps.comments.models import Thread
from jetwind.apps.follows import time_passed
from jetwind.apps.intake.models import Mailing, Revision
from jetwind.apps.intake.services import Details, add_revision, start_copy
from jetwind.apps.jobs.models import Work
from jetwind.apps.notices.models import Notice
from jetwind.apps.proofs.models import Reply, ReplyLink, TestCopy, TestSend
from jetwind.apps.review.models import StationLook
from jetwind.apps.review.selectors import walk_of
from jetwind.apps.review.services import confirm_excuse, excuse, leave_out, lift_excuse, look_at, unlook
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace import services as workspaces
from jetwind.apps.workspace.models import Membership, Workspace
from jetwind.core.clearing import SHIPPED, Rule
from tests.apps.helpers import checked, listed_in, page_of, taken_in, walked
from tests.factories import GOOD_HTML, mail

pytestmark = pytest.mark.django_db
FAULTY = mail(GOOD_HTML + '<img src="https://k.org/a.png">')
PLACE = comments.Place(Thread.Kind.STATION, "links", "the station Links")


def fresh(revision: Revision) -> Revision:
    """As a page finds it."""
    return Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)


def follow(house: Any, entries: dict[str, Any]) -> None:
    """Give every kind of message a rule: the usual one, with these entries set otherwise."""
    keep_rule(house.operator, house.workspace, "every", entries_of(Rule()) | {"stations": "free"} | entries)


def stop_of(revision: Revision) -> str:
    """The fingerprint of its stop."""
    return next(found.record.fingerprint for found in walk_of(fresh(revision)).findings if found.record.level == "stop")


def person(house: Any, name: str, *roles: str) -> User:
    """Somebody else of the house."""
    user = User.objects.create_user(name, f"{name}@kiln.org", first_name=name.capitalize(), time_zone="Europe/Amsterdam")
    Membership.objects.create(workspace=house.workspace, user=user, roles=list(roles))
    return user


def signed(revision: Revision, *people: User) -> Revision:
    """With the sign-offs of people."""
    for one in people:
        services.sign(one, fresh(revision))
    return fresh(revision)


class TestOneList:
    """What is missing is told by the same sentences everywhere."""

    def test_on_departures_sign_off_command_line_and_log(self, house: Any, capsys: pytest.CaptureFixture[str]) -> None:
        """And a cleared message whose look was taken back says what holds it, not that it waits for the operator."""
        follow(house, {"stations": "looked"})
        revision = signed(walked(house, taken_in(house)), house.reviewer, house.approver)
        [row] = listed_in(house.workspace)
        assert row.readiness.holding == "Cleared; waits for the operator."
        unlook(house.reviewer, revision, "links")
        said = ["1 station was not looked at: Links."]
        [row] = listed_in(house.workspace)
        assert [one.words for one in row.readiness.missing] == said
        assert (row.readiness.whose_turn, row.mailing.stage) == ("reviewer", "cleared")
        assert [one.words for one in walk_of(fresh(revision)).readiness.missing] == said
        shown = page_of(house.client(house.operator).get(f"/mailings/{revision.mailing_id}/r1/sign-off/"))
        assert said[0] in shown and "Release revision 1" not in shown
        assert said[0] in page_of(house.client(house.operator).get("/"))
        with pytest.raises(Refused) as refused:
            services.release(house.operator, fresh(revision))
        assert refused.value.sentence == said[0]
        assert LogEntry.objects.latest("pk").sentence == f"could not release revision 1: {said[0]}"
        call_command("departures", "--workspace", house.workspace.name)
        assert said[0] in capsys.readouterr().out

    def test_every_sentence_that_holds_keeps_people_from_signing(self, house: Any) -> None:
        """By the strict rule, what Departures tells is what the press is refused with."""
        house.workspace.clearing = {"every": SHIPPED["strict"].as_table()}
        house.workspace.save()
        revision = taken_in(house, FAULTY)
        [row] = listed_in(house.workspace)
        with pytest.raises(Refused) as refused:
            services.sign(house.reviewer, revision)
        assert refused.value.sentence == " ".join(one.words for one in row.readiness.missing if one.holds)

    def test_a_rule_for_a_kind(self, house: Any) -> None:
        """Its messages follow it, others do not, and without it they follow the rule of every kind."""
        keep_rule(house.operator, house.workspace, "transactional", entries_of(Rule(("approver",))) | {"stations": "free"})
        receipt = taken_in(house, details=Details("Receipt", kind="transactional"))
        sale = taken_in(house, mail(Subject="Sale"), details=Details("Sale"))
        for revision in (receipt, sale):
            services.sign(house.approver, revision)
        assert [row.mailing.stage for row in listed_in(house.workspace)] == ["under-review", "cleared"]
        assert drop_rule(house.operator, house.workspace, "transactional")
        assert not drop_rule(house.operator, house.workspace, "transactional")
        reconsider_house.func(workspace_id=house.workspace.pk)
        assert set(Mailing.objects.values_list("stage", flat=True)) == {"under-review"}


class TestStations:
    """Looked at, or left out with a reason."""

    def test_left_out(self, house: Any) -> None:
        """By the usual rule it is as good as looked at; the course does not show it clear; the page says who and why."""
        follow(house, {"stations": "left-out"})
        revision = taken_in(house)
        for slug in ("envelope", "appearance", "wording", "fields", "images", "access", "spam-risk", "footer", "plain-text", "test-sends"):
            look_at(house.reviewer, revision, slug)
        client = house.client(house.reviewer)
        client.post(f"/mailings/{revision.mailing_id}/r1/links/look/", {"left_out": "it has no links"})
        assert walk_of(fresh(revision)).readiness.stripes == 4
        shown = page_of(client.get(f"/mailings/{revision.mailing_id}/r1/links/"))
        assert "Reviewer left this station out: it has no links" in shown
        services.sign(house.reviewer, fresh(revision))
        follow(house, {"stations": "looked"})
        with pytest.raises(Refused, match="1 station was not looked at: Links"):
            services.sign(house.approver, fresh(revision))
        look_at(house.reviewer, revision, "links")
        assert StationLook.objects.get(revision=revision, station="links").left_out == ""
        assert services.sign(house.approver, fresh(revision))

    def test_refused(self, house: Any) -> None:
        """Without a reason, twice, where somebody looked, for Sign-off, after the release."""
        revision = taken_in(house)
        with pytest.raises(Refused, match="with a reason"):
            leave_out(house.reviewer, revision, "links", " x ")
        with pytest.raises(Refused, match="room for 300"):
            leave_out(house.reviewer, revision, "links", "x" * 301)
        with pytest.raises(Refused, match="no station"):
            leave_out(house.reviewer, revision, "sign-off", "not needed")
        leave_out(house.reviewer, revision, "links", "no links")
        with pytest.raises(Refused, match="left out already"):
            leave_out(house.approver, revision, "links", "no links")
        look_at(house.reviewer, revision, "images")
        with pytest.raises(Refused, match="has looked at Images"):
            leave_out(house.approver, revision, "images", "no images")
        with pytest.raises(NotAllowed):
            leave_out(house.author, revision, "footer", "no footer")


class TestExcuses:
    """A second person confirms."""

    def test_until_somebody_else_confirms(self, house: Any) -> None:
        """Not the person who made it; once is enough; the record names who did."""
        follow(house, {"confirming": "everybody"})
        revision = taken_in(house, FAULTY)
        print_ = stop_of(revision)
        excuse(house.reviewer, revision, print_, "a picture for decoration", only_this_revision=False)
        assert listed_in(house.workspace)[0].readiness.holding == "1 excuse waits for a second person to confirm."
        with pytest.raises(Refused, match="somebody else confirms"):
            confirm_excuse(house.reviewer, revision, print_)
        client = house.client(house.approver)
        page = page_of(client.get(f"/mailings/{revision.mailing_id}/r1/access/?finding={print_}"))
        assert "Confirm the excuse" in page
        for _ in range(2):
            client.post(f"/mailings/{revision.mailing_id}/r1/excuse/{print_}/", {"confirm": "yes"})
        assert LogEntry.objects.filter(action="finding.excuse-confirmed").count() == 1
        signed(revision, house.reviewer, house.approver)
        record = services.release(house.operator, fresh(revision)).record
        assert record["excused"][0]["confirmed_by"] == "Approver"
        with pytest.raises(Refused, match="released"):
            confirm_excuse(house.approver, revision, print_)

    def test_an_approvers_needs_none(self, house: Any) -> None:
        """Where the rule asks it of reviewers alone."""
        follow(house, {"confirming": "reviewers"})
        revision = taken_in(house, FAULTY)
        excuse(house.approver, revision, stop_of(revision), "a picture for decoration", only_this_revision=False)
        assert "confirm" not in listed_in(house.workspace)[0].readiness.holding
        lift_excuse(house.approver, revision, stop_of(revision))
        with pytest.raises(Refused, match="no excuse that could be confirmed"):
            confirm_excuse(house.approver, revision, stop_of(revision))


class TestSeen:
    """A test send seen by somebody, on a phone."""

    def test_on_a_phone(self, house: Any) -> None:
        """An answer from a desk does not do; what a browser says of itself does, and so does the device that a person names."""
        follow(house, {"seen": "phone"})
        revision = taken_in(house)
        send = TestSend.objects.create(mailing=revision.mailing, revision=revision, list_name="x", by=house.reviewer)
        link = ReplyLink.objects.create(send=send, address="one@kiln.org", nonce="x", expires_at="2099-01-01T00:00Z")
        with pytest.raises(Refused, match="Nobody has found a test copy right on a phone"):
            services.sign(house.reviewer, revision)
        Reply.objects.create(link=link, looks_right=True, client="Mozilla/5.0 (X11; Linux x86_64) Gecko/20100101")
        assert "on a phone" in listed_in(house.workspace)[0].readiness.holding
        follow(house, {"seen": "anywhere"})
        assert "found" not in listed_in(house.workspace)[0].readiness.holding
        follow(house, {"seen": "phone"})
        Reply.objects.create(link=link, looks_right=False, words="x", client="Mozilla/5.0 (Linux; Android) Mobile")
        assert "on a phone" in listed_in(house.workspace)[0].readiness.holding
        Reply.objects.create(link=link, looks_right=True, client="Mozilla/5.0 (Linux; Android) Mobile Safari")
        assert services.sign(house.reviewer, fresh(revision))


class TestOrder:
    """One after another."""

    def test_a_reviewer_before_the_approver(self, house: Any) -> None:
        """The approver is told whose turn it is, and is asked once it is theirs."""
        follow(house, {"reviewers": 1, "either": 0, "approvers": 1, "order": "reviewers-first"})
        revision = taken_in(house)
        with pytest.raises(Refused, match="By the rule of sign-off a reviewer signs next"):
            services.sign(house.approver, revision)
        services.sign(house.reviewer, revision)
        assert Notice.objects.get(kind="asked", read_at=None).user == house.approver
        services.sign(house.approver, revision)
        assert Mailing.objects.get().stage == "cleared"

    def test_the_next_of_the_role_is_asked(self, house: Any) -> None:
        """Approvers first: then the reviewers are asked, not the approvers."""
        follow(house, {"reviewers": 1, "either": 0, "approvers": 1, "order": "approvers-first"})
        second = person(house, "vera", "approver")
        services.sign(house.approver, taken_in(house))
        assert {one.user for one in Notice.objects.filter(kind="asked", read_at=None)} == {house.reviewer}
        assert second.pk


class TestGrounds:
    """A signature rests on all that is sent; a change voids it, says so, and shows precisely what changed."""

    @pytest.mark.parametrize(
        ("change", "said"),
        [
            (lambda house, revision: excuse(house.approver, revision, stop_of(revision), "agreed", only_this_revision=False), "Excused since: "),
            (lambda house, revision: _field(house), "Changed in fields: field list was “first_name” and is “first_name town”."),
            (lambda house, revision: _levels(house), "New in settings of checks: links.insecure."),
            (lambda house, revision: _rulebook(house), "Gone from rulebooks: "),
            (lambda house, revision: _refused_copy(house, revision), "Told by a test send since: The copy to two@kiln.org was refused."),
            (lambda house, revision: _wrong(house, revision), "Told by a test send since: Una found something wrong: blurred"),
        ],
        ids=["excuse", "field list", "settings", "rulebooks", "copy", "answer"],
    )  # fmt: skip
    def test_what_voids(self, house: Any, change: Callable[[Any, Revision], object], said: str) -> None:
        """The signature is void with the sentence, its person is told, and the message may be signed again."""
        follow(house, {"approvers": 1, "either": 1})
        revision = taken_in(house, mail(GOOD_HTML) if "Excused" not in said else FAULTY)
        if "Excused" in said:
            # A stop would hold the signature itself, so that it counts as a fix here.
            workspaces.set_checks(house.reviewer, house.workspace, {"access.alt-missing": {"level": "fix"}})
            revision = checked(revision.mailing)
        services.sign(house.reviewer, fresh(revision))
        if "Excused" in said:
            print_ = next(
                one.record.fingerprint for one in walk_of(fresh(revision)).findings if one.record.check_id == "access.alt-missing"
            )
            excuse(house.approver, fresh(revision), print_, "agreed", only_this_revision=False)
        else:
            change(house, fresh(revision))
        reconsider_house.func(workspace_id=house.workspace.pk)
        reconsider.func(mailing_id=revision.mailing_id)
        found = SignOff.objects.get()
        assert found.voided_at is not None
        assert found.changed[0].startswith(said), found.changed
        assert Notice.objects.get(user=house.reviewer, kind="voided").words.startswith(said[:40])
        assert said[:40] in LogEntry.objects.filter(action="approval.voided").latest("pk").sentence
        checked(revision.mailing)
        assert services.sign(house.reviewer, fresh(revision))
        assert "voided_reason" not in page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/sign-off/"))

    def test_what_does_not(self, house: Any) -> None:
        """A recheck with the same answers, a title, a look, a comment, and a recipient who finds it right."""
        revision = signed(taken_in(house), house.reviewer)
        send = TestSend.objects.create(mailing=revision.mailing, revision=revision, list_name="x", by=house.reviewer)
        link = ReplyLink.objects.create(send=send, address="one@kiln.org", nonce="x", expires_at="2099-01-01T00:00Z")
        Reply.objects.create(link=link, looks_right=True)
        comments.say(house.author, revision, PLACE, "Which page?")
        look_at(house.reviewer, revision, "links")
        Mailing.objects.update(title="Another title")
        checked(revision.mailing)
        reconsider.func(mailing_id=revision.mailing_id)
        assert SignOff.objects.get().voided_at is None

    def test_a_finding_that_comes_later(self, house: Any) -> None:
        """The checks say something new: the signature is void. Something that is gone voids nothing."""
        revision = signed(taken_in(house), house.reviewer)
        workspaces.set_checks(house.reviewer, house.workspace, {"envelope.subject-long": {"most_characters": 5}})
        assert SignOff.objects.get().voided_at is None
        checked(revision.mailing)
        changed = SignOff.objects.get().changed
        assert any(said.startswith(("Found since: ", "New in settings")) for said in changed)

    def test_the_digest_is_in_the_record(self, house: Any) -> None:
        """Of everything that each signature rests on."""
        revision = signed(taken_in(house), house.reviewer, house.approver)
        record = services.release(house.operator, revision).record
        kept = SignOff.objects.order_by("pk").values_list("rests_sha256", flat=True)
        assert [one["rests_on_sha256"] for one in record["sign_offs"]] == list(kept)
        assert set(rests_on(revision)) == set(SignOff.objects.first().rests)  # type: ignore[union-attr]
        assert record["rule"][0] == "2 people sign, in any order, 1 of them an approver."

    def test_days(self, house: Any) -> None:
        """A signature holds for so long, in the list and in the database."""
        follow(house, {"days": 3})
        revision = signed(taken_in(house), house.reviewer)
        SignOff.objects.update(at=timezone.now() - timedelta(days=3))
        assert listed_in(house.workspace)[0].readiness.holding == "Waits for 2 signatures, 1 of an approver."
        time_passed(datetime(2027, 3, 1, 9, 59, tzinfo=UTC), datetime(2027, 3, 1, 10, 1, tzinfo=UTC))
        reconsider.func(mailing_id=revision.mailing_id)
        assert SignOff.objects.get().voided_reason == "A signature holds for 3 days, which are over."
        assert services.sign(house.reviewer, fresh(revision))


def _field(house: Any) -> None:
    shown = workspaces.shown_settings(house.workspace)
    lists: dict[str, Any] = {name: " ".join(shown[name]) for name in ("practice_domains", "test_domains", "word_list")}
    workspaces.configure(house.reviewer, house.workspace, **lists, field_list="first_name town", shown=shown)


def _levels(house: Any) -> None:
    workspaces.set_checks(house.reviewer, house.workspace, {"links.insecure": {"level": "note"}})


def _rulebook(house: Any) -> None:
    shown = workspaces.shown_settings(house.workspace)
    lists: dict[str, Any] = {name: " ".join(shown[name]) for name in ("field_list", "practice_domains", "test_domains", "word_list")}
    from jetwind.core.checking import rulebooks

    workspaces.configure(house.reviewer, house.workspace, **lists, rulebooks=[next(iter(rulebooks()))], shown=shown)


def _refused_copy(house: Any, revision: Revision) -> None:
    send = TestSend.objects.create(mailing=revision.mailing, revision=revision, list_name="x", by=house.reviewer)
    TestCopy.objects.create(send=send, address="two@kiln.org", message_id="<x@y>", state="refused")


def _wrong(house: Any, revision: Revision) -> None:
    send = TestSend.objects.create(mailing=revision.mailing, revision=revision, list_name="x", by=house.reviewer)
    link = ReplyLink.objects.create(send=send, address="one@kiln.org", person="Una", nonce="x", expires_at="2099-01-01T00:00Z")
    Reply.objects.create(link=link, looks_right=False, words="blurred")


class TestConditions:
    """A signature that counts once something is done."""

    def test_a_comment(self, house: Any) -> None:
        """It counts once the comment is settled, and not while it is open again; the log says both."""
        revision = taken_in(house)
        thread = comments.say(house.author, revision, PLACE, "Which page?")
        services.sign(house.reviewer, revision)
        client = house.client(house.approver)
        station = f"/mailings/{revision.mailing_id}/r1/sign-off/"
        assert "Comment at the station Links" in page_of(client.get(station))
        client.post(f"{station}sign/", {"condition": f"comment:{thread.pk}"})
        assert Mailing.objects.get().stage == "under-review"
        assert listed_in(house.workspace)[0].readiness.holding == "A signature counts once the comment at the station Links is settled."
        comments.settle(house.reviewer, thread)
        assert Mailing.objects.get().stage == "cleared"
        comments.open_again(house.reviewer, thread)
        assert Mailing.objects.get().stage == "under-review"
        actions = LogEntry.objects.filter(action__startswith="approval.condition").order_by("pk").values_list("action", flat=True)
        assert list(actions) == ["approval.condition-met", "approval.condition-open"]
        comments.settle(house.reviewer, thread)
        record = services.release(house.operator, fresh(revision)).record
        assert record["sign_offs"][1]["condition"] == "the comment at the station Links is settled"

    def test_a_finding(self, house: Any) -> None:
        """Its excuse meets the condition and does not void the signature; another excuse does."""
        workspaces.set_checks(house.reviewer, house.workspace, {"access.alt-missing": {"level": "fix"}})
        revision = taken_in(house, FAULTY)
        found = next(one.record for one in walk_of(fresh(revision)).findings if one.record.check_id == "access.alt-missing")
        services.sign(house.approver, revision, condition=f"finding:{found.fingerprint}")
        assert SignOff.objects.get().waits_for.startswith("this is mended or excused: ")
        excuse(house.reviewer, revision, found.fingerprint, "a picture for decoration", only_this_revision=False)
        assert (SignOff.objects.get().waits_for, SignOff.objects.get().voided_at) == ("", None)
        lift_excuse(house.reviewer, revision, found.fingerprint)
        assert SignOff.objects.get().waits_for
        assert SignOff.objects.get().voided_at is None

    def test_refused(self, house: Any) -> None:
        """What is not there, what is met already."""
        revision = taken_in(house)
        thread = comments.say(house.author, revision, PLACE, "Which page?")
        for condition in ("comment:999", "finding:none", "comment:x", "else:1"):
            with pytest.raises(Refused, match="not there any more"):
                services.sign(house.reviewer, revision, condition=condition)
        comments.settle(house.reviewer, thread)
        with pytest.raises(Refused, match="met already"):
            services.sign(house.reviewer, revision, condition=f"comment:{thread.pk}")


class TestRefusing:
    """No, with reasons."""

    def test_it_goes_back(self, house: Any) -> None:
        """The author is told, other signatures are void, the refusal stands in the line of revisions."""
        revision = signed(taken_in(house), house.reviewer)
        client = house.client(house.approver)
        station = f"/mailings/{revision.mailing_id}/r1/sign-off/"
        assert "Refuse it, and send it back" in page_of(client.get(station))
        client.post(f"{station}refuse/", {"reason": "the price is wrong"})
        assert Mailing.objects.get().stage == "sent-back"
        assert not SignOff.objects.filter(voided_at=None).exists()
        assert Notice.objects.get(user=house.author, kind="sent-back").words == "Approver: the price is wrong"
        shown = page_of(client.get(station))
        assert "<b>Approver</b>, approver, refused" in shown and "“the price is wrong”" in shown
        assert "approval.refused" in LogEntry.objects.values_list("action", flat=True)

    def test_refused(self, house: Any) -> None:
        """Without reasons, by the uploader, of an old revision: nothing is half-written."""
        revision = taken_in(house)
        with pytest.raises(Refused, match="why you refuse"):
            services.refuse(house.approver, revision, "  ")
        house.author.memberships.update(roles=["author", "approver"])
        with pytest.raises(Refused, match="You uploaded"):
            services.refuse(house.author, revision, "no")
        add_revision(house.author, revision.mailing, mail(Subject="Newer"), "b.eml")
        with pytest.raises(Refused, match="not the newest"):
            services.refuse(house.approver, revision, "the price")
        assert not SignOff.objects.exists()


class TestHandingOn:
    """Somebody else of the same role."""

    def test_to_a_colleague(self, house: Any) -> None:
        """The colleague is asked, the person's own list is cleared; nobody else is offered."""
        vera = person(house, "vera", "approver")
        revision = signed(taken_in(house), house.reviewer)
        client = house.client(house.approver)
        station = f"/mailings/{revision.mailing_id}/r1/sign-off/"
        assert services.others_for(house.approver, revision) == [vera]
        assert Notice.objects.filter(user=house.approver, kind="asked", read_at=None).exists()
        client.post(f"{station}hand-on/", {"to": vera.pk, "words": "I wrote the offer"})
        assert not Notice.objects.filter(user=house.approver, kind="asked", read_at=None).exists()
        asked = Notice.objects.get(user=vera, kind="asked", read_at=None)
        assert "hands the sign-off of revision 1 on to you: I wrote the offer" in asked.words
        assert client.post(f"{station}hand-on/", {"to": house.outsider.pk}).status_code == 404
        with pytest.raises(Refused, match="Author cannot sign"):
            services.hand_on(house.approver, revision, house.author)
        with pytest.raises(Refused, match="take your sign-off back"):
            services.hand_on(house.reviewer, revision, vera)


class TestApproversPage:
    """All that counts on one page, reached from the mail that asks."""

    def test_what_it_shows(self, house: Any) -> None:
        """What is sent, wrong, excused, left out, said, and what changed since the person looked last; a press leads back to it."""
        workspaces.set_checks(house.reviewer, house.workspace, {"access.alt-missing": {"level": "fix"}})
        first = taken_in(house, FAULTY, details=Details("Sale", audience="members"))
        services.refuse(house.approver, first, "the price is wrong")
        raw = mail(
            GOOD_HTML.replace("See the glazes", "See all glazes").replace("kiln.org/sale", "kiln.org/all")
            + '<img src="https://k.org/a.png">'
        )
        add_revision(house.author, first.mailing, raw, "b.eml")
        second = checked(first.mailing)
        found = next(one.record for one in walk_of(fresh(second)).findings if one.record.check_id == "access.alt-missing")
        leave_out(house.reviewer, second, "links", "the links were walked before")
        services.sign(house.reviewer, fresh(second))
        asked = Notice.objects.get(user=house.approver, kind="asked", read_at=None)
        assert asked.path == f"/mailings/{first.mailing_id}/r2/approve/"
        send = TestSend.objects.create(mailing=second.mailing, revision=second, list_name="x", by=house.reviewer)
        link = ReplyLink.objects.create(send=send, address="one@kiln.org", person="Una", nonce="x", expires_at="2099-01-01T00:00Z")
        Reply.objects.create(link=link, looks_right=True, words="fine on mine", device="phone")
        client = house.client(house.approver)
        page = page_of(client.get(asked.path))
        for words in (
            "members",
            found.sentence.split(".")[0],
            "Links was left out",
            "What changed since revision 1",
            "(you refused it)",
            "<ins>https://www.kiln.org/all</ins>",
            "fine on mine",
            "Waits for the signature of an approver.",
            "Sign revision 2",
        ):
            assert words in page, words
        answer = client.post(f"/mailings/{first.mailing_id}/r2/sign-off/sign/", {"from": "approve", "comment": "good"})
        assert answer["Location"] == asked.path
        page = page_of(client.get(asked.path))
        assert "Cleared; waits for the operator." in page and "Take your sign-off back" in page
        excused = client.get(f"/mailings/{first.mailing_id}/r1/approve/")
        assert "is newer" in page_of(excused)
        assert house.client(house.outsider).get(asked.path).status_code == 404

    def test_who_only_looks(self, house: Any) -> None:
        """An author sees the page without a press."""
        revision = taken_in(house)
        page = page_of(house.client(house.author).get(f"/mailings/{revision.mailing_id}/r1/approve/"))
        assert "Signing is for the approver or reviewer." in page and "Sign revision 1" not in page and "Refuse" not in page


class TestStandIns:
    """Who signs while somebody is away."""

    def test_under_the_roles_of_both(self, house: Any) -> None:
        """On these days a reviewer fills the approver's place, once, and the line says in whose place."""
        second = person(house, "vera", "reviewer")
        today = timezone.now().date()
        stand_ins.stand_in(house.approver, house.workspace, house.approver, house.reviewer, today, today + timedelta(days=2))
        revision = signed(taken_in(house), second)
        asked = {one.user for one in Notice.objects.filter(kind="asked", read_at=None)}
        assert asked == {house.approver, house.reviewer}
        services.sign(house.reviewer, fresh(revision))
        assert Mailing.objects.get().stage == "cleared"
        made = SignOff.objects.latest("pk")
        assert (made.roles, made.in_place_of) == (["approver", "reviewer"], house.approver)
        assert "in the place of Approver" in page_of(house.client(second).get(f"/mailings/{revision.mailing_id}/r1/sign-off/"))

    def test_days_and_chains(self, house: Any) -> None:
        """Before and after, and for a stand-in of a stand-in, nothing is lent; an owner ends it."""
        vera = person(house, "vera", "reviewer")
        day = date(2027, 3, 2)
        one = stand_ins.stand_in(house.owner, house.workspace, house.approver, house.reviewer, day, date(2027, 3, 4))
        stand_ins.stand_in(house.owner, house.workspace, house.reviewer, vera, day, date(2027, 3, 4))

        def roles(user: User, *at: int) -> set[str]:
            return set(stand_ins.signing_roles(user, house.workspace, datetime(*at, tzinfo=UTC)).roles)  # type: ignore[arg-type]

        assert roles(house.reviewer, 2027, 3, 1, 22, 30) == {"reviewer"}
        # It is midnight in Amsterdam, where the approver lives.
        assert roles(house.reviewer, 2027, 3, 1, 23, 30) == {"reviewer", "approver"}
        assert roles(house.reviewer, 2027, 3, 4, 23, 30) == {"reviewer"}
        assert roles(vera, 2027, 3, 3, 12) == {"reviewer"}
        stand_ins.end_stand_in(house.owner, one)
        stand_ins.end_stand_in(house.owner, one)
        assert roles(house.reviewer, 2027, 3, 3, 12) == {"reviewer"}
        assert LogEntry.objects.filter(action="approval.stand-in-ended").count() == 1

    def test_refused(self, house: Any) -> None:
        """Another's absence, oneself, somebody who does not sign, days that make no sense, twice; the database keeps the last two."""
        days = (date(2099, 3, 2), date(2099, 3, 4))
        place = house.workspace
        with pytest.raises(NotAllowed, match="An owner says"):
            stand_ins.stand_in(house.reviewer, place, house.approver, house.reviewer, *days)
        for away, other, asked, words in (
            (house.approver, house.approver, days, "somebody else"),
            (house.approver, house.author, days, "Author does not sign"),
            (house.approver, house.outsider, days, "does not sign"),
            (house.approver, house.reviewer, days[::-1], "before the first"),
            (house.approver, house.reviewer, (date(2020, 1, 1), date(2020, 1, 2)), "gone by"),
            (house.approver, house.reviewer, (date(2098, 1, 1), date(2099, 12, 2)), "at most 366"),
        ):
            with pytest.raises(Refused, match=words):
                stand_ins.stand_in(house.approver, place, away, other, *asked)
        stand_ins.stand_in(house.approver, place, house.approver, house.reviewer, *days)
        with pytest.raises(Refused, match="on some of these days already"):
            stand_ins.stand_in(house.approver, place, house.approver, house.reviewer, *days)
        for wrong in ({"away": house.approver, "until": days[0] - timedelta(days=1)}, {"away": house.reviewer, "until": days[1]}):
            with pytest.raises(IntegrityError), transaction.atomic():
                StandIn.objects.create(workspace=place, stands_in=house.reviewer, since=days[0], **wrong)


class TestScreens:
    """Rules read as sentences, and are changed there."""

    def test_the_rules(self, house: Any) -> None:
        """The form begins with the rule that holds, or with one that ships; what it keeps reads as sentences."""
        client = house.client(house.reviewer)
        assert "Stations may be signed without a look." in page_of(client.get("/settings/sign-off/"))
        page = page_of(client.get("/settings/sign-off/promotional/?from=strict"))
        assert "3 people sign, one after another" in page
        entries = entries_of(SHIPPED["strict"])
        answer = client.post("/settings/sign-off/promotional/", {name: value for name, value in entries.items() if value is not False})
        assert answer.status_code == 302
        assert "Promotional messages" in page_of(client.get("/settings/sign-off/"))
        house.workspace.refresh_from_db()
        assert Rule.from_table(house.workspace.clearing["promotional"]) == SHIPPED["strict"]
        client.post("/settings/sign-off/promotional/", {"do": "drop"})
        assert "Promotional messages follow" in page_of(client.get("/settings/sign-off/"))
        nobody = {**entries_of(Rule()), "either": 0, "approvers": 0, "days": ""}
        answer = client.post("/settings/sign-off/every/", nobody)
        assert answer.status_code == 400 and "1 to 9 signatures" in page_of(answer)
        assert client.get("/settings/sign-off/else/").status_code == 404

    def test_two_people(self, house: Any) -> None:
        """Each keeps what they changed; who changes the same entry is asked."""
        shown = entries_of(Rule())
        keep_rule(house.reviewer, house.workspace, "every", shown | {"days": 3}, shown)
        kept = keep_rule(house.operator, house.workspace, "every", shown | {"fixes": False}, shown)
        assert (kept.days, kept.fixes) == (3, False)
        with pytest.raises(Refused, match="set the days to “3” meanwhile"):
            keep_rule(house.operator, house.workspace, "every", shown | {"days": 5}, shown)

    def test_standing_in(self, house: Any) -> None:
        """A person says it of themselves, and ends it; another's is refused; authors see no form."""
        client = house.client(house.approver)
        form = {"away": house.approver.pk, "stands_in": house.reviewer.pk, "since": "2099-03-01", "until": "2099-03-04"}
        assert client.post("/settings/sign-off/", form).status_code == 302
        assert "4 March 2099" in page_of(client.get("/settings/sign-off/"))
        [one] = StandIn.objects.all()
        assert client.post("/settings/sign-off/", form | {"away": house.reviewer.pk}).status_code == 400
        assert "Who is away" not in page_of(house.client(house.author).get("/settings/sign-off/"))
        house.client(house.reviewer).post(f"/settings/stand-ins/{one.pk}/end/")
        assert StandIn.objects.get().ended_at is None
        client.post(f"/settings/stand-ins/{one.pk}/end/")
        assert "Nobody stands in" in page_of(client.get("/settings/sign-off/"))


class TestTakingAReleaseBack:
    """Before the planned time, with a reason; the log keeps both."""

    def test_taken_back(self, house: Any) -> None:
        """It is cleared again and may change; released once more, both records are there; a copy remembers its ancestor."""
        revision = signed(taken_in(house), house.reviewer, house.approver)
        first = services.release(house.operator, revision)
        client = house.client(house.operator)
        station = f"/mailings/{revision.mailing_id}/r1/sign-off/"
        assert "Take the release back" in page_of(client.get(station))
        client.post(f"{station}take-release-back/", {"reason": "the price  is wrong"})
        assert Mailing.objects.get().stage == "cleared"
        assert client.get(f"/mailings/{revision.mailing_id}/clearance.json").status_code == 404
        assert "taken back by Operator" in page_of(client.get(station))
        assert LogEntry.objects.latest("pk").sentence == "took the release of revision 1 back: the price is wrong"
        assert Notice.objects.filter(user=house.approver, kind="voided").exists()
        services.release(house.operator, fresh(revision))
        assert Release.objects.count() == 2
        assert [one.taken_back_because for one in Release.objects.order_by("pk")] == ["the price is wrong", ""]
        assert first.record["released"]["by"] == "Operator"
        assert start_copy(house.author, Mailing.objects.get()).copied_from_id == revision.mailing_id

    def test_refused(self, house: Any) -> None:
        """Not without a reason, not after the planned time, not twice, not by others; the database lets nothing else change."""
        soon = Details("Sale", planned_at=timezone.now() + timedelta(hours=1))
        revision = signed(taken_in(house, details=soon), house.reviewer, house.approver)
        with pytest.raises(Refused, match="is not released"):
            services.take_release_back(house.operator, revision.mailing, "the price")
        services.release(house.operator, fresh(revision))
        mailing = Mailing.objects.get()
        with pytest.raises(NotAllowed):
            services.take_release_back(house.approver, mailing, "the price")
        with pytest.raises(Refused, match="with a reason"):
            services.take_release_back(house.operator, mailing, " x ")
        with pytest.raises(IntegrityError, match="released and locked"), transaction.atomic():
            Mailing.objects.update(stage="cleared")
        for statement in (
            lambda: SignOff.objects.update(voided_at=timezone.now()),
            lambda: StationLook.objects.create(revision=revision, station="links", by=house.reviewer),
        ):
            with pytest.raises(IntegrityError, match="released and locked"), transaction.atomic():
                statement()
        with pytest.raises(IntegrityError, match="never changes"), transaction.atomic():
            Release.objects.update(record={})
        services.take_release_back(house.operator, mailing, "the price")
        with pytest.raises(Refused, match="is not released"):
            services.take_release_back(house.operator, mailing, "the price")
        with pytest.raises(IntegrityError, match="never changes"), transaction.atomic():
            Release.objects.update(taken_back_because="else")
        services.release(house.operator, fresh(revision))
        with pytest.MonkeyPatch.context() as patch:
            later = timezone.now() + timedelta(hours=2)
            patch.setattr(timezone, "now", lambda: later)
            with pytest.raises(Refused, match="The planned time has come"):
                services.take_release_back(house.operator, Mailing.objects.get(), "the price")


#: As often as each race is run.
RACES = 50


def race(*acts: Callable[[], object]) -> list[str]:
    """All at once, each over a connection of its own; what each was refused with, or "done"."""
    answers = [""] * len(acts)
    start = threading.Barrier(len(acts))

    def run(number: int) -> None:
        try:
            start.wait(10)
            acts[number]()
            answers[number] = "done"
        except Refused as refused:
            answers[number] = refused.sentence
        finally:
            connection.close()

    threads = [threading.Thread(target=run, args=(number,)) for number in range(len(acts))]
    for one in threads:
        one.start()
    for one in threads:
        one.join(60)
    return answers


def state() -> tuple[str, int]:
    """The stage, and how many signatures are valid."""
    return Mailing.objects.get().stage, SignOff.objects.filter(voided_at=None).count()


@pytest.mark.django_db(transaction=True)
class TestRaces:
    """Two people at once, 50 times each, decided in the database."""

    def again(self, house: Any, raw: bytes | None = None) -> Revision:
        """A message that nobody has signed."""
        Release.objects.all().delete()
        SignOff.objects.all().delete()
        if not Mailing.objects.exists():
            return taken_in(house, raw)
        Mailing.objects.update(stage="under-review")
        return fresh(Revision.objects.get())

    def test_two_sign(self, house: Any) -> None:
        """Both count, and the message is cleared once."""
        for _ in range(RACES):
            revision = self.again(house)
            assert race(partial(services.sign, house.reviewer, revision), partial(services.sign, house.approver, revision)) == ["done"] * 2
            assert state() == ("cleared", 2)
        assert LogEntry.objects.filter(action="approval.cleared").count() == RACES

    def test_sign_and_a_new_revision(self, house: Any) -> None:
        """A signature of the old content never clears the new one."""
        revision = taken_in(house)
        for number in range(RACES):
            revision = Revision.objects.select_related("mailing__workspace").latest("number")
            SignOff.objects.filter(voided_at=None).update(voided_at=timezone.now())
            services.sign(house.reviewer, revision)
            raw = mail(GOOD_HTML, Subject=f"Sale {number}")
            race(partial(services.sign, house.approver, revision), partial(add_revision, house.author, revision.mailing, raw, "b.eml"))
            assert state() == ("under-review", 0)
            checked(revision.mailing)

    def test_sign_and_an_excuse_withdrawn(self, house: Any) -> None:
        """An open stop is never cleared."""
        revision = self.again(house, FAULTY)
        print_ = stop_of(revision)
        for _ in range(RACES):
            revision = self.again(house)
            excuse(house.reviewer, revision, print_, "a picture for decoration", only_this_revision=False)
            services.sign(house.reviewer, revision)
            race(partial(services.sign, house.approver, revision), partial(lift_excuse, house.reviewer, revision, print_))
            assert state() == ("under-review", 0)

    def test_sign_and_a_setting_changed(self, house: Any) -> None:
        """After both and what follows the setting, no signature stands that rests on the old one, and nothing is released by it."""
        revision = taken_in(house)
        for number in range(RACES):
            revision = self.again(house)
            services.sign(house.reviewer, revision)
            place = Workspace.objects.get(pk=house.workspace.pk)
            level = ("note", "fix")[number % 2]
            race(
                partial(services.sign, house.approver, revision),
                partial(workspaces.set_checks, house.reviewer, place, {"links.insecure": {"level": level}}),
            )
            answers = race(partial(services.release, house.operator, revision), partial(reconsider_house.func, workspace_id=place.pk))
            assert answers[0] != "done"
            now = rests_on(fresh(revision))
            assert all(one.rests["settings of checks"] == now["settings of checks"] for one in SignOff.objects.filter(voided_at=None))
            assert state()[0] == "under-review"
            checked(revision.mailing)

    def test_release_and_take_back(self, house: Any) -> None:
        """Whichever comes first, a message is released with enough signatures or not at all."""
        for _ in range(RACES):
            revision = self.again(house)
            signed(revision, house.reviewer, house.approver)
            answers = race(partial(services.release, house.operator, revision), partial(services.take_back, house.approver, revision))
            assert sorted(one == "done" for one in answers) == [False, True], answers
            assert state() == (("released", 2) if answers[0] == "done" else ("under-review", 1))
            if answers[0] == "done":
                services.take_release_back(house.operator, Mailing.objects.get(), "once more")

    def test_a_release_is_taken_back_once(self, house: Any) -> None:
        """Two operators press at once: one is told that it is not released."""
        self.again(house)
        for _ in range(RACES):
            revision = self.again(house)
            signed(revision, house.reviewer, house.approver)
            services.release(house.operator, revision)
            mailing = Mailing.objects.get()
            acts = [partial(services.take_release_back, house.operator, mailing, "the price")] * 2
            assert sorted(one == "done" for one in race(*acts)) == [False, True]
            assert state()[0] == "cleared"

    def test_a_condition_met_and_revoked(self, house: Any) -> None:
        """The stage follows the comment as it stands in the end."""
        revision = taken_in(house)
        thread = comments.say(house.author, revision, PLACE, "Which page?")
        for _ in range(RACES):
            revision = self.again(house)
            if Thread.objects.get().settled_at is not None:
                comments.open_again(house.reviewer, thread)
            services.sign(house.reviewer, revision)
            services.sign(house.approver, revision, condition=f"comment:{thread.pk}")
            race(partial(comments.settle, house.reviewer, thread), partial(comments.answer, house.author, thread, "And this?"))
            is_settled = Thread.objects.get().settled_at is not None
            assert state() == ("cleared" if is_settled else "under-review", 2)
            Thread.objects.get().comments.filter(words="And this?").delete()

    def test_excused_and_confirmed(self, house: Any) -> None:
        """A confirmation is of an excuse that stands, or is refused."""
        revision = self.again(house, FAULTY)
        print_ = stop_of(revision)
        for _ in range(RACES):
            excuse(house.reviewer, revision, print_, "a picture for decoration", only_this_revision=False)
            race(partial(confirm_excuse, house.approver, revision, print_), partial(lift_excuse, house.reviewer, revision, print_))
            assert walk_of(fresh(revision)).stops == 1
        assert Work.objects.filter(kind="checks", state="running").count() == 0
