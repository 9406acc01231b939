"""Spam risk, Footer and the sender's papers in a real browser, with what a real worker found."""

from __future__ import annotations

from typing import Any

from axe_playwright_python.sync_playwright import Axe
from playwright.sync_api import expect

from jetwind.apps.review.models import SenderPapers
from jetwind.apps.workspace.rulebooks import keep_rulebook, say_what_signs
from tests.apps.helpers import taken_in
from tests.factories import GOOD_HTML, mail
from tests.journeys.conftest import wait_until
from tests.journeys.test_images import all_done

LOUD = mail("<p>Act now! Claim your prize! Buy! Now! Yes!</p>", None, Subject="YOU ARE A WINNER!!")


def test_reasons_are_switched_off_without_loading_the_page(house: Any, sign_in: Any) -> None:
    """By mouse and by keyboard; sum, band, bars and address follow, and come back."""
    revision = taken_in(house, LOUD)
    page = sign_in("reviewer")
    page.goto(f"/mailings/{revision.mailing_id}/r1/spam-risk/")
    page.evaluate("window.still = 'the same page'")
    score = page.locator("[data-score]")
    before = score.inner_text()
    assert before.endswith(", high")
    row = page.locator("[data-reason='spam.subject-shouting']")
    # Reasons stand heaviest first: the bar of the next one begins where this one ends.
    bar = page.locator("[data-reason='spam.subject-shouting'] ~ .sum-row .sum-track i").first
    left = bar.evaluate("(bar) => parseFloat(bar.style.left)")
    row.get_by_role("button").click()
    expect(score).not_to_have_text(before)
    assert bar.evaluate("(bar) => parseFloat(bar.style.left)") < left
    assert row.get_by_role("button").get_attribute("aria-pressed") == "false"
    assert page.url.endswith("?without=spam.subject-shouting")
    weight = float(row.get_attribute("data-weight") or 0)
    assert abs(float(score.inner_text().partition(",")[0]) - (float(before.partition(",")[0]) - weight)) < 0.11
    row.get_by_role("button").press("Space")
    expect(score).to_have_text(before)
    assert page.url.endswith("/spam-risk/")
    assert page.evaluate("window.still") == "the same page"
    # The address of a sum without a reason shows the same when it is loaded.
    page.goto(f"{page.url}?without=spam.subject-shouting")
    assert score.inner_text() != before
    row.locator("summary").click()
    expect(row.locator("mark")).to_have_text("Subject: YOU ARE A WINNER!!")
    page.get_by_role("link", name="See the sum without").click()
    expect(score).not_to_contain_text("high")


def test_footer_with_threads_and_the_chain(house: Any, start_worker: Any, sign_in: Any) -> None:
    """The footer of a real render, and papers that a real worker asked the practice field for."""
    say_what_signs(house.reviewer, house.workspace, {"domain": "saltmarsh-kiln.example", "selector": "spring", "host": "192.0.2.25"}, {})
    keep_rulebook(house.reviewer, house.workspace, {"name": "Quay", "demands": ["footer.unsubscribe-words"], "words": ["Fired by hand"]})
    revision = taken_in(house, mail(GOOD_HTML, From="Saltmarsh Kiln Works <glaze@saltmarsh-kiln.example>"))
    start_worker()
    wait_until(all_done, "the end of all work", 180)
    page = sign_in("reviewer")
    page.goto(f"/mailings/{revision.mailing_id}/r1/footer/")
    drawing = page.locator("figure.demands svg").first
    expect(drawing.locator("image")).to_have_count(1)
    assert drawing.locator("path.thread.is-met").count() >= 3
    # Threads begin at the words and end at the demand.
    spot, cut = drawing.locator("rect.spot").first.bounding_box(), drawing.locator("rect.edge").bounding_box()
    assert spot is not None
    assert cut is not None
    assert cut["x"] <= spot["x"]
    assert spot["y"] + spot["height"] <= cut["y"] + cut["height"] + 1
    expect(page.get_by_role("cell", name="“Fired by hand”").first).to_be_visible()
    page.locator("details.menu summary").first.click()
    page.get_by_role("link", name="Quay", exact=True).click()
    expect(page.locator("table.sheet tbody tr").filter(has_text="Quay")).to_have_count(2)
    assert SenderPapers.objects.filter(revision=revision).exists()
    page.goto(f"/mailings/{revision.mailing_id}/r1/test-sends/")
    page.get_by_role("link", name="The sender’s papers").click()
    expect(page.locator("figure.chain svg")).to_have_attribute("aria-label", "SPF says pass; aligned; key is published; aligned; ")
    assert page.locator(".vouch.is-holds").count() == 4
    found = [one for one in Axe().run(page).response["violations"] if one["impact"] in ("serious", "critical")]
    assert found == []
