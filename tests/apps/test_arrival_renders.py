"""What arrived in the client profiles: rendered with its copy, held against it, and checked, by a press and for the house alone."""

from __future__ import annotations

import io
import re
from email import policy
from email.message import EmailMessage
from email.parser import BytesParser
from typing import Any

import pytest
from PIL import Image

from jetwind.apps.blobs import store
from jetwind.apps.jobs import services as jobs
from jetwind.apps.jobs.models import Work
from jetwind.apps.proofs import renders, services
from jetwind.apps.proofs.models import Arrival, ContentRender
from jetwind.apps.proofs.services import Choices
from jetwind.apps.proofs.tasks import render_arrival
from jetwind.apps.workspace.selectors import chosen_profiles
from jetwind.core.profiles import profiles
from jetwind.engines.browser import Capture, CaptureFailed, FakeBrowser
from jetwind.engines.mail import BOXES
from jetwind.engines.mail.boxes import changed
from tests.apps.helpers import page_of, taken_in
from tests.apps.test_arrivals import Change, carried_out, way
from tests.factories import GOOD_HTML, mail

__all__ = ["way"]


@pytest.fixture
def arrival(house: Any, way: dict[str, Change]) -> Arrival:
    """A copy to which a server added a footer on its way."""
    way["one@kiln.org"] = lambda raw: changed(BOXES["adds-footer"], raw)
    send = services.send_test(house.reviewer, taken_in(house), house.test_list, Choices(base="http://testserver"))
    carried_out(send)
    return Arrival.objects.select_related("copy").get(copy__address="one@kiln.org")


def rendered(house: Any, arrival: Arrival) -> Work:
    """What the worker does after the press; the work as it ended."""
    answer = house.client(house.reviewer).post(f"/mailroom/{arrival.pk}/render/")
    assert answer["Location"] == f"/mailroom/{arrival.pk}/?view=renders"
    work = jobs.latest(renders.KIND, f"arrival:{arrival.pk}")
    assert work is not None
    render_arrival.func(arrival_id=arrival.pk, workspace_id=house.workspace.pk, work_id=work.pk)
    work.refresh_from_db()
    return work


def page(house: Any, arrival: Arrival, query: str = "") -> str:
    """The page of an arrival's renders."""
    return page_of(house.client(house.author).get(f"/mailroom/{arrival.pk}/?view=renders{query}"))


def findings(house: Any, arrival: Arrival) -> dict[str, bool]:
    """What the checks find in an arrival, by check: whether the copy lacks it."""
    return {check: is_new for _, check, _, is_new in renders.findings_of(arrival.pk, house.workspace.pk)}


def test_one_click_of_our_own_is_no_fault_of_the_message(house: Any, way: dict[str, Change]) -> None:
    """At an address without https the header for one press fails in every copy, which no reader gets; a fault that came on the way is told."""

    def other_header(raw: bytes) -> bytes:
        return re.sub(rb"List-Unsubscribe: [^\r]*\r\nList-Unsubscribe-Post:[^\r]*\r\n", b"List-Unsubscribe: <https://kiln.org/u>\r\n", raw)

    way["one@kiln.org"] = other_header
    revision = taken_in(house)
    carried_out(services.send_test(house.reviewer, revision, house.test_list, Choices(base="http://testserver")))
    changed_one, whole = Arrival.objects.order_by("copy__address")
    assert "footer.one-click" not in findings(house, whole)
    assert findings(house, changed_one)["footer.one-click"] is True


class Painted(FakeBrowser):
    """A browser that paints a bar at the foot of whatever holds the words of the added footer."""

    def capture(self, request: Any) -> Capture:
        """A white page, with a bar where the footer is."""
        found = super().capture(request)
        picture = Image.open(io.BytesIO(found.image))
        if "checked by the gateway" in request.html:
            wide, tall = picture.size
            picture.paste("#1F5F8B", (0, tall - tall // 5, wide // 2, tall))
        out = io.BytesIO()
        picture.save(out, "PNG")
        return Capture(out.getvalue(), "image/png", found.measured)


def test_both_sides_in_every_profile(house: Any, arrival: Arrival, monkeypatch: pytest.MonkeyPatch) -> None:
    """Nothing is rendered before a press; then each profile has both, and what the server added is outlined where it is."""
    monkeypatch.setattr("jetwind.apps.previews.services._browser", Painted())
    assert "are not rendered in this profile yet" in page(house, arrival)
    assert not ContentRender.objects.exists()
    assert rendered(house, arrival).state == Work.State.DONE
    names = chosen_profiles(house.workspace)
    assert ContentRender.objects.filter(state="done").count() == 2 * len(names)
    pair = renders.pair_of(arrival, "phone-upright")
    [(left, top, width, height)] = pair.areas
    assert (left, round(top + height)) == (0.0, 100)
    assert 48 <= width <= 54 and 19 <= height <= 23 and 9 <= pair.share <= 11
    shown = page(house, arrival, "&profile=phone-upright")
    assert "1 area differs" in shown and 'class="area"' in shown
    for side in ("copy", "arrived"):
        answer = house.client(house.author).get(f"/mailroom/{arrival.pk}/{side}/phone-upright.jpg")
        assert (
            Image.open(io.BytesIO(answer.content)).width
            == profiles()["phone-upright"].content_width * profiles()["phone-upright"].pixel_ratio
        )
        assert house.client(house.outsider).get(f"/mailroom/{arrival.pk}/{side}/phone-upright.jpg").status_code == 404
    assert house.client(house.outsider).post(f"/mailroom/{arrival.pk}/render/").status_code == 404
    assert house.client(house.author).get(f"/mailroom/{arrival.pk}/elsewhere/phone-upright.jpg").status_code == 404


def test_a_second_press_makes_nothing_anew(house: Any, arrival: Arrival, fake_browser: FakeBrowser) -> None:
    """What is there stays; a copy that arrived as it was is rendered once for both."""
    rendered(house, arrival)
    seen = len(fake_browser.seen)
    rendered(house, arrival)
    assert len(fake_browser.seen) == seen
    other = Arrival.objects.select_related("copy").get(copy__address="two@mail.kiln.org")
    assert other.blob_sha256 == other.copy.copy_sha256  # type: ignore[union-attr]
    rendered(house, other)
    assert len(fake_browser.seen) == seen + len(chosen_profiles(house.workspace))
    assert "it looks as its copy does" in page(house, other)


def test_made_anew_by_another_browser(house: Any, arrival: Arrival, fake_browser: FakeBrowser) -> None:
    """Pictures that another browser made are not held against each other, and are made anew with the next press."""
    rendered(house, arrival)
    ContentRender.objects.filter(content_sha256=arrival.blob_sha256).update(made_with="older")
    assert not renders.pair_of(arrival, "phone-upright").is_whole
    rendered(house, arrival)
    assert renders.pair_of(arrival, "phone-upright").is_whole


def test_findings(house: Any, arrival: Arrival, fake_browser: FakeBrowser) -> None:
    """What the checks find in it, new ones first; nothing of the unsubscribe addresses that Jetwind put there itself."""
    rendered(house, arrival)
    arrival.refresh_from_db()
    assert arrival.findings is not None
    new = [(check, sentence) for _, check, sentence, is_new in arrival.findings if is_new]
    assert ("text.out-of-sync") in [check for check, _ in new]
    assert not [sentence for _, check, sentence, _ in arrival.findings if "way-out" in sentence or check == "footer.one-click"]
    assert "<b>not there</b>" in page(house, arrival)


def with_one_link_more(raw: bytes) -> bytes:
    """The mail with a link in its HTML that it did not have."""
    read = BytesParser(policy=policy.SMTP).parsebytes(raw)
    body = read.get_body(("html",))
    assert isinstance(body, EmailMessage)
    more = '<p><a href="http://kiln.net/two">Plates of earthenware</a></p></body>'
    body.set_content(body.get_content().replace("</body>", more), subtype="html")
    return read.as_bytes()


def test_only_a_fault_more_is_new(house: Any, way: dict[str, Change], fake_browser: FakeBrowser) -> None:
    """A finding that tells several faults together is new where a server added one, and not where it took one away."""
    html = GOOD_HTML.replace("</body>", '<p><a href="http://kiln.org/one">Bowls of stoneware</a></p></body>')
    two = html.replace("</body>", '<p><a href="http://kiln.net/two">Plates of earthenware</a></p></body>')
    three = two.replace("</body>", '<p><a href="http://kiln.com/three">Cups of porcelain</a></p></body>')
    for sent, change, is_new in ((html, with_one_link_more, True), (three, lambda raw: mail(two), False)):
        way["one@kiln.org"] = change
        revision = taken_in(house, mail(sent), f"{is_new}.eml")
        carried_out(services.send_test(house.reviewer, revision, house.test_list, Choices(leaves_addresses=True)))
        copy = revision.test_sends.get().copies.get(address="one@kiln.org")
        arrival = Arrival.objects.select_related("copy").order_by("pk").filter(recipients=["one@kiln.org"]).last()
        assert arrival is not None
        Arrival.objects.filter(pk=arrival.pk).update(copy=copy)
        arrival = Arrival.objects.select_related("copy").get(pk=arrival.pk)
        rendered(house, arrival)
        arrival.refresh_from_db()
        assert [row[3] for row in arrival.findings or [] if row[1] == "links.insecure"] == [is_new]


def test_what_fails_is_told(house: Any, arrival: Arrival, monkeypatch: pytest.MonkeyPatch) -> None:
    """A profile that cannot be rendered says so, and the next press tries it again."""

    class Broken(FakeBrowser):
        def capture_all(self, requests: Any, done: Any, seconds: float = 0) -> None:
            """No page comes."""
            for number, _ in enumerate(requests):
                done(number, CaptureFailed("the page took too much memory"))

    monkeypatch.setattr("jetwind.apps.previews.services._browser", Broken())
    rendered(house, arrival)
    assert set(ContentRender.objects.values_list("state", flat=True)) == {"failed"}
    assert "(not rendered)" in page(house, arrival)
    monkeypatch.setattr("jetwind.apps.previews.services._browser", FakeBrowser())
    rendered(house, arrival)
    assert set(ContentRender.objects.values_list("state", flat=True)) == {"done"}


def test_a_mail_of_its_own(house: Any, fake_browser: FakeBrowser) -> None:
    """Mail that is no copy is rendered alone, and every finding is told without a comparison."""
    house.workspace.proven_domains.create(domain="kiln.org", how="record")
    stray = Arrival.objects.create(recipients=["x@kiln.org"], octets=9, blob_sha256=store.keep(mail("<p>Come</p><a href='#'>x</a>")))
    rendered(house, stray)
    shown = page(house, stray)
    assert "What arrived in " in shown and 'class="wiper"' not in shown and "(links.empty)" in shown


def test_while_it_goes_on(house: Any, arrival: Arrival) -> None:
    """The page tells how far it is; once done, it loads itself anew."""
    house.client(house.author).post(f"/mailroom/{arrival.pk}/render/")
    assert "waiting for a worker" in page(house, arrival)
    client = house.client(house.author)
    assert "waiting for a worker" in client.get(f"/mailroom/{arrival.pk}/progress/").content.decode()
    Work.objects.filter(kind=renders.KIND).update(state=Work.State.DONE)
    assert "data-fresh" in client.get(f"/mailroom/{arrival.pk}/progress/").content.decode()
