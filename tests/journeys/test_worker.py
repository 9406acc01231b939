"""A worker killed in the middle loses nothing; what is refused is refused in the browser too."""

import signal
from typing import Any

from playwright.sync_api import expect

from jetwind.apps.intake.services import add_revision
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews.models import Render
from jetwind.core.profiles import usual
from tests.apps.helpers import taken_in
from tests.factories import GOOD_HTML, archive, mail, picture
from tests.journeys.conftest import wait_until


def test_a_killed_worker_is_followed_by_another(house: Any, start_worker: Any) -> None:
    """Renders that were done stay, the rest is picked up by the next worker, and nothing is done twice."""
    tall = GOOD_HTML.replace(
        "</body>", '<img src="cid:a" alt="x"><div style="height:11000px;background:linear-gradient(45deg,#123,#fed)">x</div></body>'
    )
    revision = taken_in(house, mail(tall, images={"a": picture()}))
    renders = Render.objects.filter(revision=revision)
    worker = start_worker()
    wait_until(lambda: renders.filter(state="done").exists(), "the first render")
    worker.kill()
    done_before = dict(renders.filter(state="done").values_list("pk", "blob_sha256"))
    work = Work.objects.get(kind="renders")
    assert work.state == "running"
    assert 0 < len(done_before) < len(usual())
    start_worker()
    wait_until(lambda: Work.objects.get(kind="renders").state == "done", "the end of rendering", 150)
    assert renders.filter(state="done").count() == len(usual())
    assert {pk: digest for pk, digest in renders.values_list("pk", "blob_sha256") if pk in done_before} == done_before


def test_a_paused_worker_comes_back(house: Any, start_worker: Any) -> None:
    """Another took its jobs meanwhile: what it still finishes does no harm, and all work comes to its end."""
    revision = taken_in(house, mail(GOOD_HTML, images={"a": picture()}))
    renders = Render.objects.filter(revision=revision)
    paused = start_worker()
    wait_until(lambda: renders.filter(state="done").exists(), "the first render")
    paused.signal(signal.SIGSTOP)
    start_worker()
    wait_until(lambda: Work.objects.get(kind="renders").state == "done", "the end of rendering", 150)
    paused.signal(signal.SIGCONT)
    add_revision(house.author, revision.mailing, mail(GOOD_HTML + "<p>More</p>"), "b.eml")
    wait_until(lambda: not Work.objects.filter(state__in=["waiting", "running"]).exists(), "the end of all work", 150)
    assert set(Work.objects.values_list("state", flat=True)) == {"done"}
    assert set(Render.objects.values_list("state", flat=True)) == {"done"}


def test_a_hostile_message_keeps_nobody_waiting(house: Any, start_worker: Any) -> None:
    """While one message takes all the time that it may, another that came after it has its pictures."""
    heavy = "".join(f'<div style="text-shadow:0 0 {n % 90 + 200}px #123;filter:blur({n % 9 + 9}px)">Glaze {n}</div>' for n in range(3_000))
    hostile = taken_in(house, mail(f"<body>{heavy}</body>"))
    start_worker()
    wait_until(lambda: Work.objects.get(kind="renders", subject=f"revision:{hostile.pk}").state == "running", "the first message's renders")
    other = taken_in(house, mail(GOOD_HTML, images={"a": picture()}), "b.eml")
    wait_until(lambda: Render.objects.filter(revision=other, state="done").exists(), "a picture of the second", 120)
    assert Work.objects.get(kind="renders", subject=f"revision:{hostile.pk}").is_open
    assert Render.objects.filter(revision=hostile, state="done").count() < len(usual())


def test_what_cannot_be_used_is_said_on_departures(house: Any, sign_in: Any) -> None:
    """A zip bomb and a picture: one sentence each, and the list stays empty."""
    page = sign_in("author")
    for name, data, said in (
        ("bomb.zip", archive({"a.html": b"\0" * 20_000_000}), "“bomb.zip” unpacks to far more than it holds"),
        ("bowl.eml", picture(), "“bowl.eml” is not a mail"),
        ("outside.zip", archive({"../../a.html": b"<p>"}), "has a file that points outside of it"),
    ):
        page.locator("#file").set_input_files({"name": name, "mimeType": "application/octet-stream", "buffer": data})
        page.get_by_role("button", name="Take in").click()
        expect(page.get_by_role("status")).to_contain_text(said)
        expect(page.get_by_text("No message yet.")).to_be_visible()
