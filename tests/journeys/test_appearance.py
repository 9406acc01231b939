"""The Appearance station by hand and by keyboard, with the real worker and the real browser."""

from __future__ import annotations

from typing import Any

from playwright.sync_api import expect

from jetwind.apps.comments.models import Thread
from jetwind.apps.jobs.models import Work
from tests.apps.helpers import taken_in
from tests.factories import GOOD_HTML, mail, picture
from tests.journeys.conftest import wait_until


def test_from_the_contact_sheet_to_a_comment(house: Any, sign_in: Any, start_worker: Any) -> None:
    """Odd one out, one render large and turned, a comment by a click, two compared with a wiper and a map, the sheet as PDF."""
    html = GOOD_HTML.replace("<h1>", '<img src="cid:a" alt="Bowl" width="300" height="150"><div style="display:flex"><h1>').replace(
        "</h1>", "</h1><p>Beside it, as long as there is a flexible box.</p></div>"
    )
    revision = taken_in(house, mail(html, images={"a": picture(300, 150)}))
    start_worker()
    wait_until(lambda: Work.objects.get(kind="renders").state == "done", "the renders", 120)
    wait_until(lambda: Work.objects.filter(kind="checks").order_by("-id")[0].state == "done", "the checks over renders", 60)
    page = sign_in("reviewer")
    page.goto(page.url.rstrip("/") + f"/mailings/{revision.mailing_id}/r1/appearance/")
    expect(page.get_by_text("display is lost:", exact=False).first).to_be_visible()

    # The odd one out comes first, and its card leads to it.
    page.get_by_text("Arrange and save").click()
    page.get_by_role("link", name="Odd one out first").click()
    page.wait_for_url("**order=departure**")
    first = page.locator(".card-shot").first
    expect(first).to_contain_text("word-processor engine")
    first.get_by_role("link").click()
    expect(page.get_by_role("heading", name="What this profile does to the message")).to_be_visible()

    # Another profile from the list; turned, which is rendered when it is asked for.
    page.get_by_label("Profile", exact=True).select_option("phone-upright")
    page.wait_for_url("**profile=phone-upright**")
    page.get_by_role("button", name="Turned").click()
    expect(page.get_by_role("img", name="The message in Phone, upright, turned")).to_be_visible(timeout=60_000)

    # A click on the heading opens the form; the comment stands at the heading.
    page.goto(page.url.split("?")[0] + "?profile=desktop-pane")
    shot = page.get_by_role("img", name="The message in Desktop, standards engine")
    place = shot.bounding_box()
    heading = revision.renders.get(profile="desktop-pane", mode="own").layout
    assert place is not None
    block = next(one for one in heading.of("text") if one.size > 20)
    scale = place["width"] / heading.width
    shot.click(position={"x": (block.x + 10) * scale, "y": (block.y + block.height / 2) * scale}, force=True)
    dialog = page.get_by_role("dialog", name="Comment at a place")
    dialog.get_by_label("Comment", exact=True).fill("Too close to the picture")
    dialog.get_by_role("button", name="Comment").click()
    expect(page.get_by_role("link", name="Comment 1: Too close to the picture")).to_be_visible()
    thread = Thread.objects.get()
    assert thread.anchor is not None and thread.anchor["tag"] == "h1"

    # Two renders: scrolling one scrolls the other, the wiper uncovers, the map is a picture.
    page.get_by_text("Compare and save").click()
    page.get_by_role("link", name="Compare", exact=True).click()
    panes = page.locator(".beside .scroll")
    expect(panes).to_have_count(2)
    panes.first.evaluate("pane => { pane.scrollTop = pane.scrollHeight }")
    wait_until(lambda: panes.nth(1).evaluate("pane => pane.scrollTop >= pane.scrollHeight - pane.clientHeight - 2"), "the other pane")
    page.get_by_role("link", name="Laid over, with a wiper").click()
    page.get_by_role("slider").fill("20")
    assert "20%" in (page.locator("[data-wiper]").get_attribute("style") or "")
    page.get_by_role("link", name="Difference map").click()
    shown = page.get_by_role("img", name="What differs between")
    wait_until(lambda: shown.evaluate("image => image.naturalWidth") > 300, "the map")

    page.get_by_role("link", name="Contact sheet").click()
    page.get_by_text("Arrange and save").click()
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save all as PDF").click()
    assert saved.value.suggested_filename.endswith("-r1.pdf")


def test_the_audience_changes_what_is_rendered(house: Any, sign_in: Any, start_worker: Any) -> None:
    """Percentages entered in Settings; findings then say how much of the audience they touch."""
    revision = taken_in(house, mail(GOOD_HTML.replace("<h1>", "<table width='700'><tr><td>wide</td></tr></table><h1>")))
    start_worker()
    page = sign_in("reviewer")
    page.goto(page.url.rstrip("/") + "/settings/audience/")
    page.get_by_label("Webmail in a phone's browser", exact=True).fill("40")
    page.get_by_label("Desktop, standards engine", exact=True).fill("35.5")
    page.get_by_role("button", name="Keep the audience").click()
    expect(page.get_by_text("75.5 % entered in all")).to_be_visible()
    wait_until(
        lambda: (
            "(40 % of the audience)"
            in " ".join(
                run.findings.values_list("sentence", flat=True).filter(check_id="appearance.sideways").first() or ""
                for run in revision.check_runs.order_by("-created_at")[:1]
            )
        ),
        "the finding with its share",
        150,
    )
    page.goto(page.url.split("/settings")[0] + f"/mailings/{revision.mailing_id}/r1/appearance/")
    expect(page.get_by_text("(40 % of the audience)").first).to_be_visible()
    expect(page.locator(".card-shot")).to_have_count(2)
