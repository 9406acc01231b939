"""An empty house, its owner, and a second person in a browser of their own: invited, at work, deactivated."""

import io
from typing import Any

from django.core.management import call_command
from playwright.sync_api import Browser, Page, expect

from jetwind.apps.workspace.models import Membership
from tests.factories import mail
from tests.journeys.test_release import drop


def window(chromium: Browser, live_server: Any) -> Page:
    """A browser of somebody's own."""
    page = chromium.new_context(viewport={"width": 1280, "height": 800}, base_url=live_server.url).new_page()
    page.set_default_timeout(20_000)
    return page


def fill_in(page: Page, first: str, last: str, name: str) -> None:
    """The form of somebody who comes in for the first time."""
    page.get_by_label("First name").fill(first)
    page.get_by_label("Last name").fill(last)
    page.get_by_label("Sign-in name").fill(name)
    page.get_by_label("Password").fill("clay-on-the-wheel")
    if page.get_by_label("E-mail address").is_enabled():
        page.get_by_label("E-mail address").fill(f"{name}@kiln.org")
    page.get_by_label("Time zone").select_option("Europe/Lisbon")


def test_moving_in_and_a_second_person(chromium: Browser, live_server: Any, transactional_db: None) -> None:
    """From the first page of an empty house to a colleague who may no longer come in."""
    owner = window(chromium, live_server)
    owner.goto("/")
    expect(owner.get_by_role("heading", name="Nobody lives here yet")).to_be_visible()
    owner.get_by_label("Name of the workspace").fill("Quay Pottery")
    fill_in(owner, "Odell", "Marsh", "odell")
    owner.get_by_role("button", name="Move in").click()
    expect(owner.get_by_text("Quay Pottery is yours")).to_be_visible()

    # The owner invites an author, and does not get the link to see: the administrator of the installation hands it on.
    owner.get_by_label("E-mail address").fill("amos@kiln.org")
    owner.get_by_role("checkbox", name="reviewer").last.uncheck()
    owner.get_by_role("checkbox", name="author").last.check()
    owner.get_by_role("button", name="Invite", exact=True).click()
    expect(owner.get_by_text("administer invitation-link amos@kiln.org")).to_be_visible()
    out = io.StringIO()
    call_command("administer", "invitation-link", "amos@kiln.org", site=live_server.url, stdout=out)
    link = out.getvalue().split()[-1]

    author = window(chromium, live_server)
    author.goto(link)
    expect(author.get_by_text("Odell Marsh invites you as author")).to_be_visible()
    fill_in(author, "Amos", "Thrift", "amos")
    author.get_by_role("button", name="Join").click()
    expect(author.get_by_text("You belong to Quay Pottery now")).to_be_visible()

    # The author works: takes a message in, chooses the dark look.
    drop(author, "sale.eml", mail())
    expect(author.get_by_text("is taken in as revision 1")).to_be_visible()
    author.get_by_role("link", name="Amos Thrift").click()
    author.get_by_label("Look").select_option("dark")
    author.get_by_role("button", name="Keep my details").click()
    expect(author.locator("html")).to_have_attribute("data-theme", "dark")
    assert author.evaluate("getComputedStyle(document.body).backgroundColor") == "rgb(18, 24, 31)"

    # The owner deactivates the author: the next page is closed, and what the author did keeps the name.
    owner.reload()
    owner.get_by_role("button", name="Change Amos Thrift").click()
    owner.get_by_role("dialog").get_by_role("button", name="Deactivate").click()
    expect(owner.get_by_text("deactivated")).to_have_count(2)
    expect(owner.get_by_text("taken by Amos Thrift (amos)")).to_be_visible()
    author.goto("/")
    expect(author.get_by_text("You belong to no workspace now")).to_be_visible()
    owner.goto("/")
    expect(owner.get_by_text("by Amos Thrift")).to_be_visible()

    # The last owner stays.
    owner.goto("/people/")
    owner.get_by_role("button", name="Change Odell Marsh").click()
    owner.get_by_role("dialog").get_by_role("button", name="Deactivate").click()
    expect(owner.get_by_text("Odell Marsh is the last owner")).to_be_visible()
    assert Membership.objects.filter(deactivated_at=None).count() == 1
    for page in (owner, author):
        page.context.close()
