"""Links in the application: opened, kept, shut, looked at by hand, shown; pictures that lie elsewhere in the renders."""

from __future__ import annotations

import csv
import io
import json
import pickle
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import timedelta
from typing import Any, ClassVar

import pytest
from django.db import connection
from django.utils import timezone
from jsonschema import Draft7Validator

from jetwind.apps.blobs import store
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.services import take_in
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.links import answering, services
from jetwind.apps.links import house as wires
from jetwind.apps.links.models import CurrentAnswers, Kind, LetOpen, LinkAnswer, SeenByHand, Wire
from jetwind.apps.links.rewritten import follow_rewritten
from jetwind.apps.links.stations.links import Station
from jetwind.apps.links.tasks import fetch_pictures, open_links
from jetwind.apps.previews import services as previews
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.tasks import render_revision
from jetwind.apps.review.answers import check_now
from jetwind.apps.review.models import FindingRecord
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.apps.workspace.models import Workspace
from jetwind.core.arrivals import Compared, Journey, judge
from jetwind.core.checking import Context
from jetwind.core.checking.samples import answered
from jetwind.core.links.answers import Answer, Answers
from jetwind.core.message import read_bytes
from jetwind.engines.browser import FakeBrowser
from jetwind.engines.mail import BOXES
from jetwind.engines.mail.boxes import changed
from jetwind.engines.practice import DOMAIN, RunningPractice
from tests.apps.helpers import page_of
from tests.factories import mail

WWW, ANSWERS, PICTURES = (f"https://{name}.{DOMAIN}" for name in ("www", "answers", "pictures"))


@pytest.fixture(scope="module")
def standing(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Any]:
    """The practice field's web, in a hurry."""
    folder = tmp_path_factory.mktemp("practice")
    field = RunningPractice(folder, pace=0.05)
    with field as directory:
        directory.write(folder / "directory.json")
        field.path = str(folder / "directory.json")  # type: ignore[attr-defined]
        yield field


@pytest.fixture
def quay(house: Any, standing: Any, settings: Any, monkeypatch: pytest.MonkeyPatch) -> Any:
    """The house with the practice field on its wire, and no browser for landing pages."""
    settings.PRACTICE_DIRECTORY = standing.path
    settings.FETCH_PATIENCE = {"first_byte": 2.0, "whole": 4.0, "pause": 0.02}
    house.workspace.practice_domains = [DOMAIN]
    house.workspace.save()
    Wire.objects.filter(workspace=house.workspace).update(links="always", pictures="always", inward_hosts=[DOMAIN])
    monkeypatch.setattr("jetwind.apps.links.answering.MOST_LANDINGS", 0)
    standing.web.asked.clear()
    return house


def message(*addresses: str, more: str = "") -> bytes:
    """A mail with these links."""
    links = "".join(f'<p><a href="{one}">Link {n}</a></p>' for n, one in enumerate(addresses))
    return mail(f"<p>Copy of a mail about pots</p>{links}{more}", None, without=("List-Unsubscribe",))


def taken(house: Any, raw: bytes) -> Revision:
    """Its first revision."""
    revision = take_in(house.author, house.workspace, raw, "a.eml").revisions.select_related("mailing__workspace").get()
    Work.objects.exclude(kind="links").delete()
    return revision


def opened(revision: Revision, **more: Any) -> Revision:
    """After the worker has opened its links and checked it."""
    work = services.ask_for_links(revision)
    open_links.func(revision.pk, work.pk, **more)
    assert jobs.latest("links", f"revision:{revision.pk}").state == "done"  # type: ignore[union-attr]
    check_now(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
    return revision


def found(revision: Revision) -> dict[str, set[str]]:
    """Checks of links with the addresses they were found at."""
    told: dict[str, set[str]] = {}
    newest = revision.check_runs.order_by("created_at").last()
    for record in FindingRecord.objects.filter(run=newest, check_id__startswith="links."):
        addresses = record.values("address") or [""]
        told.setdefault(record.check_id, set()).update(str(one).removeprefix(ANSWERS).removeprefix("https://") for one in addresses)
    return told


#: What each answer of the practice field must be told as, and nothing else.
EXPECTED = {
    "links.broken": {"/404", "/410", "/403", "/500"},
    "links.unreachable": {"/hanging", "/dripping", "/broken-off", "/broken-body", "/busy", "/away", "/inward", "/to-file"},
    "links.redirect-loop": {"/loop", "/redirect/308/11"},
    "links.redirect-long": {"/redirect/303/3"},
    "links.redirect-downgrade": {"/downgrade"},
    "links.landing-error": {"/soft-not-found", "/expired-offer", "/wrong-type"},
}
HOSTS = {f"expired.{DOMAIN}/", f"stranger.{DOMAIN}/", f"misnamed.{DOMAIN}/", f"silent.{DOMAIN}/", f"nowhere.{DOMAIN}/"}
FINE = [
    "/fine",
    "/no-head",
    "/busy-once",
    "/file",
    "/huge",
    "/inflating",
    "/redirect/301/1",
    "/redirect/302/2",
    "/redirect/307/1",
    "/desktop-only",
    "/tiny-text",
    "/to-home",
]


class TestRewritten:
    """Links of an arrival that were rewritten on the way are followed by the fetcher."""

    @pytest.fixture
    def comparison(self, quay: Any) -> Callable[[str], Compared]:
        """What a box does to a message with a link, a link that counts, and a way out, once its links were opened."""
        quay.workspace.practice_domains = []
        quay.workspace.save()
        revision = opened(taken(quay, message(f"{WWW}/courses", f"https://go.{DOMAIN}/quay", f"{WWW}/leave")))

        def compared(name: str) -> Compared:
            raw = store.fetch(revision.source_sha256)
            sides = (read_bytes(raw, "a.eml"), read_bytes(changed(BOXES[name], raw), "b.eml"))
            return follow_rewritten(revision, judge(*sides, Journey()))

        return compared

    def test_led_on(self, quay: Any, standing: Any, comparison: Callable[[str], Compared]) -> None:
        """Both links that were opened end where they did; nobody knocked at the way out; asked once, an answer holds."""
        for _ in range(2):
            told = [one.sentence.rpartition("now.")[2] for one in comparison("rewrites-links").differences]
            assert told == [" It still ends at the same page.", " It still ends at the same page.", ""]
        asked = Counter({address: times for address, times in standing.web.asked.items() if "guard" in address})
        assert asked.total() in (2, 4) and not any("leave" in address for address in asked), asked

    def test_led_elsewhere(self, quay: Any, comparison: Callable[[str], Compared]) -> None:
        """A page of the gateway is another page: a stop."""
        told = comparison("blocks-links").differences
        assert [one.is_stop for one in told] == [True, True, False]
        assert f"It ends at another page: https://guard.{DOMAIN}/" in told[0].sentence

    def test_nothing_is_opened_unasked(self, quay: Any, comparison: Callable[[str], Compared], standing: Any) -> None:
        """A workspace that opens links only when somebody asks follows none."""
        Wire.objects.filter(workspace=quay.workspace).update(links="asked")
        assert [one.sentence.rpartition("now.")[2] for one in comparison("rewrites-links").differences] == ["", "", ""]
        assert not any("guard" in address for address in standing.web.asked)


class TestOpening:
    """What a revision leads to, asked for in the background."""

    def test_every_answer_ends_in_the_right_finding(self, quay: Any) -> None:
        """Each kind of the practice field, and nothing at those that are fine."""
        addresses = [f"{ANSWERS}{path}" for paths in EXPECTED.values() for path in sorted(paths)]
        addresses += [f"{ANSWERS}{path}" for path in FINE] + [f"https://{host}" for host in sorted(HOSTS)]
        told = found(opened(taken(quay, message(*addresses))))
        expected = EXPECTED | {"links.unreachable": EXPECTED["links.unreachable"] | HOSTS}
        assert {check: told.get(check, set()) for check in expected} == expected
        assert set(told) == set(expected)

    def test_a_killed_worker_opens_nothing_twice(self, quay: Any, standing: Any) -> None:
        """Of fifty links those that were answered are not asked again within the hour."""
        revision = taken(quay, message(*(f"{ANSWERS}/fine?{number}" for number in range(50))))
        work = jobs.latest("links", f"revision:{revision.pk}")
        assert work is not None
        real, kept = answering.keep, []

        def die_after_twenty(*given: Any, **more: Any) -> LinkAnswer:
            kept.append(real(*given, **more))
            if len(kept) == 20:
                raise KeyboardInterrupt
            return kept[-1]

        answering.keep = die_after_twenty
        try:
            with pytest.raises(KeyboardInterrupt):
                answering.open_now(revision, answering.what_to_open(revision.pk), work.pk)
        finally:
            answering.keep = real
        known = {row.address for row in kept}
        standing.web.asked.clear()
        opened(revision)
        asked = {line.split()[1] for line in standing.web.asked}
        assert len(known) == 20
        assert known & asked == set()
        assert LinkAnswer.objects.count() == 50
        assert CurrentAnswers.objects.get().links == sorted(LinkAnswer.objects.values_list("pk", flat=True))

    def test_two_messages_share_an_answer(self, quay: Any, standing: Any) -> None:
        """An address that was opened an hour ago at most is not opened for another message."""
        opened(taken(quay, message(f"{ANSWERS}/fine?shared")))
        standing.web.asked.clear()
        other = opened(taken(quay, message(f"{ANSWERS}/fine?shared")))
        assert dict(standing.web.asked) == {}
        assert CurrentAnswers.objects.get(revision=other).links

    def test_history(self, quay: Any, standing: Any) -> None:
        """There yesterday, 404 today: both answers are kept, and the station says so."""
        revision = opened(taken(quay, message(f"{ANSWERS}/fine")))
        old = LinkAnswer.objects.get()
        LinkAnswer.objects.filter(pk=old.pk).update(asked_at=old.asked_at - timedelta(days=1), fresh_until=old.asked_at)
        handler = standing.web._answered

        async def gone(request: Any) -> Any:
            from aiohttp import web

            return web.Response(status=404)

        standing.web._answered = gone
        try:
            opened(revision)
        finally:
            standing.web._answered = handler
        assert [row.value.status for row in LinkAnswer.objects.all()] == [404, 200]
        assert found(revision) == {"links.broken": {"/fine"}}
        page = quay.client(quay.reviewer).get(f"/mailings/{revision.mailing_id}/r1/links/?link=1").content.decode()
        assert "It was there when it was opened before." in page

    def test_again_on_a_persons_word(self, quay: Any, standing: Any) -> None:
        """One link or all of them, however fresh their answers are."""
        revision = opened(taken(quay, message(f"{ANSWERS}/fine?a", f"{ANSWERS}/fine?b")))
        standing.web.asked.clear()
        services.open_again(quay.reviewer, revision, f"{ANSWERS}/fine?a")
        work = jobs.latest("links", f"revision:{revision.pk}")
        arguments = _arguments(work)
        open_links.func(**arguments)
        assert {line.partition("?")[2] for line in standing.web.asked} == {"a"}
        services.open_again(quay.reviewer, revision)
        open_links.func(**_arguments(jobs.latest("links", f"revision:{revision.pk}")))
        assert {line.partition("?")[2] for line in standing.web.asked} == {"a", "b"}
        with pytest.raises(Refused, match="no such link"):
            services.open_again(quay.reviewer, revision, "https://127.0.0.1/")

    def test_a_house_without_a_way_out(self, quay: Any, settings: Any) -> None:
        """Where not one server can be reached, no link is called broken."""
        settings.PRACTICE_DIRECTORY = ""
        names = ["https://one.invalid/", "https://two.invalid/", "https://three.invalid/"]
        revision = opened(taken(quay, message(*names)))
        assert not {"links.broken", "links.unreachable"} & set(found(revision))
        outcome, reason, *_ = revision.check_runs.latest("created_at").outcomes["links.unreachable"]
        assert (outcome, reason) == ("cannot-tell", "3 of 3 addresses were not opened")
        assert all("no way out" in row.value.why for row in LinkAnswer.objects.all())

    def test_what_a_page_holds_can_be_kept(self, quay: Any, standing: Any) -> None:
        """NUL, lone surrogates and long words of a page reach the database."""
        handler = standing.web._answered

        async def odd(request: Any) -> Any:
            from aiohttp import web

            return web.Response(body=b"<title>\0&#xD800;a</title><h1>" + b"x" * 5000 + b"\xff\xfe</h1>", content_type="text/html")

        standing.web._answered = odd
        try:
            opened(taken(quay, message(f"{ANSWERS}/odd")))
        finally:
            standing.web._answered = handler
        assert LinkAnswer.objects.get().value.status == 200

    @pytest.mark.parametrize("when", ["asked", "never"])
    def test_only_when_the_house_says_so(self, quay: Any, when: str) -> None:
        """Nothing is opened by itself; where never, not on a person's word either."""
        Wire.objects.update(links=when)
        revision = taken(quay, message(f"{ANSWERS}/fine"))
        assert not Work.objects.filter(kind="links").exists()
        if when == "never":
            with pytest.raises(Refused, match="opens no links"):
                services.open_again(quay.reviewer, revision)
        else:
            services.open_again(quay.reviewer, revision)
            assert Work.objects.filter(kind="links").exists()


def _arguments(work: Work | None) -> dict[str, Any]:
    from procrastinate.contrib.django.models import ProcrastinateJob

    assert work is not None
    return dict(ProcrastinateJob.objects.get(pk=work.job_id).args)


class TestShut:
    """Links by which somebody leaves, and what a house or a person says of single ones."""

    LEAVE = "https://www.kiln.org/unsubscribe?m=1"

    def keeping(self, house: Any, revision: Revision) -> dict[str, str]:
        """Why each address is shut."""
        keeping = wires.keeping_of(revision)
        return {one.address: keeping.why_shut(one) for one in answering.listing(revision).destinations}

    def test_ways_out_stay_shut(self, house: Any) -> None:
        """In the HTML, in the plain text, in the header; whatever it is called."""
        raw = mail(
            f"<a href='{self.LEAVE}'>here</a><a href='https://kiln.org/manage?x'>Manage preferences</a><a href='https://kiln.org/a'>Pots</a>",
            "Leave: https://kiln.org/leave?m=2\n",
            List_Unsubscribe="<https://kiln.org/one-click?m=3>",
        )
        shut = self.keeping(house, taken(house, raw))
        assert {address for address, why in shut.items() if not why} == {"https://kiln.org/a"}
        assert len(shut) == 5

    def test_unless_they_lie_on_the_practice_field(self, quay: Any) -> None:
        """There nobody is unsubscribed."""
        revision = taken(quay, message(f"{WWW}/leave?m=1"))
        assert self.keeping(quay, revision) == {f"{WWW}/leave?m=1": ""}

    def test_a_list_of_the_house(self, quay: Any) -> None:
        """Hosts with all below them, and beginnings of addresses, on the practice field too."""
        Wire.objects.update(shut=[f"answers.{DOMAIN}", f"{WWW}/courses"])
        revision = taken(quay, message(f"{ANSWERS}/fine", f"{WWW}/courses/raku", f"{WWW}/glaze-sale"))
        assert [bool(why) for why in self.keeping(quay, revision).values()] == [True, True, False]

    def test_on_a_persons_word(self, house: Any) -> None:
        """One link, by name and with an entry in the log; again it does nothing."""
        revision = taken(house, message(self.LEAVE))
        with pytest.raises(NotAllowed):
            services.let_open(house.operator, revision, self.LEAVE)
        for _ in range(2):
            services.let_open(house.reviewer, revision, self.LEAVE)
        assert LetOpen.objects.get().by == house.reviewer
        assert self.keeping(house, revision) == {self.LEAVE: ""}
        with pytest.raises(Refused, match="no such link"):
            services.let_open(house.reviewer, revision, "https://elsewhere.org/")

    def test_no_real_readers_token(self, quay: Any, standing: Any) -> None:
        """Addresses with a field are opened as sample readers get them, and the findings name who."""
        standing.web.asked.clear()
        opened(taken(quay, message(f"{ANSWERS}/{{{{ first_name | downcase }}}}/x")))
        asked = {line.split()[1] for line in standing.web.asked}
        assert f"{ANSWERS}/bo/x" in asked
        assert len(asked) == 2
        assert all("{" not in one for one in asked)
        record = FindingRecord.objects.get(check_id="links.broken")
        assert all("as " in sentence for sentence, *_ in record.faults)
        assert len(record.faults) == 2


class TestByHand:
    """A person opened a link and found it in order."""

    def test_a_server_that_turns_programs_away(self, quay: Any) -> None:
        """Then a person is believed; of a page that is not there, not."""
        revision = opened(taken(quay, message(f"{ANSWERS}/403", f"{ANSWERS}/404")))
        assert found(revision)["links.broken"] == {"/403", "/404"}
        for address in (f"{ANSWERS}/403", f"{ANSWERS}/404"):
            services.mark_seen(quay.reviewer, revision, address)
        check_now(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        assert found(revision)["links.broken"] == {"/404"}
        services.mark_seen(quay.reviewer, revision, f"{ANSWERS}/403", seen=False)
        check_now(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        assert found(revision)["links.broken"] == {"/403", "/404"}

    def test_a_second_press_does_nothing(self, quay: Any) -> None:
        """One mark with its person and time; one entry of the log."""
        from jetwind.apps.audit.models import LogEntry

        revision = opened(taken(quay, message(f"{ANSWERS}/403")))
        for _ in range(2):
            services.mark_seen(quay.reviewer, revision, f"{ANSWERS}/403")
        assert SeenByHand.objects.get().by == quay.reviewer
        assert LogEntry.objects.filter(action="link.seen").count() == 1
        page = quay.client(quay.reviewer).get(f"/mailings/{revision.mailing_id}/r1/links/?link=1").content.decode()
        assert "Reviewer opened it by hand and found it in order" in page


@pytest.mark.django_db(transaction=True)
def test_two_marks_at_once(house: Any) -> None:
    """Both persons press at the same moment: one mark, no error."""
    revision = taken(house, message("https://kiln.org/a"))
    barrier, wrong = threading.Barrier(2), []

    def press() -> None:
        try:
            barrier.wait(10)
            services.mark_seen(house.reviewer, revision, "https://kiln.org/a")
        except Exception as failure:
            wrong.append(failure)
        finally:
            connection.close()

    threads = [threading.Thread(target=press) for _ in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(20)
    assert wrong == []
    assert SeenByHand.objects.count() == 1


class TestPictures:
    """Pictures that lie elsewhere, fetched, kept by content, and shown in renders."""

    BODY = f'<img src="{PICTURES}/shelf.png" width="300" alt="Shelf"><img src="{PICTURES}/missing.png" width="9" height="9" alt="x"><img src="{PICTURES}/open.gif" width="1" height="1" alt="">'

    def rendered(self, revision: Revision, browser: FakeBrowser, monkeypatch: pytest.MonkeyPatch) -> list[Render]:
        """Its renders, as the worker makes them."""
        monkeypatch.setattr(previews, "_browser", browser)
        work = previews.ask_for_renders(revision, only=["desktop-pane"])
        render_revision.func(revision.pk, work.pk)
        return list(Render.objects.filter(revision=revision, profile="desktop-pane"))

    def test_a_render_has_what_readers_see(self, quay: Any, standing: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """The picture is served under its own address, the missing one is named, the tracking pixel is not asked for."""
        revision = taken(quay, mail(self.BODY, None))
        browser = FakeBrowser()
        (render,) = self.rendered(revision, browser, monkeypatch)
        assert render.lacking == [f"{PICTURES}/missing.png"]
        assert {line.rpartition("/")[2] for line in standing.web.asked if "pictures" in line} == {"shelf.png", "missing.png"}
        row = LinkAnswer.objects.get(address=f"{PICTURES}/shelf.png")
        assert any(request.own == {row.address: row.blob_sha256} and row.blob_sha256 in request.parts for request in browser.seen)
        run = check_now(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        told = run.findings.get(check_id="images.unreachable")
        assert told.data["address"] == f"{PICTURES}/missing.png"
        # What was fetched is measured and made lighter like what travels along; what did not come is told once.
        assert row.value.facts is not None
        assert (row.value.facts["format"], row.value.facts["fault"]) == ("PNG", "")
        assert {run.outcomes[check][0] for check in ("images.corrupt", "images.location", "images.saving", "images.total-heavy")} == {
            "clear"
        }
        assert run.summary["picture_octets"] == row.value.octets

    def test_never_or_when_asked(self, quay: Any, standing: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """Nothing is asked for by itself; on a person's word the renders are made anew with what came."""
        Wire.objects.update(pictures="asked")
        revision = taken(quay, mail(self.BODY, None))
        (render,) = self.rendered(revision, FakeBrowser(), monkeypatch)
        assert render.lacking == [f"{PICTURES}/shelf.png", f"{PICTURES}/missing.png"]
        assert not [line for line in standing.web.asked if "pictures" in line]
        services.fetch_pictures(quay.author, revision)
        fetch_pictures.func(**_arguments(jobs.latest("pictures", f"revision:{revision.pk}")))
        (render,) = self.rendered(revision, FakeBrowser(), monkeypatch)
        assert render.lacking == [f"{PICTURES}/missing.png"]
        Wire.objects.update(pictures="never")
        with pytest.raises(Refused, match="fetches no pictures"):
            services.fetch_pictures(quay.author, revision)


class TestStation:
    """The page and its files."""

    def test_short_answers(self, quay: Any) -> None:
        """What a list is made of: everything but the copy of the page."""
        page = "Pots " * 9_000
        row = answering.keep(quay.workspace, Kind.LINK, answered("https://kiln.org/", 200, page="Pots", heading="All pots", text=page))
        (short,) = LinkAnswer.objects.filter(pk=row.pk).short()
        whole = LinkAnswer.objects.get(pk=row.pk)
        assert whole.value.page is not None
        assert len(whole.value.page.text) > 40_000
        assert short.value == replace(whole.value, page=replace(whole.value.page, text=""))
        assert (short.pk, short.kind, short.address, short.asked_at, short.landing) == (
            row.pk,
            "link",
            "https://kiln.org/",
            whole.asked_at,
            {},
        )

    def test_answers_for_a_process_without_a_database(self, quay: Any) -> None:
        """They are read before they are handed over, and are plain values where they come out."""
        revision = opened(taken(quay, message(f"{ANSWERS}/fine")))
        kept = answering.answers_for_checks(revision)["answers"]
        there = pickle.loads(pickle.dumps(replace(Context(answers=kept), asked=frozenset()))).answers
        assert type(there) is Answers
        assert (there.links, there.key) == (kept.value.links, kept.key)
        assert list(there.links) == [f"{ANSWERS}/fine"]
        assert there.pictures == {}

    def test_page_and_queries(self, quay: Any, django_assert_max_num_queries: Any) -> None:
        """Map, table, one link: at most ten queries, with two hundred links as with two."""
        for number in (2, 200):
            revision = opened(taken(quay, message(*(f"{ANSWERS}/fine?{n}" for n in range(number)))))
            client = quay.client(quay.reviewer)
            with django_assert_max_num_queries(10):
                page = page_of(client.get(f"/mailings/{revision.mailing_id}/r1/links/?link=2"))
            assert page.count('class="page is-fine') == number
            assert f"{number} addresses, {number} there." in page
            assert f'<span class="label">links</span><span>{number}/{number}</span>' in page

    def test_csv(self, quay: Any) -> None:
        """RFC 4180; nothing that a spreadsheet takes for a formula."""
        revision = opened(taken(quay, message(f"{ANSWERS}/redirect/302/2", more="<a href='=cmd()'>=1+1</a>")))
        answer = quay.client(quay.reviewer).get(f"/mailings/{revision.mailing_id}/r1/links/links.csv")
        rows = list(csv.DictReader(io.StringIO(answer.content.decode())))
        assert [rows[0][name] for name in ("status", "hops", "ends_at", "heading")] == ["200", "2", f"{ANSWERS}/fine", "All is well"]
        assert (rows[1]["name"], rows[1]["written"]) == ("'=1+1", "'=cmd()")

    def test_har(self, quay: Any) -> None:
        """HAR 1.2: every hop an entry, held against the schema below."""
        revision = opened(taken(quay, message(f"{ANSWERS}/redirect/302/2?a=1", f"https://nowhere.{DOMAIN}/")))
        log = json.loads(quay.client(quay.reviewer).get(f"/mailings/{revision.mailing_id}/r1/links/links.har").content)
        assert list(Draft7Validator(HAR).iter_errors(log)) == []
        assert [entry["response"]["status"] for entry in log["log"]["entries"]] == [302, 302, 200]
        assert log["log"]["entries"][0]["response"]["redirectURL"] == f"{ANSWERS}/redirect/302/1"
        assert "no such name" in next(page["comment"] for page in log["log"]["pages"] if "comment" in page)

    def test_campaign_parameters(self, quay: Any) -> None:
        """Of the brief: kept, held against the links, and shown with them put in."""
        revision = taken(quay, message(f"{WWW}/courses?a=1#b", f"{WWW}/glaze-sale?campaign=autumn"))
        client = quay.client(quay.author)
        base = f"/mailings/{revision.mailing_id}/r1/links/"
        client.post(f"{base}steer/", {"do": "parameters", "parameters": "campaign=spring medium"})
        revision = Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)
        assert revision.mailing.brief["parameters"] == {"campaign": "spring", "medium": ""}
        page = client.get(base).content.decode()
        assert f"{WWW}/courses?a=1&amp;campaign=spring#b" in page
        assert f"{WWW}/glaze-sale?campaign=spring" in page
        refused = client.post(f"{base}steer/", {"do": "parameters", "parameters": "a&b=1"}, follow=True)
        assert "is no name of a parameter" in refused.content.decode()

    def test_nothing_to_show(self, house: Any) -> None:
        """A message without links says so."""
        revision = taken(house, mail("<p>Copy</p>", "Copy", without=("List-Unsubscribe",)))
        page = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/links/").content.decode()
        assert "The message leads nowhere" in page


class TestWire:
    """What a house opens."""

    GIVEN: ClassVar[dict[str, Any]] = {
        "links": "always",
        "pictures": "asked",
        "inward_hosts": "intranet.kiln.org:8080",
        "ports": "8080",
        "shut": "kiln.org https://a.org/leave",
    }

    @pytest.fixture(autouse=True)
    def allowed(self, settings: Any) -> None:
        """What the administrator of the installation lets workspaces name."""
        settings.INWARD_HOSTS = frozenset({"kiln.org:8080"})

    def test_inward_hosts_are_the_administrators(self, house: Any, settings: Any) -> None:
        """A workspace names only what is allowed, with its port; what is allowed no more is opened no more."""
        for entry in ("intranet.kiln.org", "intranet.kiln.org:5432", "localhost:8080", "127.0.0.1:8080", f"{DOMAIN}:5432"):
            with pytest.raises(Refused, match="its administrator has to allow it first"):
                wires.set_wire(house.reviewer, house.workspace, **{**self.GIVEN, "inward_hosts": entry})
        wire = wires.set_wire(house.reviewer, house.workspace, **{**self.GIVEN, "inward_hosts": f"intranet.kiln.org:8080 {DOMAIN}"})
        assert wires.policy_of(wire).inward_hosts == {"intranet.kiln.org:8080", DOMAIN}
        settings.INWARD_HOSTS = frozenset()
        assert wires.policy_of(wire).inward_hosts == {DOMAIN}
        # What stands there already may stay while something else is changed.
        wires.set_wire(house.reviewer, house.workspace, **{**self.GIVEN, "pictures": "never"})

    def test_kept(self, house: Any) -> None:
        """In one spelling, with an entry of the log."""
        wire = wires.set_wire(house.reviewer, house.workspace, **self.GIVEN)
        assert (wire.shut, wire.ports, wire.inward_hosts) == (["https://a.org/leave", "kiln.org"], ["8080"], ["intranet.kiln.org:8080"])
        with pytest.raises(NotAllowed):
            wires.set_wire(house.author, house.workspace, **self.GIVEN)

    @pytest.mark.parametrize(
        ("name", "value", "said"),
        [
            ("ports", "http", "is no port"),
            ("ports", "99999", "is no port"),
            ("inward_hosts", "https://kiln.org/", "is not a host"),
            ("inward_hosts", "kiln.org:0", "is not a host"),
            ("inward_hosts", "kiln.org:99999", "is not a host"),
            ("shut", "mailto:a@b.org/", "neither a host nor"),
            ("shut", "a b/", "neither a host nor"),
            ("links", "sometimes", "none of the choices"),
        ],
    )
    def test_refused(self, house: Any, name: str, value: str, said: str) -> None:
        """One sentence that names the thing; nothing is kept."""
        with pytest.raises(Refused, match=said):
            wires.set_wire(house.reviewer, house.workspace, **{**self.GIVEN, name: value})
        assert Wire.objects.get(workspace=house.workspace).links == "never"

    def test_two_at_once_are_merged(self, house: Any) -> None:
        """What both added is there; what both changed otherwise is refused."""
        shown = wires.shown_wire(wires.wire_of(house.workspace))
        wires.set_wire(house.reviewer, house.workspace, **{**self.GIVEN, "shut": "one.org"}, shown=shown)
        wires.set_wire(house.operator, house.workspace, **{**self.GIVEN, "shut": "two.org"}, shown=shown)
        assert wires.wire_of(house.workspace).shut == ["one.org", "two.org"]
        with pytest.raises(Refused, match="meanwhile"):
            wires.set_wire(house.operator, house.workspace, **{**self.GIVEN, "pictures": "never", "links": "asked"}, shown=shown)

    def test_page(self, house: Any) -> None:
        """Opens, keeps, says what is wrong."""
        client = house.client(house.reviewer)
        assert client.get("/settings/wire/").status_code == 200
        assert client.post("/settings/wire/", {**self.GIVEN, "ports": "x"}).status_code == 400
        assert client.post("/settings/wire/", self.GIVEN).status_code == 302
        assert wires.wire_of(house.workspace).links == "always"

    def test_a_new_house(self, db: None) -> None:
        """Opens what may be opened, and nothing inside."""
        wire = wires.wire_of(Workspace(pk=0))
        assert (wire.links, wire.inward_hosts) == ("always", [])


def test_answers_hold_an_hour(quay: Any) -> None:
    """Newest first; a stale one is asked again, and one from before somebody asked."""
    workspace, now = quay.workspace, timezone.now()
    for hours in (3, 0):
        at = now - timedelta(hours=hours)
        answering.keep(workspace, Kind.LINK, Answer("https://k.org/", at.isoformat(), fresh_until=(at + timedelta(hours=1)).isoformat()))
    rows = answering.newest(workspace, Kind.LINK, ["https://k.org/"])
    assert rows["https://k.org/"].fresh_until > now
    assert answering.still_fresh(rows, None)
    assert not answering.still_fresh(rows, now + timedelta(seconds=1))
    assert answering.still_fresh(rows, now + timedelta(seconds=1), ["https://other.org/"])


def test_station_of_a_revision_without_answers(house: Any) -> None:
    """Every link waits or is shut, and nothing is called broken."""
    revision = taken(house, message("https://kiln.org/a", "https://kiln.org/unsubscribe"))
    assert [one.state for one in Station(revision).standings({})] == ["waiting", "shut"]


_TIME = {"type": "string", "pattern": r"^\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d"}
_PAIRS = {"type": "array", "items": {"type": "object", "required": ["name", "value"]}}
#: The fields that HAR 1.2 asks for (W3C Web Performance Working Group, "HTTP Archive (HAR) format", sections log, pages, entries,
#: request, response, content, timings), written down from that text; from memory.
HAR: dict[str, Any] = {
    "type": "object",
    "required": ["log"],
    "properties": {
        "log": {
            "type": "object",
            "required": ["version", "creator", "entries"],
            "properties": {
                "version": {"const": "1.2"},
                "creator": {"type": "object", "required": ["name", "version"]},
                "pages": {
                    "type": "array",
                    "items": {
                        "type": "object",
                        "required": ["startedDateTime", "id", "title", "pageTimings"],
                        "properties": {"startedDateTime": _TIME, "pageTimings": {"type": "object"}},
                    },
                },
                "entries": {
                    "type": "array",
                    "items": {
                        "type": "object",
                        "required": ["startedDateTime", "time", "request", "response", "cache", "timings"],
                        "properties": {
                            "startedDateTime": _TIME,
                            "time": {"type": "number", "minimum": 0},
                            "request": {
                                "type": "object",
                                "required": ["method", "url", "httpVersion", "cookies", "headers", "queryString", "headersSize", "bodySize"],
                                "properties": {"cookies": {"type": "array"}, "headers": _PAIRS, "queryString": _PAIRS, "bodySize": {"type": "integer"}},
                            },
                            "response": {
                                "type": "object",
                                "required": ["status", "statusText", "httpVersion", "cookies", "headers", "content", "redirectURL", "headersSize", "bodySize"],
                                "properties": {
                                    "status": {"type": "integer"},
                                    "content": {"type": "object", "required": ["size", "mimeType"]},
                                    "redirectURL": {"type": "string"},
                                },
                            },
                            "cache": {"type": "object"},
                            "timings": {"type": "object", "required": ["send", "wait", "receive"]},
                        },
                    },
                },
            },
        }
    },
}  # fmt: skip
