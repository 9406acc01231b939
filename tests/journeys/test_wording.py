"""Envelope, Wording, Plain text, Revisions and the checks' settings, through the real interface with a worker at work."""

from typing import Any

from playwright.sync_api import expect

from jetwind.apps.jobs.models import Work
from jetwind.apps.review.answers import ask_for_checks
from tests.apps.helpers import taken_in
from tests.factories import GOOD_HTML
from tests.journeys.test_release import drop


def test_brief_variants_plain_text_and_revisions(house: Any, sign_in: Any, start_worker: Any, live_server: Any) -> None:
    """An author takes HTML in, and a reviewer brings it to the brief."""
    start_worker()
    author = sign_in("author")
    drop(author, "sale.html", GOOD_HTML.replace("come to the quay", "come to the wheell for £24").encode())
    expect(author.get_by_text("This HTML came without headers")).to_be_visible(timeout=60_000)

    # Subject, variants and sender are given once; the drawing shows where each row cuts them.
    author.get_by_label("Subject", exact=True).last.fill(
        "A fifth off every litre of glaze at the kiln works until Sunday evening, and free testers"
    )
    author.get_by_label("Further subjects to try, one on each line").fill("Glazes are in\nGLAZES are in")
    author.get_by_label("Sender name").fill("Kiln Works")
    author.get_by_label("Sender address").fill("hello@kiln.org")
    author.get_by_role("button", name="Keep as the next revision").click()
    author.wait_for_url("**/r2/envelope/")
    expect(author.locator("figure.inbox-row")).to_have_count(4)
    expect(author.get_by_text("subject cut after").first).to_be_visible()
    author.get_by_label("Subject", exact=True).first.select_option("1")
    author.get_by_role("button", name="Draw").click()
    expect(author.get_by_role("img", name="Phone, upright")).to_contain_text("Glazes are in")
    expect(author.get_by_role("link", name="Variant 2 is the same as variant 1")).to_be_visible(timeout=60_000)

    # The reviewer enters the brief; the grid says where it stands, the worker finds what is missing.
    reviewer = sign_in("reviewer")
    reviewer.goto(author.url.split("envelope")[0].split("?")[0].rstrip("/") + "/wording/")
    reviewer.get_by_label("Must be said").fill("a fifth off")
    reviewer.get_by_label("subject", exact=True).check()
    reviewer.get_by_role("button", name="Require it").click()
    expect(reviewer.get_by_role("row", name="a fifth off").get_by_text("stands").first).to_be_visible()
    reviewer.get_by_label("Must not be said").fill("£24")
    reviewer.get_by_role("button", name="Forbid it").click()
    # Where the checks of the change before ended just then, the page says that these are out of date, and a press has them run at once.
    forbidden = reviewer.get_by_role("link", name="“£24” is forbidden and stands in the HTML.")
    again = reviewer.get_by_role("button", name="Check again now")
    expect(forbidden.or_(again).first).to_be_visible(timeout=60_000)
    if again.is_visible():
        again.click()
    expect(forbidden).to_be_visible(timeout=60_000)
    reviewer.get_by_role("button", name="It is right").click()
    expect(reviewer.get_by_text("“wheell” is in the word list")).to_be_visible()

    # Plain text made afresh is the next revision; the two revisions are held against each other.
    reviewer.get_by_role("navigation", name="Course").get_by_role("link", name="Plain text").click()
    with reviewer.expect_download() as saved:
        reviewer.get_by_role("link", name="Save plain text made afresh from the HTML").click()
    assert saved.value.suggested_filename.endswith("-r2.txt")
    reviewer.get_by_role("button", name="Make it the next revision").click()
    reviewer.wait_for_url("**/r3/plain-text/")
    expect(reviewer.get_by_role("cell", name="same").first).to_be_visible()
    expect(reviewer.get_by_text("not checked yet")).to_have_count(0, timeout=60_000)
    reviewer.get_by_role("button", name="More").click()
    reviewer.get_by_role("link", name="Compare revisions").click()
    reviewer.wait_for_url("**/compare/**")
    fixed = reviewer.locator("section", has=reviewer.get_by_role("heading", name="Fixed"))
    expect(fixed.get_by_text("no plain-text part")).to_be_visible()

    # A level set for the house has the messages checked again that it touches.
    reviewer.goto("/settings/checks/")
    reviewer.get_by_label("Level of Subject too long for the inbox row").select_option("off")
    reviewer.get_by_role("button", name="Keep the checks").last.click()
    expect(reviewer.get_by_text("1 check differs")).to_be_visible()
    reviewer.goto(f"/mailings/{reviewer_mailing(house)}/r3/envelope/")
    # What the change touches is checked again by itself, and the page shows the new answers by itself.
    expect(reviewer.get_by_role("main")).not_to_contain_text("The subject has", timeout=60_000)


def test_what_is_typed_is_not_taken_away(house: Any, sign_in: Any, start_worker: Any) -> None:
    """While somebody types, the page says that there is something new and waits; a page without a word shows it by itself."""
    revision = taken_in(house)
    Work.objects.all().delete()
    ask_for_checks(revision)
    typing, waiting = sign_in("reviewer"), sign_in("approver")
    for page in (typing, waiting):
        page.goto(f"/mailings/{revision.mailing_id}/r1/wording/")
        expect(page.get_by_text("Checks: waiting for a worker")).to_be_visible()
    typing.get_by_label("Must be said").fill("a fifth off")
    start_worker()
    expect(typing.get_by_text("There is something new to show")).to_be_visible(timeout=60_000)
    expect(typing.get_by_label("Must be said")).to_have_value("a fifth off")
    expect(waiting.get_by_text("Checks: waiting")).to_have_count(0, timeout=60_000)
    expect(waiting.get_by_text("There is something new to show")).to_have_count(0)


def reviewer_mailing(house: Any) -> int:
    """The number of the one mailing."""
    return int(house.workspace.mailings.get().pk)
