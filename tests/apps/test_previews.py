"""Renders: planned, taken once, cancelled, taken up again; the station, comments, comparisons, sheets and the audience."""

import io
import re
import threading
import time
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from django.db import connection, transaction
from PIL import Image

from jetwind.apps.blobs import store
from jetwind.apps.comments.models import Thread
from jetwind.apps.comments.selectors import open_threads, placed
from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.services import add_revision, start_copy
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews import copies, modes, rendering, services
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.rendering import progress_of
from jetwind.apps.previews.selectors import renders_for_checks
from jetwind.apps.previews.services import Pointed
from jetwind.apps.previews.tasks import render_house, render_revision
from jetwind.apps.workspace.models import Workspace
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.apps.workspace.services import audience_from_csv, set_audience
from jetwind.core.profiles import REFERENCE, Profile, profiles, usual
from jetwind.core.renders import Renders
from jetwind.core.renders.measured import Block, Measured
from jetwind.engines.bounded import CHECKING, Helper, PastBudget
from jetwind.engines.browser import TOO_SLOW, Capture, CaptureFailed, FakeBrowser
from tests.apps.helpers import checked, page_of, taken_in
from tests.factories import GOOD_HTML, mail, picture

WITH_PICTURE = GOOD_HTML.replace("<h1>", '<img src="cid:bowl" alt="Bowl"><h1>')


def illustrated(html: str = WITH_PICTURE, **headers: Any) -> bytes:
    """A mail with a picture, so that blocked pictures make a difference."""
    return mail(html, images={"bowl": picture()}, **headers)


def render(revision: Any) -> Work:
    """Do the rendering that was asked for, as the worker does."""
    work = jobs.latest(services.RENDERS, f"revision:{revision.pk}")
    assert work is not None
    render_revision.func(revision_id=revision.pk, work_id=work.pk)
    work.refresh_from_db()
    return work


COUNT = len(usual())


def taken(browser: FakeBrowser) -> list[Any]:
    """The pictures that were asked for, without what is only measured."""
    return [seen for seen in browser.seen if seen.picture == "look"]


class TestRendering:
    """Every chosen profile in its own way; other ways when somebody asks."""

    def test_all_profiles(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Each in the blob store; progress ends at n of n; the windows are the profiles' own."""
        revision = taken_in(house, illustrated())
        work = render(revision)
        assert (work.state, work.done, work.total) == ("done", COUNT, COUNT)
        asked = {(seen.width, seen.first_screen, seen.dark) for seen in taken(fake_browser)}
        assert asked == {(*profiles()[name].viewport, profiles()[name].is_night) for name in usual()}
        for shot in revision.renders.all():
            assert shot.state == "done"
            assert shot.departure == 0
            assert store.fetch(shot.blob_sha256).startswith(b"\xff\xd8")

    def test_pictures_elsewhere_that_cannot_be_listed(
        self, house: Any, fake_browser: FakeBrowser, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
    ) -> None:
        """Where listing them takes too long, the message is rendered without them, and nothing is fetched."""
        fetched: list[Any] = []

        def past(*given: object) -> list[str]:
            raise PastBudget("took longer than 30 s")

        monkeypatch.setattr(copies, "addresses_of_pictures", past)
        monkeypatch.setattr(copies, "before_renders", [lambda *given: fetched.append(given)])
        work = render(taken_in(house, illustrated()))
        assert (work.state, work.done, fetched) == ("done", COUNT, [])
        assert "pictures from elsewhere cannot be listed" in caplog.text

    def test_in_portions(self, house: Any, fake_browser: FakeBrowser, monkeypatch: pytest.MonkeyPatch) -> None:
        """Where pages are long, the browser is asked for some before the others are written; all come, each once."""
        whole = taken_in(house, illustrated())
        render(whole)
        first = [len(taken(fake_browser)), {shot.profile: shot.blob_sha256 for shot in whole.renders.all()}]
        fake_browser.seen.clear()
        Render.objects.all().delete()
        monkeypatch.setattr(rendering, "_PORTION", 1_000)
        revision = taken_in(house, illustrated(), "again.eml")
        work = render(revision)
        assert (work.state, work.done, work.total) == ("done", COUNT, COUNT)
        assert [len(taken(fake_browser)), {shot.profile: shot.blob_sha256 for shot in revision.renders.all()}] == first

    def test_the_same_question_is_never_rendered_twice(self, house: Any, fake_browser: FakeBrowser) -> None:
        """A copy with the same content takes over all renders and trials; a new subject changes none of them."""
        revision = taken_in(house, illustrated())
        render(revision)
        fake_browser.seen.clear()
        render(checked(start_copy(house.author, revision.mailing)))
        render(add_revision(house.author, revision.mailing, illustrated(Subject="Other subject"), "b.eml"))
        assert taken(fake_browser) == []
        render(add_revision(house.author, revision.mailing, illustrated(WITH_PICTURE.replace("Spring", "Summer")), "c.eml"))
        assert len(taken(fake_browser)) > COUNT - 4

    def test_blocked_is_shown_where_there_are_no_pictures(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Equal HTML in an equal window is rendered once in the same run too."""
        revision = taken_in(house)
        assert render(revision).done == COUNT
        before = len(taken(fake_browser))
        services.show_mode(house.reviewer, revision, "blocked", ["desktop-pane"])
        assert render(revision).state == "done"
        assert len(taken(fake_browser)) == before
        assert revision.renders.filter(state="done").count() == COUNT + 1

    def test_a_killed_worker_loses_nothing(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Started again, only what is missing is rendered."""
        revision = taken_in(house, illustrated())
        render(revision)
        fake_browser.seen.clear()
        Render.objects.filter(profile="desktop-night").update(state="waiting", blob_sha256="", key="")
        work = services.ask_for_renders(revision)
        render_revision.func(revision_id=revision.pk, work_id=work.pk)
        assert [seen.dark for seen in taken(fake_browser)] == [True]

    def test_what_another_page_said_is_asked_again(self, house: Any, fake_browser: FakeBrowser) -> None:
        """What a screen reader says and what larger text loses belong to one page; the same page is not asked twice."""
        revision = taken_in(house, illustrated())
        render(revision)
        shot = Render.objects.get(profile=REFERENCE)
        assert (shot.enlarged, len(shot.spoken)) == ([], 1)
        for key, kept in ((shot.key, [["cut", 1, 1]]), ("another", [])):
            Render.objects.filter(pk=shot.pk).update(state="waiting", departure=None, key=key, enlarged=[["cut", 1, 1]], spoken=[])
            work = services.ask_for_renders(revision)
            render_revision.func(revision_id=revision.pk, work_id=work.pk)
            shot.refresh_from_db()
            assert (shot.enlarged, len(shot.spoken)) == (kept, 1)

    def test_cancelled_in_the_middle_and_taken_up_again(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """The current picture is kept, the rest waits until somebody goes on."""

        class Slow(FakeBrowser):
            def capture(self, request: Any) -> Capture:
                """Somebody presses Cancel while the third picture is taken."""
                if len(self.seen) == 2:
                    services.cancel_renders(house.reviewer, revision)
                return super().capture(request)

        browser = Slow()
        monkeypatch.setattr(services, "_browser", browser)
        revision = taken_in(house, illustrated())
        work = render(revision)
        assert work.state == "cancelled"
        assert revision.renders.filter(state="done").count() == 3
        services.show_mode(house.reviewer, revision, "own")
        assert render(revision).state == "done"
        assert revision.renders.filter(state="done").count() == COUNT

    @pytest.mark.parametrize("what", ["other profiles", "another mode"])
    def test_asked_for_while_it_runs(self, house: Any, monkeypatch: pytest.MonkeyPatch, what: str) -> None:
        """It joins the work under way, and is rendered by one that follows; then nothing more follows."""

        class Slow(FakeBrowser):
            def capture(self, request: Any) -> Capture:
                """Somebody asks while the third picture is taken."""
                if len(self.seen) == 2 and what == "other profiles":
                    # One of those that are rendered already, and one that is not.
                    set_audience(house.reviewer, Workspace.objects.get(pk=house.workspace.pk), {"phone-upright": 40, unusual: 10})
                elif len(self.seen) == 2:
                    services.show_mode(house.reviewer, revision, "blocked", ["desktop-pane"])
                return super().capture(request)

        unusual = next(name for name in profiles() if name not in usual())
        monkeypatch.setattr(services, "_browser", Slow())
        revision = taken_in(house, illustrated())
        first = render(revision)
        assert first.state == "done"
        second = render(Revision.objects.select_related("mailing__workspace").get(pk=revision.pk))
        assert (second.state, second.pk == first.pk) == ("done", False)
        assert not revision.renders.filter(state="waiting").exists()
        assert Work.objects.filter(kind=services.RENDERS).count() == 2
        fresh = Revision.objects.select_related("mailing__workspace").get(pk=revision.pk)
        told = renders_for_checks(fresh)["renders"].value
        assert list(told.renders) == (["phone-upright", unusual] if what == "other profiles" else list(usual()))

    def test_a_page_that_fails_does_not_take_the_others(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """It says why, the checks are told, and it is tried again on request."""

        class Picky(FakeBrowser):
            def capture_all(self, requests: Any, done: Any, seconds: float = 60) -> None:
                """Fail every picture at night."""
                for number, request in enumerate(requests):
                    late = CaptureFailed("The page could not be rendered: it did not lay out in time.")
                    done(number, late if request.dark and request.picture == "look" else self.capture(request))

        monkeypatch.setattr(services, "_browser", Picky())
        revision = taken_in(house, illustrated())
        assert render(revision).state == "done"
        assert set(revision.renders.filter(state="failed").values_list("problem", flat=True)) == {
            "The page could not be rendered: it did not lay out in time."
        }
        page = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/appearance/").content.decode()
        assert "did not lay out in time" in page
        run = checked(revision.mailing).check_runs.order_by("-created_at").first()
        assert run is not None
        assert run.outcomes["appearance.css-unsupported"][:2] == ["cannot-tell", "a profile could not be rendered"]

    @pytest.mark.parametrize("times", [1, 2, 9])
    def test_a_busy_machine(self, house: Any, monkeypatch: pytest.MonkeyPatch, times: int) -> None:
        """What took too long is tried again later, and says so; a few times, and what never comes out is told in the end."""

        class Busy(FakeBrowser):
            left = times

            def capture_all(self, requests: Any, done: Any, seconds: float = 60) -> None:
                """Have no time for any picture at night, so many times."""
                is_late = self.left > 0
                self.left -= any(request.dark for request in requests)
                for number, request in enumerate(requests):
                    late = CaptureFailed("The page could not be rendered: it did not lay out in time.", for_time=True)
                    done(number, late if is_late and request.dark and request.picture == "look" else self.capture(request))

        monkeypatch.setattr(services, "_browser", Busy())
        revision = taken_in(house, illustrated())
        client, address = house.client(house.reviewer), f"/mailings/{revision.mailing_id}/r1/appearance/"
        work = render(revision)
        rounds = 1
        while work.state == "waiting" and rounds < 9:
            assert "tried again when the machine may be free" in work.doing
            assert "It is tried again when the machine may be free" in client.get(address).content.decode()
            assert revision.renders.filter(state="done").exists()
            assert not revision.renders.filter(state="failed").exists()
            # The time that it waits for has come.
            render_revision.func(revision_id=revision.pk, work_id=work.pk)
            work.refresh_from_db()
            rounds += 1
        assert (work.state, rounds) == ("done", min(times, 3) + 1)
        assert revision.renders.filter(state="failed").exists() is (times > 3)
        assert not revision.renders.filter(state="waiting").exists()
        assert not revision.renders.filter(state="done").exclude(problem="").exists()

    @pytest.mark.parametrize("times", [1, 2, 9])
    def test_a_machine_too_busy_to_try_losses(self, house: Any, monkeypatch: pytest.MonkeyPatch, times: int) -> None:
        """Time that ran out is no answer: losses are tried again, the checks cannot tell until then, and only at last it is told as it is."""

        class Busy(FakeBrowser):
            left = times

            def capture_all(self, requests: Any, done: Any, seconds: float = 60) -> None:
                """Have no time for any page that is laid out for a loss, so many times."""
                is_trial = any(request.paint for request in requests)
                is_late, self.left = is_trial and self.left > 0, self.left - is_trial
                late = CaptureFailed("The page could not be rendered: it did not lay out in time.", for_time=True)
                for number, request in enumerate(requests):
                    if not done(number, late if is_late else self.capture(request)):
                        return

        monkeypatch.setattr(services, "_browser", Busy())
        revision = taken_in(house, illustrated('<style>.a { padding: 40px }</style><p class="a">Four bowls</p>'))
        work = render(revision)
        rounds = 1
        while work.state == "waiting" and rounds < 9:
            assert work.doing == "trying which losses show took too long; tried again when the machine may be free"
            assert "it is tried again" in Revision.objects.get(pk=revision.pk).loss_trial.untold
            run = checked(revision.mailing).check_runs.order_by("-created_at").first()
            assert run is not None
            assert run.outcomes["appearance.css-unsupported"][0] == "cannot-tell"
            render_revision.func(revision_id=revision.pk, work_id=work.pk)
            work.refresh_from_db()
            rounds += 1
        assert (work.state, rounds) == ("done", min(times, 3) + 1)
        trial = Revision.objects.get(pk=revision.pk).loss_trial
        assert (trial.shown is None, trial.untold) == ((True, TOO_SLOW) if times > 3 else (False, ""))
        assert not revision.renders.exclude(state="done").exists()
        # Nothing is tried once more.
        assert render(revision).state == "done"

    def test_the_helper_gives_way_to_the_browser(self, house: Any, fake_browser: FakeBrowser, monkeypatch: pytest.MonkeyPatch) -> None:
        """A copy that holds more memory than it may is ended before each picture, made anew when it is asked, and gives the same renders."""
        made: list[int] = []
        plain = taken_in(house, illustrated())
        render(plain)
        monkeypatch.setattr(copies, "MOST_BESIDE_THE_BROWSER", -1)
        monkeypatch.setattr(Helper, "close", lambda helper: made.append(1))
        other = taken_in(house, illustrated(To="b@kiln.example"))
        Render.objects.update(key="")
        assert render(other).state == "done"
        assert len(made) > 1, "it gives way before each round of pictures"
        rows = [
            [(row.profile, row.state, row.width, row.height, row.changes, row.blocked) for row in one.renders.order_by("profile")]
            for one in (plain, other)
        ]
        assert rows[0] == rows[1]

    def test_checks_over_renders_answer_once_there_are_renders(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Before: they cannot tell. After: only they are asked again, and the others keep their answer."""
        revision = taken_in(house, illustrated())
        first = checked(revision.mailing).check_runs.get()
        assert first.outcomes["appearance.blank"][0] == "cannot-tell"
        render(revision)
        checked(revision.mailing)
        second = revision.check_runs.order_by("-created_at").first()
        assert second is not None and second.pk != first.pk
        assert second.outcomes["appearance.blank"][0] == "clear"
        assert second.outcomes["wording.placeholder"] == first.outcomes["wording.placeholder"]


def in_profile(layout: Measured) -> type[FakeBrowser]:
    """A browser that measures the same page everywhere."""

    class Laid(FakeBrowser):
        def capture(self, request: Any) -> Capture:
            """The page that was given."""
            return Capture(super().capture(request).image, "image/jpeg" if request.picture == "look" else "", layout)

    return Laid


def block(element: int, kind: Any, x: float, y: float, width: float, height: float) -> Block:
    """A block of readable letters."""
    return Block(
        element,
        kind,
        x=x,
        y=y,
        width=width,
        height=height,
        characters=40,
        size=16,
        weight=400,
        colour=(0, 0, 0, 1),
        ground=(255, 255, 255, 1),
    )


def test_progress_is_of_one_moment(house: Any, django_assert_num_queries: Any) -> None:
    """Two counts with somebody asking for more between them said that less than nothing was done, and the database refused that."""
    revision = taken_in(house)
    services.ask_for_renders(revision, only=["desktop-pane", "phone-upright"])
    total = revision.renders.count()
    waiting = revision.renders.filter(state=Render.State.WAITING).count()
    assert waiting >= 2
    Render.objects.filter(revision=revision, profile="desktop-pane").update(state=Render.State.DONE)
    with django_assert_num_queries(1):
        assert progress_of(revision) == (total - waiting + 1, total)


class TestAppearance:
    """The station's page."""

    def test_pins_lie_where_the_browser_measured(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """In percent of the picture, leading to the finding at its own station; numbers go down the page."""
        raw = mail(
            GOOD_HTML.replace("https://www.kiln.org/sale", "http://www.kiln.org/sale").replace(
                "<h1>Spring", "<h1>Lorem ipsum dolor sit amet Spring"
            )
        )
        revision = taken_in(house, raw)
        document = message_of(revision).document
        assert document is not None
        link = next(document.elements("a")).index
        heading = next(document.elements("h1")).index
        layout = Measured(800, 1000, 800, 640, (block(link, "link", 80, 500, 160, 100), block(heading, "text", 0, 100, 400, 50)))
        monkeypatch.setattr(services, "_browser", in_profile(layout)())
        render(revision)
        page = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/appearance/?profile=desktop-pane"))
        assert "left: 10.000%; top: 50.000%; width: 20.000%; height: 10.000%" in page
        assert page.index("is sample text") < page.index("is not secure")
        address = re.search(r'href="([^"]*finding=[^"]*)" title="The link is not secure', page)
        assert address is not None
        selected = page_of(house.client(house.reviewer).get(address[1].replace("&amp;", "&")))
        assert "profile=desktop-pane" in address[1]
        assert 'aria-label="Selected finding"' in selected
        assert re.search(r'class="pin fix +chosen"', selected)
        assert "Show it at its station" in selected
        assert "top: 64.000%" in page  # the first screen ends at 640 of 1,000 px

    def test_a_chosen_finding_shows_all_its_places(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """A list of small links is one finding with one pin; chosen, each link is framed."""
        revision = taken_in(
            house, mail("<a href='https://k.org/a'>a</a><br><a href='https://k.org/b'>b</a><br><a href='https://k.org/c'>c</a>")
        )
        document = message_of(revision).document
        assert document is not None
        links = [element.index for element in document.elements("a")]
        layout = Measured(400, 200, 400, 600, tuple(block(index, "link", 20, 20 * row, 40, 10) for row, index in enumerate(links)))
        monkeypatch.setattr(services, "_browser", in_profile(layout)())
        render(revision)
        checked(revision.mailing)
        client = house.client(house.reviewer)
        page = page_of(client.get(f"/mailings/{revision.mailing_id}/r1/appearance/?profile=phone-upright"))
        assert page.count("3 links, the first of 40 × 10 px, stand close to each other") >= 1
        assert "further" not in page
        address = re.search(r'href="([^"]*finding=[^"]*)" title="3 links', page)
        assert address is not None
        chosen = page_of(client.get(address[1].replace("&amp;", "&")))
        assert re.findall(r'class="pin fix further" style="left: 5.000%; top: ([\d.]+)%', chosen) == ["10.000", "20.000"]

    def test_the_contact_sheet(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """Every profile on one scale; what is wrong in a profile stands beside it; the odd one out comes first on request."""
        revision = taken_in(house, illustrated())
        layout = Measured(800, 3000, 800, 640, (block(5, "text", 0, 0, 300, 30),))
        monkeypatch.setattr(services, "_browser", in_profile(layout)())
        render(revision)
        Render.objects.filter(profile="phone-app").update(departure=42.4)
        client = house.client(house.reviewer)
        page = page_of(client.get(f"/mailings/{revision.mailing_id}/r1/appearance/"))
        for name in usual():
            assert profiles()[name].name in page
        assert "goes-on" in page  # 3,000 px are taller than the sheet shows
        assert page.index("Desktop, standards engine") < page.index("Phone app that clips")
        by_departure = page_of(client.get(f"/mailings/{revision.mailing_id}/r1/appearance/?order=departure"))
        cards = re.findall(r'<span class="caption" title="[^"]*"><b>([^<]*)', by_departure)
        assert cards[0] == "Phone app that clips"
        assert "departs 42 %" in by_departure

    def test_other_ways_are_rendered_when_asked_for(self, house: Any, fake_browser: FakeBrowser) -> None:
        """After a press that led to it the page asks by itself, for one profile or for all; what a way does not change is not made twice."""
        revision = taken_in(house, illustrated())
        render(revision)
        client = house.client(house.reviewer)
        base = f"/mailings/{revision.mailing_id}/r1/"
        page = client.get(f"{base}appearance/?profile=phone-upright&mode=turned").content.decode()
        assert "Not rendered yet" in page
        # Opened by its address, it asks for nothing.
        assert 'hx-trigger="load"' not in page and "Render them" in page
        pressed = {"Sec-Fetch-User": "?1", "Sec-Fetch-Site": "same-origin"}
        page = client.get(f"{base}appearance/?profile=phone-upright&mode=turned", headers=pressed).content.decode()
        assert 'hx-trigger="load"' in page
        elsewhere = {**pressed, "Sec-Fetch-Site": "cross-site"}
        page = client.get(f"{base}appearance/?profile=phone-upright&mode=turned", headers=elsewhere).content.decode()
        assert 'hx-trigger="load"' not in page
        answer = client.post(f"{base}renders/steer/", {"mode": "turned", "profile": "phone-upright"}, headers={"HX-Request": "true"})
        assert answer["HX-Refresh"] == "true"
        render(revision)
        shot = revision.renders.get(profile="phone-upright", mode="turned")
        assert (shot.state, shot.width) == ("done", 664)
        client.post(f"{base}renders/steer/", {"mode": "night"})
        work = render(revision)
        assert work.state == "done"
        assert not revision.renders.filter(profile="desktop-night", mode="night").exists()
        assert "Not rendered yet" not in client.get(f"{base}appearance/?mode=night").content.decode()
        # One that is night by itself is shown by day with the same key.
        night = client.get(f"{base}appearance/?profile=desktop-night").content.decode()
        assert "mode=day" in night

    def test_what_a_profile_does_is_listed_with_lines(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Dropped, altered and added; the profile's sheet names its model in the table, and what is not simulated."""
        revision = taken_in(house, illustrated('<p style="padding:4px">x</p><!--[if mso]><p>only here</p><![endif]-->' + WITH_PICTURE))
        render(revision)
        page = page_of(house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/appearance/?profile=word-processor"))
        row = re.search(r"<td>padding</td><td class=\"tight\">dropped</td><td class=\"tight\">(\d)</td><td>([^<]*)</td>", page)
        assert row is not None
        assert row[2].startswith("1")
        assert "a conditional block that other clients skip" in page
        assert "caniemail@1.0.5, 2025-09-09, MIT" in page
        assert "Partly supported, not simulated" in page

    def test_pictures_are_for_the_team_only(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Another workspace's person finds nothing: no picture, no map, no sheet, no comparison, no comment."""
        revision = taken_in(house, illustrated())
        render(revision)
        one, other = revision.renders.all()[:2]
        base = f"/mailings/{revision.mailing_id}/r1/appearance/"
        addresses = [
            f"/renders/{one.pk}.jpg",
            f"/renders/{one.pk}-{other.pk}.jpg",
            f"{base}sheet.png",
            f"{base}sheet.pdf",
            f"{base}compare/",
        ]
        for address in addresses:
            assert house.client(house.author).get(address).status_code == 200, address
            assert house.client(house.outsider).get(address).status_code == 404, address
        posted = house.client(house.outsider).post(f"/mailings/{revision.mailing_id}/r1/renders/comment/", {"element": "0", "words": "x"})
        assert posted.status_code == 404

    def test_progress_is_rows_that_a_page_reads(self, house: Any, fake_browser: FakeBrowser) -> None:
        """n of m while it goes on; once done, the page is loaded anew."""
        revision = taken_in(house, illustrated())
        work = jobs.latest(services.RENDERS, f"revision:{revision.pk}")
        assert work is not None
        jobs.report(work.pk, done=2, total=6, doing="Phone, upright")
        client = house.client(house.author)
        address = f"/mailings/{revision.mailing_id}/r1/appearance/progress/"
        answer = client.get(address)
        assert "2 of 6 renders: Phone, upright" in answer.content.decode()
        assert "data-fresh" not in answer.content.decode()
        client.post(f"/mailings/{revision.mailing_id}/r1/renders/steer/", {"do": "cancel"})
        work.refresh_from_db()
        assert work.cancel_requested
        Work.objects.update(state="done")
        assert "data-fresh" in client.get(address).content.decode()

    def test_a_page_asks_as_often_whatever_the_number_of_profiles(
        self, house: Any, fake_browser: FakeBrowser, django_assert_max_num_queries: Any
    ) -> None:
        """The contact sheet of nineteen profiles needs no query of its own for each."""
        revision = taken_in(house, illustrated())
        render(revision)
        checked(revision.mailing)
        client = house.client(house.reviewer)
        client.get(f"/mailings/{revision.mailing_id}/r1/appearance/")
        with django_assert_max_num_queries(20):
            client.get(f"/mailings/{revision.mailing_id}/r1/appearance/")


class TestAccess:
    """The message with its pictures and with their words, every text outlined by its contrast."""

    def test_two_renders_with_outlines(self, house: Any, fake_browser: FakeBrowser, django_assert_max_num_queries: Any) -> None:
        """Of a chosen client with pictures and one without; the weakest text first, with its ratio, its colours and its line."""
        revision = taken_in(house, illustrated())
        render(revision)
        rows = revision.renders.filter(profile__in=("desktop-pane", "pane-blocked"))
        assert message_of(revision).document is not None
        heading = next(message_of(revision).document.elements("h1"))  # type: ignore[union-attr]
        for row in rows:
            blocks = (
                Block(
                    heading.index,
                    "text",
                    x=0,
                    y=0,
                    width=200,
                    height=30,
                    characters=12,
                    size=16,
                    colour=(150, 150, 150, 1),
                    ground=(255, 255, 255, 1),
                ),
                Block(heading.index + 1, "text", x=0, y=40, width=200, height=30, characters=40, size=16, colour=(0, 0, 0, 1), ground=None),
            )
            row.measured = Measured(600, 400, 600, 300, blocks).as_json()
            row.save()
        client = house.client(house.reviewer)
        # The checks that read the renders are done, so that looking asks for none.
        checked(revision.mailing)
        with django_assert_max_num_queries(10):
            page = client.get(f"/mailings/{revision.mailing_id}/r1/access/").content.decode()
        assert page.count('class="outlined faint"') == page.count("<b>2.95</b>") == 2
        assert page.count('class="outlined unknown"') == 2
        assert "#969696 on #ffffff" in page
        assert 'alt="The message in Reading pane, images blocked"' in page
        assert "without red cones (protanopia)" in page
        # What a screen reader says was asked of the browser once the renders were done.
        assert "What a stand-in says" in page
        other = client.get(f"/mailings/{revision.mailing_id}/r1/access/?profile=phone-upright&words=nowhere").content.decode()
        assert 'alt="The message in Phone, upright"' in other

    def test_before_the_first_render(self, house: Any) -> None:
        """Says where it will be; the words of the pictures stand there all the same."""
        revision = taken_in(house, illustrated())
        page = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/access/").content.decode()
        assert "The message is not rendered yet" in page
        assert "<td>Bowl</td>" in page


class TestModes:
    """Ways of showing."""

    @pytest.mark.parametrize(
        ("profile", "mode", "kept"),
        [
            ("desktop-pane", "turned", "own"),
            ("desktop-pane", "blocked+night", "blocked+night"),
            ("pane-blocked", "blocked", "own"),
            ("phone-turned", "turned+night", "night"),
            ("desktop-night", "day", "day"),
            ("desktop-pane", "shown+day+upright", "own"),
        ],
    )
    def test_only_what_differs_is_kept(self, profile: str, mode: str, kept: str) -> None:
        """A render is found under what differs from the profile's own way."""
        assert modes.needed(profiles()[profile], mode) == kept

    def test_switching_there_and_back(self) -> None:
        """Of one profile by what it shows, of all by what is chosen."""
        shown: Profile = profiles()["pane-blocked"]
        assert modes.switched(shown, "own", ("blocked", "shown")) == "shown"
        assert modes.switched(shown, "shown", ("blocked", "shown")) == "own"
        assert modes.switched(None, "own", ("night", "day")) == "night"
        assert modes.switched(None, "blocked+night", ("night", "day")) == "blocked"
        assert modes.mode_of(["nonsense", "day", "night"]) == "night"
        assert modes.in_words(shown, "shown+night") == "images shown, by night"


class TestCommentsOnRenders:
    """A comment that stays with the element."""

    def laid(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> Any:
        """A revision rendered with a heading at 100 to 150 px and a link below."""
        revision = taken_in(house, mail(GOOD_HTML))
        document = message_of(revision).document
        assert document is not None
        heading, link = next(document.elements("h1")).index, next(document.elements("a")).index
        layout = Measured(800, 1000, 800, 640, (block(heading, "text", 0, 100, 400, 50), block(link, "link", 80, 500, 160, 100)))
        monkeypatch.setattr(services, "_browser", in_profile(layout)())
        render(revision)
        return revision

    def test_where_somebody_clicked(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """At the element under the point, with the point in its box; drawn there, and in another profile too; settled and gone."""
        revision = self.laid(house, monkeypatch)
        client = house.client(house.reviewer)
        base = f"/mailings/{revision.mailing_id}/r1/"
        client.post(f"{base}renders/comment/", {"profile": "desktop-pane", "x": "100", "y": "120", "words": "Too loud\nhere"})
        thread = Thread.objects.get()
        assert thread.anchor is not None
        assert (thread.anchor["tag"], thread.comments.get().words, thread.comments.get().by) == ("h1", "Too loud\nhere", house.reviewer)
        assert (thread.kind, thread.profile, thread.left, thread.top) == ("point", "desktop-pane", 25.0, 40.0)
        for profile in ("desktop-pane", "phone-upright"):
            page = page_of(client.get(f"{base}appearance/?profile={profile}"))
            assert "Too loud<br>here" in page
            assert "left: 0.000%; top: 10.000%; width: 50.000%; height: 5.000%" in page
            assert 'style="left: 12.500%; top: 12.000%">1</a>' in page
        client.post(f"/comments/{thread.pk}/", {"do": "settle"})
        assert "Too loud" not in client.get(f"{base}appearance/?profile=desktop-pane").content.decode()

    def test_it_stays_with_the_element_in_the_next_revision(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """Something is put before the heading; the comment is at the heading still. Where the heading is gone, it says so."""
        revision = self.laid(house, monkeypatch)
        element = next(message_of(revision).document.elements("h1")).index  # type: ignore[union-attr]
        services.comment_on(house.reviewer, revision, "desktop-pane", Pointed(element), "Too loud")
        moved = add_revision(
            house.author, revision.mailing, mail(GOOD_HTML.replace("<h1>", "<p>New words before it</p><h1 class='x'>")), "b.eml"
        )
        [found] = placed(open_threads(moved), message_of(moved), None)
        document = message_of(moved).document
        assert document is not None
        assert (found.element, found.gone) == (next(document.elements("h1")).index, "")
        gone = add_revision(house.author, revision.mailing, mail("<p>Quite another message about the opening hours</p>"), "c.eml")
        [found] = placed(open_threads(gone), message_of(gone), None)
        assert found.element is None
        render(gone)
        page = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r3/appearance/?profile=desktop-pane").content.decode()
        assert "Its place is gone in this revision." in page

    @pytest.mark.parametrize(
        ("given", "said"),
        [
            ({"x": "20", "y": "120", "words": ""}, "Say in a few words"),
            ({"x": "20", "y": "120", "words": "x" * 2001}, "2,001 characters"),
            ({"x": "700", "y": "900", "words": "here"}, "nothing of the message at this place"),
            ({"x": "", "y": "", "words": "here"}, "choose a place from the list"),
            ({"x": "nan", "y": "nan", "words": "here"}, "nothing of the message at this place"),
            ({"x": "1e999", "y": "0", "words": "here"}, "nothing of the message at this place"),
            ({"element": "99999", "words": "here"}, "nothing of the message at this place"),
            ({"profile": "none", "element": "1", "words": "here"}, "Choose a profile first"),
        ],
    )
    def test_refused_with_a_sentence(self, house: Any, monkeypatch: pytest.MonkeyPatch, given: dict[str, str], said: str) -> None:
        """Nothing is kept, and the words stand there again."""
        revision = self.laid(house, monkeypatch)
        address = f"/mailings/{revision.mailing_id}/r1/renders/comment/"
        page = house.client(house.reviewer).post(address, {"profile": "desktop-pane", **given}, follow=True).content.decode()
        assert said in page
        assert f">{given['words']}</textarea>" in page
        assert not Thread.objects.exists()


class TestComparison:
    """Two profiles, or two revisions in one."""

    def test_two_profiles(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """What differs is told block by block, in three views."""
        revision = taken_in(house, illustrated())
        document = message_of(revision).document
        assert document is not None
        heading = next(document.elements("h1")).index
        pages = {
            800: Measured(800, 900, 800, 640, (block(heading, "text", 0, 0, 400, 40),)),
            390: Measured(390, 900, 390, 640, (block(heading, "text", 0, 0, 200, 90),)),
        }

        class Two(FakeBrowser):
            def capture(self, request: Any) -> Capture:
                """Narrow on a phone."""
                made = super().capture(request)
                return Capture(made.image, made.content_type, pages.get(request.room, made.measured))

        monkeypatch.setattr(services, "_browser", Two())
        render(revision)
        client = house.client(house.reviewer)
        base = f"/mailings/{revision.mailing_id}/r1/appearance/compare/?left=desktop-pane&right=phone-upright"
        side = client.get(base).content.decode()
        assert re.search(r"departs from the left one by <b>\d", side)
        assert '<td>Heading “Spring glaze sale”</td><td class="tight">resized</td>' in side.replace("another size", "resized")
        assert "data-together" in side
        assert "data-wiper" in client.get(f"{base}&view=wiper").content.decode()
        shown = client.get(f"{base}&view=map").content.decode()
        address = re.search(r'src="(/renders/\d+-\d+\.jpg)"', shown)
        assert address is not None
        picture_map = client.get(address[1])
        assert picture_map["Content-Type"] == "image/jpeg"
        assert float(picture_map["X-Different-Share"]) > 0.3

    def test_two_revisions_in_one_profile(self, house: Any, fake_browser: FakeBrowser) -> None:
        """The earlier one at the left; what is not rendered there is asked for."""
        revision = taken_in(house, illustrated())
        later = add_revision(house.author, revision.mailing, illustrated(WITH_PICTURE.replace("Spring", "Summer")), "b.eml")
        render(later)
        client = house.client(house.reviewer)
        address = f"/mailings/{revision.mailing_id}/r2/appearance/compare/?left=phone-upright&right=phone-upright&against=1"
        assert "Revision 1 is not rendered in this profile yet" in page_of(client.get(address))
        render(revision)
        page = page_of(client.get(address))
        assert "Phone, upright, revision 1" in page
        assert "Phone, upright, revision 2" in page
        assert "Every block of the right one stands" in page

    def test_nonsense_in_the_address(self, house: Any, fake_browser: FakeBrowser) -> None:
        """The defaults are shown."""
        revision = taken_in(house, illustrated())
        render(revision)
        for query in ("left=nowhere&right=²&view=x&against=99", "against=99999999999999999999", "against=²&zoom=١", "mode=%2B%2B"):
            assert house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/appearance/compare/?{query}").status_code == 200


class TestSheets:
    """To keep."""

    def test_png_and_pdf(self, house: Any, fake_browser: FakeBrowser) -> None:
        """All on one sheet, or one alone; the captions of the PDF are text."""
        revision = taken_in(house, illustrated())
        base = f"/mailings/{revision.mailing_id}/r1/appearance/"
        client = house.client(house.reviewer)
        assert client.get(f"{base}sheet.pdf").status_code == 404  # nothing is rendered yet
        render(revision)
        everything = Image.open(io.BytesIO(client.get(f"{base}sheet.png").content))
        assert everything.format == "PNG"
        assert everything.width > 1500
        alone = Image.open(io.BytesIO(client.get(f"{base}sheet.png?profile=phone-upright").content))
        assert alone.size == (780, 1328)
        answer = client.get(f"{base}sheet.pdf")
        assert answer["Content-Disposition"].endswith('.pdf"')
        data = answer.content
        assert data.startswith(b"%PDF-")
        pages = data.count(b"/Type /Page\n")
        assert pages >= 2
        assert data.count(b"/Subtype /Image") >= 1
        assert data.count(b"/DCTDecode") == data.count(b"/Subtype /Image")  # pictures as JPEG, or the sheet takes megabytes
        # Letters are text of the shipped font, not a drawing.
        assert b"/ToUnicode" in data


class TestAudience:
    """Which profiles a house renders in, and how much of its audience a fault touches."""

    def test_entered(self, house: Any, fake_browser: FakeBrowser) -> None:
        """The newest revisions are rendered in those profiles only; findings say the share; with nothing entered, the usual ones come back."""
        revision = taken_in(house, mail("<div style='display:none'>x</div>"))
        client = house.client(house.reviewer)
        answer = client.post("/settings/audience/", {"phone-upright": "62,5", "word-processor": "20 %", "do": "keep"}, follow=True)
        assert "82.5 % entered" in answer.content.decode()
        Work.objects.filter(kind=services.RENDERS).update(state="done")
        work = Work.objects.get(kind=services.RENDERS_OF_HOUSE)
        render_house.func(workspace_id=house.workspace.pk, work_id=work.pk)
        work.refresh_from_db()
        assert (work.state, work.done) == ("done", 1)
        house.workspace.refresh_from_db()
        assert house.workspace.audience == {"phone-upright": 62.5, "word-processor": 20.0}
        render(revision)
        assert {shot.profile for shot in revision.renders.filter(state="done")} >= {"phone-upright", "word-processor"}
        assert "62.5 % read" in client.get(f"/mailings/{revision.mailing_id}/r1/appearance/").content.decode()
        renders = renders_for_checks(type(revision).objects.get(pk=revision.pk))["renders"].value
        assert renders.share(["phone-upright", "word-processor"]) == 82.5
        # The process that works the checks out holds no Django: it is handed what was read.
        with Helper(renders, CHECKING, "server") as helper:
            assert helper.ask(Renders.share, ["phone-upright", "word-processor"]) == 82.5
        client.post("/settings/audience/", {"do": "keep"})
        house.workspace.refresh_from_db()
        assert chosen_profiles(house.workspace) == list(usual())

    def test_imported(self, house: Any) -> None:
        """Names or ids, with or without a heading, decimal commas and semicolons."""
        client = house.client(house.reviewer)
        data = b"Profile;Per cent\r\nPhone, upright;55,5\r\nword-processor;12\r\n"
        client.post("/settings/audience/", {"do": "import", "file": SimpleUploadedFile("a.csv", data)})
        house.workspace.refresh_from_db()
        assert house.workspace.audience == {"phone-upright": 55.5, "word-processor": 12.0}
        assert audience_from_csv(b'"Phone, turned",3\nphone-turned,4%\n') == {"phone-turned": 7.0}

    @pytest.mark.parametrize(
        ("data", "said"),
        [
            (b"watch,3\nphone-upright,4", "Row 1: there is no client profile “watch”."),
            (b"phone-upright,many", "Row 1: “many” is not a percentage."),
            (b"phone-upright,nan", "Row 1: “nan” is not a percentage."),
            (b"phone-upright", "Row 1 has one column"),
            (b"", "no row with a profile"),
            (b"\xff\xfe", "not a CSV in UTF-8"),
            (b"phone-upright,70\nword-processor,40", "add up to 110 per cent"),
            (b"phone-upright,-3", "between 0 and 100 per cent, not -3"),
        ],
    )
    def test_unusable_files(self, house: Any, data: bytes, said: str) -> None:
        """One sentence that names the row; nothing is changed."""
        answer = house.client(house.reviewer).post(
            "/settings/audience/", {"do": "import", "file": SimpleUploadedFile("a.csv", data or b" ")}
        )
        assert answer.status_code == 400
        assert said in answer.content.decode()
        house.workspace.refresh_from_db()
        assert house.workspace.audience == {}

    def test_what_was_typed_is_not_lost(self, house: Any) -> None:
        """And who may not configure is refused."""
        answer = house.client(house.reviewer).post("/settings/audience/", {"phone-upright": "lots", "word-processor": "20", "do": "keep"})
        assert answer.status_code == 400
        assert 'value="lots"' in answer.content.decode()
        assert house.client(house.author).post("/settings/audience/", {"phone-upright": "3", "do": "keep"}).status_code == 403


@pytest.mark.django_db(transaction=True)
def test_work_does_not_end_before_its_asker_is_done(house: Any) -> None:
    """Who joins work under way has written what it is to look for; its end waits until that can be read."""
    work = jobs.start("renders", "revision:0", doing="x", enqueue=lambda work_id: 0)
    order: list[str] = []
    has_joined = threading.Event()

    def ask() -> None:
        try:
            with transaction.atomic():
                assert jobs.start("renders", "revision:0", doing="x", enqueue=lambda work_id: 0).pk == work.pk
                has_joined.set()
                time.sleep(0.5)
                order.append("asked")
        finally:
            connection.close()

    asker = threading.Thread(target=ask)
    asker.start()
    assert has_joined.wait(10)
    with jobs.carried_out(work.pk):
        pass
    order.append("ended")
    asker.join(10)
    assert order == ["asked", "ended"]
