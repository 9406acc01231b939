"""Renders: planned, taken once, cancelled, taken up again."""

import re
from typing import Any

import pytest

from jetwind.apps.blobs import store
from jetwind.apps.intake.services import add_revision, start_copy
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews import services
from jetwind.apps.previews.models import Render
from jetwind.apps.previews.tasks import render_revision
from jetwind.engines.browser import Box, Capture, CaptureFailed, FakeBrowser
from tests.apps.helpers import checked, taken_in
from tests.factories import GOOD_HTML, mail, picture

WITH_PICTURE = GOOD_HTML.replace("<h1>", '<img src="cid:bowl" alt="Bowl"><h1>')


def illustrated(html: str = WITH_PICTURE, **headers: str) -> bytes:
    """A mail with a picture, so that blocked pictures make a difference."""
    return mail(html, images={"bowl": picture()}, **headers)


def render(revision: Any) -> Work:
    """Do the rendering that was asked for, as the worker does."""
    work = jobs.latest(services.RENDERS, f"revision:{revision.pk}")
    assert work is not None
    render_revision.func(revision_id=revision.pk, work_id=work.pk)
    work.refresh_from_db()
    return work


class TestRendering:
    """Two profiles, each with images shown, blocked, and at night."""

    def test_all_six(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Each in the blob store; progress ends at 6 of 6."""
        revision = taken_in(house, illustrated())
        work = render(revision)
        assert (work.state, work.done, work.total) == ("done", 6, 6)
        assert [(seen.width, seen.dark) for seen in fake_browser.seen] == [
            (800, False),
            (390, False),
            (800, False),
            (390, False),
            (800, True),
            (390, True),
        ]
        for shot in revision.renders.all():
            assert shot.state == "done"
            assert store.fetch(shot.blob_sha256).startswith(b"\xff\xd8")

    def test_the_same_question_is_never_rendered_twice(self, house: Any, fake_browser: FakeBrowser) -> None:
        """A copy with the same content takes over all renders; a new subject changes none of them."""
        revision = taken_in(house, illustrated())
        render(revision)
        fake_browser.seen.clear()
        render(checked(start_copy(house.author, revision.mailing)))
        render(add_revision(house.author, revision.mailing, illustrated(Subject="Other subject"), "b.eml"))
        assert fake_browser.seen == []
        render(add_revision(house.author, revision.mailing, illustrated(WITH_PICTURE.replace("Spring", "Summer")), "c.eml"))
        assert len(fake_browser.seen) == 6

    def test_blocked_is_shown_where_there_are_no_pictures(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Equal HTML, width and scheme are rendered once in the same run too."""
        revision = taken_in(house)
        assert render(revision).done == 6
        assert len(fake_browser.seen) == 4
        assert revision.renders.filter(state="done").count() == 6

    def test_a_killed_worker_loses_nothing(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Started again, only what is missing is rendered."""
        revision = taken_in(house, illustrated())
        render(revision)
        fake_browser.seen.clear()
        Render.objects.filter(mode="night").update(state="waiting", blob_sha256="")
        work = services.ask_for_renders(revision)
        render_revision.func(revision_id=revision.pk, work_id=work.pk)
        assert [seen.dark for seen in fake_browser.seen] == [True, True]

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
        services.retry_renders(house.reviewer, revision)
        assert render(revision).state == "done"
        assert revision.renders.filter(state="done").count() == 6
        assert len(browser.seen) == 6

    def test_a_page_that_fails_does_not_take_the_others(self, house: Any, monkeypatch: pytest.MonkeyPatch) -> None:
        """It says why, and is tried again on request."""

        class Picky(FakeBrowser):
            def capture_all(self, requests: Any, done: Any) -> None:
                """Fail every picture at night."""
                for number, request in enumerate(requests):
                    done(
                        number,
                        CaptureFailed("The page could not be rendered: it did not lay out in time.")
                        if request.dark
                        else self.capture(request),
                    )

        monkeypatch.setattr(services, "_browser", Picky())
        revision = taken_in(house, illustrated())
        assert render(revision).state == "done"
        assert set(revision.renders.filter(state="failed").values_list("problem", flat=True)) == {
            "The page could not be rendered: it did not lay out in time."
        }
        page = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/appearance/?mode=night").content.decode()
        assert "did not lay out in time" in page


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
        from jetwind.apps.intake.selectors import message_of

        document = message_of(revision).document
        assert document is not None
        link = next(document.elements("a")).index
        heading = next(document.elements("h1")).index

        class Measured(FakeBrowser):
            def capture(self, request: Any) -> Capture:
                """A page of 1,000 px with a heading and a link."""
                return Capture(
                    super().capture(request).image,
                    "image/jpeg",
                    request.width,
                    1000,
                    request.width,
                    False,
                    (Box(link, "link", 80, 500, 160, 100), Box(heading, "text", 0, 100, 400, 50)),
                )

        monkeypatch.setattr(services, "_browser", Measured())
        render(revision)
        page = house.client(house.reviewer).get(f"/mailings/{revision.mailing_id}/r1/appearance/?profile=desktop-pane").content.decode()
        assert "left: 10.000%; top: 50.000%; width: 20.000%; height: 10.000%" in page
        assert page.index("is sample text") < page.index("is not secure")
        address = re.search(r'href="([^"]*finding=[^"]*)" title="The link is not secure', page)
        assert address is not None
        selected = house.client(house.reviewer).get(address[1].replace("&amp;", "&")).content.decode()
        assert "profile=desktop-pane" in address[1]
        assert 'aria-label="Selected finding"' in selected
        assert re.search(r'class="pin fix +chosen"', selected)
        assert "Show it at its station" in selected
        assert "top: 64.000%" in page  # the first screen ends at 640 of 1,000 px

    def test_pictures_are_for_the_team_only(self, house: Any, fake_browser: FakeBrowser) -> None:
        """Another workspace's person finds nothing."""
        revision = taken_in(house, illustrated())
        render(revision)
        shot = revision.renders.first()
        answer = house.client(house.author).get(f"/renders/{shot.pk}.jpg")
        assert (answer.status_code, answer["Content-Type"]) == (200, "image/jpeg")
        assert house.client(house.outsider).get(f"/renders/{shot.pk}.jpg").status_code == 404

    def test_progress_is_rows_that_a_page_reads(self, house: Any, fake_browser: FakeBrowser) -> None:
        """n of m while it goes on; once done, the page is loaded anew."""
        revision = taken_in(house, illustrated())
        work = jobs.latest(services.RENDERS, f"revision:{revision.pk}")
        assert work is not None
        jobs.report(work.pk, done=2, total=6, doing="Phone, upright, images shown")
        client = house.client(house.author)
        address = f"/mailings/{revision.mailing_id}/r1/renders/progress/"
        answer = client.get(address)
        assert "2 of 6 renders: Phone, upright, images shown" in answer.content.decode()
        assert "HX-Refresh" not in answer
        client.post(f"/mailings/{revision.mailing_id}/r1/renders/steer/", {"do": "cancel"})
        work.refresh_from_db()
        assert work.cancel_requested
        Work.objects.update(state="done")
        assert client.get(address)["HX-Refresh"] == "true"
