"""A message that is talked about, sent back with instructions, mended, and looked at again: four people in real browsers."""

from __future__ import annotations

from typing import Any

from playwright.sync_api import expect

from jetwind.apps.accounts.models import User
from jetwind.apps.proofs.models import Arrival
from jetwind.apps.workspace.models import Workspace
from tests.factories import GOOD_HTML, mail
from tests.journeys.conftest import wait_until
from tests.journeys.test_release import drop

PALE = GOOD_HTML.replace("<p>Hello", '<p style="color:#ccc">Hello')
FIRST = mail(PALE.replace("https://www.kiln.org/sale", "#"), Subject="Glazes")
SECOND = mail(PALE, Subject="Glazes")


def test_sent_back_and_mended(house: Any, sign_in: Any, start_worker: Any, mailroom: None, live_server: Any) -> None:
    """Comments for people, instructions with pictures on a page and by mail, ticks, what holds, and a sign-off that waits for the last comment."""
    User.objects.filter(pk=house.author.pk).update(email="one@kiln.org", proven_email="one@kiln.org")
    Workspace.objects.update(clearing={"every": {"stations": "free", "comments": False}})
    start_worker()
    author = sign_in("author")
    drop(author, "glazes.eml", FIRST)
    base = author.url.split("/r1/")[0]
    expect(author.get_by_text("1 stop", exact=True)).to_be_visible(timeout=30_000)

    # The approver asks about the subject, by keyboard, and means the author.
    approver = sign_in("approver")
    approver.goto(f"{base}/r1/envelope/")
    approver.keyboard.press("c")
    approver.get_by_label("About").select_option(label="the subject")
    approver.get_by_role("textbox", name="Comment").fill("Could it say until when?")
    approver.get_by_text("Tell somebody").first.click()
    approver.get_by_role("checkbox", name="Author").check()
    approver.get_by_role("button", name="Comment").click()
    thread = approver.get_by_role("article", name="Comments at “Glazes”")
    expect(thread).to_contain_text("Could it say until when?")

    # The author finds it on the list of what waits, and answers there.
    author.goto("/waiting/")
    author.get_by_role("row", name="Could it say until when?").get_by_role("button").click()
    thread = author.get_by_role("article", name="Comments at “Glazes”")
    thread.get_by_text("Answer").click()
    thread.get_by_label("Your answer").fill("Sunday. I shall add it.")
    thread.get_by_role("button", name="Comment").click()
    expect(thread).to_contain_text("Sunday. I shall add it.")

    # The reviewer comments on the selected finding, and sends the message back: what is heavy is chosen, and the thread too.
    reviewer = sign_in("reviewer")
    reviewer.goto(f"{base}/r1/links/")
    reviewer.get_by_role("link", name="The link “See the glazes” has no target (#).").click()
    reviewer.wait_for_url("**finding=**")
    reviewer.keyboard.press("c")
    reviewer.keyboard.type("The sale page is there now.")
    reviewer.get_by_role("button", name="Comment").click()
    expect(reviewer.get_by_text("The sale page is there now.")).to_be_visible()
    reviewer.goto(f"{base}/r1/appearance/")
    expect(reviewer.get_by_role("status")).to_have_count(0, timeout=120_000)
    reviewer.get_by_role("link", name="Send back").click()
    reviewer.get_by_label("What should change").fill("The link and the colours, please.")
    expect(reviewer.get_by_role("checkbox", name="The link “See the glazes” has no target (#).")).to_be_checked()
    expect(reviewer.get_by_role("checkbox", name="Approver: Could it say until when?")).to_be_checked()
    reviewer.get_by_role("button", name="Send back to author").click()
    expect(reviewer.get_by_text("was sent back to Author")).to_be_visible()
    instructions = reviewer.url
    link = reviewer.get_by_role("listitem").filter(has_text="has no target").first
    expect(link.locator("mark")).to_have_text("#")
    expect(link.get_by_role("img", name="in a render")).to_have_js_property("complete", True)
    wait_until(lambda: Arrival.objects.filter(subject__startswith="Sent back: Glazes").exists(), "the mail to the author")

    # The author ticks everything off, and mends the link alone.
    author.goto(instructions)
    while author.get_by_role("button", name="Tick off instruction").count():
        left = author.get_by_role("button", name="Tick off instruction").count()
        author.get_by_role("button", name="Tick off instruction").first.click()
        expect(author.get_by_role("button", name="Tick off instruction")).to_have_count(left - 1)
    author.goto(f"{base}/r1/links/")
    drop(author, "glazes-2.eml", SECOND)
    expect(author.get_by_text("0 stops")).to_be_visible(timeout=30_000)

    # The next revision shows which ticks hold, as soon as its renders are there.
    reviewer.goto(f"{base}/r2/appearance/")
    expect(reviewer.get_by_role("status")).to_have_count(0, timeout=120_000)
    reviewer.goto(f"{base}/r2/links/")
    reviewer.get_by_role("group", name="Gauges").get_by_role("link", name="ticked").click()
    expect(reviewer.get_by_text("Ticked off by Author; it is not there any more.")).to_have_count(1)
    expect(reviewer.get_by_text("Ticked off by Author, yet it is still there.").first).to_be_visible()
    reviewer.goto(f"{base}/r2/links/")
    expect(reviewer.get_by_text("The finding is not there any more.")).to_be_visible()

    # Open comments hold it back, until each is settled.
    reviewer.goto(f"{base}/r2/sign-off/")
    expect(reviewer.get_by_text("2 comments are open.")).to_be_visible()
    reviewer.goto(f"{base}/r2/comments/")
    for left in (1, 0):
        reviewer.get_by_role("button", name="Settle").first.click()
        expect(reviewer.get_by_role("button", name="Settle")).to_have_count(left)
    reviewer.goto(f"{base}/r2/sign-off/")
    reviewer.get_by_role("button", name="Clear revision 2").click()
    expect(reviewer.get_by_text("You have signed this revision.")).to_be_visible()
