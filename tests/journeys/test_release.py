"""One message from intake to release, through the real interface, worker, browser, database and SMTP."""

import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, expect

from jetwind.apps.workspace.models import Workspace
from jetwind.core.reports import STATIONS
from tests.factories import GOOD_HTML, mail, picture

ROOT = Path(__file__).parents[2]
#: One stop that may be excused, one fix that is to be mended.
FIRST = mail(
    GOOD_HTML.replace("https://www.kiln.org/sale", "http://www.kiln.org/sale").replace(
        "<h1>", '<img src="cid:bowl" width="300" height="150"><h1>'
    ),
    images={"bowl": picture(600, 300, "#2F6F73")},
    Subject="Glazes for {{ first_name | default: 'you' }}",
)
SECOND = FIRST.replace(b"http://www.kiln.org/sale", b"https://www.kiln.org/sale")


def drop(page: Page, name: str, data: bytes) -> None:
    """Drop a file somewhere on the page, as a hand does."""
    transfer = page.evaluate_handle(
        "([name, octets]) => { const all = new DataTransfer(); all.items.add(new File([new Uint8Array(octets)], name)); return all; }",
        [name, list(data)],
    )
    page.dispatch_event("body", "dragover", {"dataTransfer": transfer})
    with page.expect_navigation():
        page.dispatch_event("body", "drop", {"dataTransfer": transfer})


def look_at_all(page: Page) -> None:
    """Walk the course with the key that says "looked, on to the next station"."""
    page.get_by_role("navigation", name="Course").get_by_role("link", name="Envelope").click()
    page.wait_for_url("**/envelope/")
    for station in STATIONS[1:]:
        page.keyboard.press("l")
        page.wait_for_url(f"**/{station.slug}/")


def test_from_intake_to_release(house: Any, sign_in: Any, start_worker: Any, mailroom: None, live_server: Any, tmp_path: Path) -> None:
    """What people would do and read, step by step."""
    start_worker()

    # The author drops the file on Departures, and reads what is wrong with it.
    author = sign_in("author")
    drop(author, "glazes.eml", FIRST)
    expect(author.get_by_text("is taken in as revision 1")).to_be_visible()
    expect(author.get_by_text("1 stop", exact=True)).to_be_visible(timeout=30_000)
    author.get_by_role("navigation", name="Course").get_by_role("link", name="Access").click()
    author.get_by_role("link", name="The picture cid:bowl has no alt attribute.").click()
    sheet = author.get_by_role("region", name="Selected finding")
    expect(sheet.locator("mark")).to_have_text('<img src="cid:bowl" width="300" height="150">')
    expect(sheet).to_contain_text("WCAG 2.2 SC 1.1.1")
    assert "finding=" in author.url

    # The renders come in; pins lie on them; images can be blocked with a key.
    author.get_by_role("navigation", name="Course").get_by_role("link", name="Appearance").click()
    expect(author.get_by_role("img", name="The message in Phone, upright", exact=True)).to_be_visible(timeout=60_000)
    shown = author.get_by_role("img", name="The message in Desktop, standards engine", exact=True)
    # The page loads itself anew when a render is done: asked until it holds, across that.
    expect(shown).to_have_js_property("naturalWidth", 800, timeout=30_000)
    expect(author.get_by_role("status")).to_have_count(0, timeout=60_000)
    author.keyboard.press(".")
    author.wait_for_url("**profile=desktop-pane**")
    expect(author.locator(".pin").first).to_be_visible()
    author.keyboard.press("b")
    author.wait_for_url("**mode=blocked**")
    expect(author.get_by_role("img", name="The message in Desktop, standards engine, images blocked")).to_be_visible(timeout=60_000)

    # The reviewer excuses the stop by keyboard alone.
    reviewer = sign_in("reviewer")
    reviewer.get_by_role("link", name="Glazes for").first.click()
    reviewer.get_by_role("navigation", name="Course").get_by_role("link", name="Access").click()
    reviewer.wait_for_url("**/access/")
    reviewer.keyboard.press("]")
    reviewer.wait_for_url("**finding=**")
    reviewer.keyboard.press("x")
    reviewer.keyboard.type("xx the picture is mere decoration")
    reviewer.get_by_role("button", name="Excuse", exact=True).click()
    expect(reviewer.get_by_role("region", name="Selected finding")).to_contain_text("Excused by Reviewer")
    expect(reviewer.get_by_text("0 stops")).to_be_visible()
    reviewer.keyboard.press("?")
    expect(reviewer.get_by_role("dialog", name="Keys")).to_be_visible()
    reviewer.keyboard.press("Escape")

    # A test send: one message to each, really handed over, really arrived.
    reviewer.keyboard.press("t")
    reviewer.wait_for_url("**/test-sends/")
    reviewer.get_by_label("Merged for the reader").select_option(label="Bo")
    reviewer.get_by_role("button", name="Send test").click()
    expect(reviewer.get_by_role("link", name="arrived")).to_have_count(2, timeout=30_000)
    reviewer.get_by_role("link", name="arrived").first.click()
    expect(reviewer.get_by_text("It arrived as it was sent")).to_be_visible()
    reviewer.get_by_role("link", name="HTML", exact=True).click()
    expect(reviewer.get_by_role("heading", name="[Test r1] Glazes for Bo")).to_be_visible()
    expect(reviewer.frame_locator("iframe").get_by_text("Hello Bo, come to the quay.")).to_be_visible()
    reviewer.get_by_role("link", name="Headers").click()
    expect(reviewer.get_by_role("row", name="To one@kiln.org", exact=True)).to_be_visible()

    # Nobody signs what nobody has looked at.
    Workspace.objects.update(clearing={})
    reviewer.goto(author.url.split("/r1/")[0] + "/r1/sign-off/")
    expect(reviewer.get_by_text("No station was looked at.")).to_be_visible()
    expect(reviewer.get_by_role("button", name="Clear revision 1")).to_have_count(0)
    look_at_all(reviewer)

    # The reviewer signs, sees the link, and sends the message back, which voids the sign-off; the author reads why and corrects it.
    base = author.url.split("/r1/")[0]
    reviewer.goto(f"{base}/r1/sign-off/")
    reviewer.get_by_role("button", name="Clear revision 1").click()
    expect(reviewer.get_by_text("You have signed this revision.")).to_be_visible()
    reviewer.get_by_role("link", name="Send back").click()
    reviewer.get_by_label("What should change").fill("The link is not secure; please take the https address.")
    reviewer.get_by_role("button", name="Send back to author").click()
    expect(reviewer.get_by_text("was sent back to Author")).to_be_visible()
    author.goto("/waiting/")
    author.get_by_role("button", name="please take the https address").click()
    expect(author.get_by_text("please take the https address")).to_be_visible()
    author.goto(f"{base}/r1/links/")
    drop(author, "glazes-2.eml", SECOND)
    expect(author.get_by_text("Revision 2 is taken in.")).to_be_visible()
    expect(author.get_by_text("0 stops")).to_be_visible(timeout=30_000)
    expect(author.get_by_text("0 fixes")).to_be_visible()
    author.get_by_role("navigation", name="Course").get_by_role("link", name="Sign-off").click()
    expect(author.get_by_text("void since")).to_contain_text("revision 1 was sent back")
    expect(author.get_by_text("Signing is for the approver or reviewer.")).to_be_visible()

    # Walked once more, signed by reviewer and approver, the windsock stands straight.
    reviewer.goto(author.url)
    look_at_all(reviewer)
    expect(reviewer.get_by_role("img", name="windsock: 5 of 5 stripes lifted")).to_be_visible()
    reviewer.get_by_role("button", name="Clear revision 2").click()
    expect(reviewer.get_by_text("You have signed this revision.")).to_be_visible()
    # The approver has a phone in hand: what is asked of them waits, and leads to the page with the press.
    approver = sign_in("approver")
    approver.set_viewport_size({"width": 390, "height": 844})
    approver.goto("/waiting/")
    approver.get_by_role("button", name="Reviewer signed revision 2").click()
    expect(approver.get_by_role("heading", name="What changed since revision 1")).to_be_visible()
    assert approver.evaluate("document.documentElement.scrollWidth") == 390
    approver.get_by_text("With a word, or with a condition").click()
    approver.get_by_label("A word with it").fill("good to go")
    approver.get_by_role("button", name="Sign revision 2").click()
    expect(approver.get_by_role("heading", name="Cleared; waits for the operator.")).to_be_visible()
    reviewer.reload()
    expect(reviewer.get_by_role("img", name="cleared: the windsock stands straight")).to_be_visible()

    # The operator releases; from here it is locked for everybody.
    operator = sign_in("operator")
    expect(operator.get_by_text("Cleared; waits for the operator.")).to_be_visible()
    operator.goto(author.url)
    operator.get_by_role("button", name="Release revision 2 and lock it").click()
    expect(operator.get_by_role("heading", name="Released and locked")).to_be_visible()
    # The package is made while the page is open, and holds in a clean folder with the workspace's key.
    expect(operator.get_by_role("link", name="Save the package")).to_be_visible(timeout=60_000)
    with operator.expect_download() as download:
        operator.get_by_role("link", name="Save the package").click()
    folder = tmp_path / "elsewhere"
    folder.mkdir()
    (folder / "glazes.zip").write_bytes(download.value.path().read_bytes())
    (folder / "key.pem").write_bytes(operator.request.get(f"{live_server.url}/settings/key.pem").body())
    command = [sys.executable, "-m", "jetwind.cli", "verify", "glazes.zip", "--key", "key.pem"]
    said = subprocess.run(
        command, cwd=folder, env={"PATH": os.environ["PATH"], "PYTHONPATH": str(ROOT / "src")}, capture_output=True, text=True, check=False
    )
    assert (said.returncode, "The package holds." in said.stdout) == (0, True), said
    with operator.expect_download() as download:
        operator.get_by_role("link", name="Save the clearance record").click()
    record = json.loads(download.value.path().read_text())
    assert record["message"]["revision"] == 2
    assert [sign_off["by"] for sign_off in record["sign_offs"]] == ["Reviewer", "Approver"]
    assert [excused["reason"] for excused in record["excused"]] == ["xx the picture is mere decoration"]
    assert {part["part"] for part in record["parts"]} == {"file", "html", "text", "image"}
    author.reload()
    author.get_by_role("button", name="More").click()
    expect(author.get_by_label("Take in the next revision")).to_have_count(0)
    author.get_by_role("button", name="Start a copy").click()
    expect(author.get_by_role("heading", name="Copy of Glazes for")).to_be_visible()
