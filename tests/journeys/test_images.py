"""The stations Images and Access in a real browser: a real worker measures, makes lighter files, renders and listens."""

from __future__ import annotations

import io
import random
import zipfile
from typing import Any

from axe_playwright_python.sync_playwright import Axe
from PIL import Image, ImageFilter
from playwright.sync_api import Page, expect

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.jobs.models import Work
from jetwind.apps.previews.models import Render
from jetwind.apps.review.models import ChosenFile, FindingRecord
from jetwind.core.images.facts import facts_of
from tests.apps.helpers import taken_in
from tests.factories import mail
from tests.journeys.conftest import wait_until

PAGE = """<html lang="en"><body><table role="presentation" width="600"><tr><td><h1>Pots by hand</h1>
<p style="color:#999999">All of them are thrown, turned and glazed by hand, and none is like another.</p>
<a href="https://kiln.org/pots" style="color:#b00000">Every pot of the spring</a>
<img src="cid:heavy" width="300" height="200" alt="Five pots on a shelf"></td></tr></table></body></html>"""


def heavy() -> bytes:
    """A picture as a camera gives it, far too heavy for where it is shown."""
    grain = Image.frombytes("RGB", (1200, 800), random.Random(7).randbytes(1200 * 800 * 3))
    out = io.BytesIO()
    grain.filter(ImageFilter.GaussianBlur(4)).save(out, "PNG")
    return out.getvalue()


def all_done() -> bool:
    """Whether everything that was asked for is done."""
    return Work.objects.filter(kind="renders").exists() and not Work.objects.filter(state__in=["waiting", "running"]).exists()


def nothing_serious(page: Page) -> None:
    """As far as axe-core can tell, once colours have come to rest."""
    page.evaluate("Promise.allSettled(document.getAnimations().map((one) => one.finished)).then(() => true)")
    found = [one for one in Axe().run(page).response["violations"] if one["impact"] in ("serious", "critical")]
    assert found == [], page.url


def test_a_heavy_picture_is_put_in_lighter(house: Any, start_worker: Any, sign_in: Any) -> None:
    """From the bar to the next revision: what the station says of the lighter file is what is in the message then."""
    revision = taken_in(house, mail(PAGE, images={"heavy": heavy()}))
    start_worker()
    wait_until(all_done, "the end of all work", 180)
    page = sign_in("author")
    page.goto(f"/mailings/{revision.mailing_id}/r1/images/")
    expect(page.get_by_role("img", name="heavy.png")).to_be_visible()
    expect(page.get_by_text("All pictures weigh")).to_contain_text("as light as they look")
    # Both pictures come, of one size; the wiper moves by the keyboard.
    for name in ("As it is now", "The lighter file"):
        expect(page.get_by_role("img", name=name)).to_have_js_property("naturalWidth", 600, timeout=30_000)
    wiper = page.get_by_role("slider", name="How much of the picture as it is now is shown")
    wiper.press("ArrowRight")
    expect(page.locator("[data-wiper]")).to_have_attribute("style", "--at: 51%;")
    nothing_serious(page)
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save the lighter pictures with a list").click()
    packed = zipfile.ZipFile(saved.value.path())
    (name,) = (name for name in packed.namelist() if name != "list.csv")
    page.get_by_role("button", name="Put them into the next revision").click()
    expect(page.get_by_text("Revision 2 has one lighter picture.")).to_be_visible()
    second = Revision.objects.get(mailing=revision.mailing, number=2)
    placed = message_of(second).resource("cid:heavy")
    assert placed is not None
    assert placed.data == packed.read(name)
    assert (placed.name, facts_of(placed.data).width) == (name, 600)
    wait_until(all_done, "the end of all work", 180)
    page.goto(f"/mailings/{revision.mailing_id}/r2/images/")
    expect(page.get_by_text("as light as they look")).to_have_count(0)


def test_a_file_is_chosen_and_words_are_entered(house: Any, start_worker: Any, sign_in: Any) -> None:
    """Files are made, one is chosen by the keyboard, the weight of the message follows; entered words become a finding of Access."""
    revision = taken_in(house, mail(PAGE, images={"heavy": heavy()}))
    start_worker()
    wait_until(all_done, "the end of all work", 180)
    page = sign_in("reviewer")
    page.goto(f"/mailings/{revision.mailing_id}/r1/images/")
    page.get_by_role("link", name="Choose a file").first.click()
    page.get_by_role("button", name="Make files to choose from").click()
    steps = page.get_by_role("table").filter(has=page.get_by_role("columnheader", name="Pixels wide"))
    expect(steps).to_be_visible(timeout=90_000)
    expect(page.get_by_text("proposed").first).to_be_visible()
    before = page.locator(".counts-line").inner_text()
    widest = steps.get_by_role("row").nth(1).get_by_role("radio").first
    widest.focus()
    widest.press("Space")
    expect(page.locator(".counts-line")).not_to_have_text(before)
    chosen = ChosenFile.objects.get(revision=revision).file
    assert chosen is not None
    expect(steps.get_by_role("radio", checked=True)).to_have_attribute("value", str(chosen.pk))
    expect(page.locator(".counts-line")).to_contain_text(f"{chosen.octets / 1024:,.1f} KB as light as they look")
    expect(page.get_by_role("img", name="The lighter file")).to_have_js_property("complete", True)
    width = page.get_by_role("img", name="The lighter file").bounding_box()
    page.get_by_label("Twice as large").check()
    twice = page.get_by_role("img", name="The lighter file").bounding_box()
    assert width is not None
    assert twice is not None
    assert twice["width"] == 2 * width["width"]
    expect(page.get_by_role("img", name="Outline of the message")).to_be_visible()
    nothing_serious(page)
    page.emulate_media(color_scheme="dark")
    nothing_serious(page)
    page.get_by_text("Enter its words").first.click()
    page.get_by_label("Words in the picture").first.fill("Kiln opening, Sunday")
    page.get_by_role("button", name="Keep").first.click()
    expect(page.get_by_text("Kept; the message is being checked again.")).to_be_visible()
    wait_until(lambda: FindingRecord.objects.filter(check_id="access.alt-words").exists(), "the finding", 90)
    page.goto(f"/mailings/{revision.mailing_id}/r1/access/")
    expect(page.get_by_text("shows words that its alternative text leaves out: “Kiln opening Sunday”").first).to_be_visible()


def test_how_it_is_seen_and_heard(house: Any, start_worker: Any, sign_in: Any) -> None:
    """Outlines with the ratio, words in place of pictures, what a screen reader says, and the render as others see it."""
    revision = taken_in(house, mail(PAGE, images={"heavy": heavy()}))
    start_worker()
    wait_until(all_done, "the end of all work", 180)
    assert Render.objects.get(revision=revision, profile="desktop-pane").spoken
    page = sign_in("reviewer")
    page.goto(f"/mailings/{revision.mailing_id}/r1/access/")
    faint = page.locator(".outlined.faint").first
    expect(faint).to_contain_text("2.84")
    # The outline lies on the words: inside the render, and as wide as a line of them.
    outline, shot = faint.bounding_box(), page.locator(".access-views .shot").first.bounding_box()
    assert outline is not None
    assert shot is not None
    assert shot["x"] <= outline["x"]
    assert outline["x"] + outline["width"] <= shot["x"] + shot["width"]
    assert outline["width"] > 4 * outline["height"]
    expect(page.get_by_role("img", name="The message in Reading pane, images blocked")).to_be_visible()
    said = page.get_by_role("table").filter(has=page.get_by_role("columnheader", name="Role")).get_by_role("row")
    expect(said.nth(1)).to_contain_text("heading, level 1")
    expect(said.nth(3)).to_contain_text("Every pot of the spring")
    expect(said.nth(4)).to_contain_text("Five pots on a shelf")
    render = page.locator(".shot img").first
    expect(render).to_have_css("filter", "none")
    page.get_by_label("Seen").select_option(label="without green cones (deuteranopia)")
    expect(render).to_have_css("filter", 'url("#sight-deuteranopia")')
    page.get_by_label("Seen").select_option(label="with full sight")
    expect(render).to_have_css("filter", "none")
    nothing_serious(page)
    page.emulate_media(color_scheme="dark")
    nothing_serious(page)
    # Another client, and the same choice under Appearance.
    page.locator(".access-views summary").first.click()
    page.get_by_role("link", name="Phone, upright", exact=True).click()
    expect(page.get_by_role("img", name="The message in Phone, upright")).to_be_visible()
    page.goto(f"/mailings/{revision.mailing_id}/r1/appearance/?profile=phone-upright")
    page.get_by_label("Seen").select_option(label="with weak sight (blurred)")
    expect(page.locator(".shot img").first).to_have_css("filter", 'url("#sight-weak")')
    # And on the contact sheet and in comparisons, all renders at once.
    page.goto(f"/mailings/{revision.mailing_id}/r1/appearance/")
    page.get_by_label("Seen").select_option(label="without red cones (protanopia)")
    for number in (0, 3):
        expect(page.locator(".shot img").nth(number)).to_have_css("filter", 'url("#sight-protanopia")')
    nothing_serious(page)
    for view, place in (("side", ".beside img"), ("wiper", ".laid img")):
        page.goto(f"/mailings/{revision.mailing_id}/r1/appearance/compare/?left=desktop-pane&right=phone-upright&view={view}")
        page.get_by_label("Seen").select_option(label="without blue cones (tritanopia)")
        for number in (0, 1):
            expect(page.locator(place).nth(number)).to_have_css("filter", 'url("#sight-tritanopia")')
