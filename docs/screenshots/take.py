"""Take the pictures of docs/screenshots/ from a freshly started demo: ./jetwind start, then python docs/screenshots/take.py ADDRESS.

Walks through the demo as its people would (a test send, looks, a sign-off), so it wants a demo world that nobody has touched.
"""

from __future__ import annotations

import sys
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright

from jetwind.engines.browser.chromium import find_executable

HERE = Path(__file__).parent
STATIONS = ["envelope", "appearance", "wording", "fields", "links", "images", "access", "spam-risk", "footer", "plain-text", "test-sends"]


def window(browser: Browser, address: str, user: str, scheme: str = "light") -> Page:
    """A signed-in window of 1280 × 800."""
    page = browser.new_context(viewport={"width": 1280, "height": 800}, color_scheme=scheme, base_url=address).new_page()
    page.goto("/sign-in/")
    page.get_by_label("Name").fill(user)
    page.get_by_label("Password").fill("walk-the-round")
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url("**/")
    return page


def walk(page: Page, title: str) -> str:
    """The address of a message's newest revision, up to the station."""
    page.goto("/")
    page.get_by_role("link", name=title, exact=True).first.click()
    page.wait_for_url("**/envelope/")
    return page.url.removesuffix("envelope/")


def shot(page: Page, name: str) -> None:
    """One picture, once its own pictures have come in."""
    page.wait_for_load_state("load")
    page.evaluate("Promise.all([...document.images].map(image => image.decode().catch(() => 0)))")
    page.screenshot(path=HERE / f"{name}.png")


def main(address: str) -> None:
    """All pictures."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=find_executable(), chromium_sandbox=False)
        rosa = window(browser, address, "rosa")
        shot(rosa, "departures")
        autumn = walk(rosa, "Autumn glaze sale")
        rosa.goto(f"{autumn}envelope/?variant=1")
        shot(rosa, "envelope")
        rosa.goto(f"{autumn}wording/")
        shot(rosa, "wording")
        courses = walk(rosa, "Courses in spring")
        rosa.goto(f"{courses}links/")
        shot(rosa, "links")
        faulty = walk(rosa, "Open studio weekend")
        rosa.goto(f"{faulty}appearance/")
        shot(rosa, "walkaround-appearance")
        rosa.goto(f"{autumn}appearance/compare/?left=desktop-pane&right=pane-blocked&view=side")
        shot(rosa, "appearance-compare")
        rosa.goto(f"{faulty}fields/")
        shot(rosa, "fields")
        rosa.goto(f"{faulty}images/")
        rosa.get_by_role("link", name="Choose a file").first.click()
        making = rosa.get_by_role("button", name="Make files to choose from")
        if making.count():
            making.click()
        rosa.locator(".files").wait_for(timeout=60_000)
        shot(rosa, "images")
        rosa.goto("/sets/")
        rosa.get_by_role("link", name="Firing slot papers").click()
        rosa.get_by_role("heading", name="All of them on one sheet").scroll_into_view_if_needed()
        rosa.evaluate("scrollTo(0, 330)")
        rosa.wait_for_timeout(800)
        shot(rosa, "set")
        rosa.goto("/readers/")
        shot(rosa, "readers")
        rosa.goto(f"{faulty}mends/")
        rosa.get_by_role("button", name="Look for mends").click()
        rosa.get_by_role("heading", name="Before and after").wait_for(timeout=240_000)
        rosa.get_by_label("no doctype", exact=False).check()
        rosa.get_by_role("heading", name="2 mends chosen").wait_for(timeout=60_000)
        shot(rosa, "mends")
        rosa.goto(f"{faulty}spam-risk/")
        shot(rosa, "spam-risk")
        clean = walk(rosa, "Spring glaze sale")
        rosa.goto(f"{clean}footer/")
        shot(rosa, "footer")
        rosa.goto(f"{clean}sender/")
        shot(rosa, "sender")
        rosa.goto(f"{faulty}test-sends/")
        rosa.get_by_label("To the test list").select_option(label="Practice mailboxes (12 addresses)")
        rosa.get_by_role("button", name="Send test").click()
        rosa.locator(".lane .refused").first.wait_for(timeout=30_000)
        rosa.locator(".lane .differs").nth(2).wait_for(timeout=30_000)
        rosa.reload()
        rosa.get_by_text("This goes on if you close the page.").wait_for(state="hidden", timeout=60_000)
        rosa.reload()
        shot(rosa, "test-sends")
        rosa.get_by_role("link", name="arrived").nth(2).click()
        rosa.wait_for_url("**/mailroom/**")
        rosa.wait_for_timeout(800)
        shot(rosa, "mailroom-arrival")
        for station in STATIONS:
            rosa.goto(f"{clean}{station}/")
            rosa.get_by_role("button", name="I have looked at this").click()
            rosa.get_by_role("button", name="take back").wait_for()
        rosa.goto(f"{faulty}send-back/")
        rosa.get_by_label("What should change").fill("The links and the colours, please. The picture of the quay is last year’s.")
        rosa.get_by_role("button", name="Send back to author").click()
        rosa.locator("#instruction-13").scroll_into_view_if_needed()
        rosa.evaluate("document.querySelector('#instruction-13').scrollIntoView()")
        shot(rosa, "instructions")
        rosa.goto(f"{clean}sign-off/")
        rosa.get_by_role("button", name="Clear revision 1").click()
        petra = window(browser, address, "petra", "light")
        petra.goto(f"{clean}sign-off/")
        shot(petra, "sign-off")
        petra.set_viewport_size({"width": 390, "height": 844})
        petra.goto(f"{clean}approve/")
        shot(petra, "approver")
        browser.close()


if __name__ == "__main__":
    main(sys.argv[1])
