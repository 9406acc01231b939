"""The Links station in a real browser: a real worker opens links on the practice field, and the reviewer looks at what came."""

from __future__ import annotations

import csv
import re
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import expect

from jetwind.apps.jobs.models import Work
from jetwind.apps.links.models import LinkAnswer, SeenByHand, Wire
from jetwind.engines.practice import DOMAIN
from tests.apps.helpers import taken_in
from tests.apps.test_links import ANSWERS, EXPECTED, FINE, PICTURES, WWW, message
from tests.journeys.conftest import Process, wait_until


@pytest.fixture
def practice(house: Any, environment: dict[str, str], tmp_path: Path) -> Iterator[None]:
    """The practice field as a process, and a house that may go there."""
    folder = tmp_path / "practice"
    folder.mkdir()
    environment["JETWIND_PRACTICE"] = str(folder / "directory.json")
    field = Process([sys.executable, "-m", "jetwind.engines.practice", str(folder)], environment, tmp_path / "practice.log")
    wait_until((folder / "directory.json").exists, "the practice field", 30)
    house.workspace.practice_domains = [DOMAIN]
    house.workspace.save()
    Wire.objects.filter(workspace=house.workspace).update(links="always", pictures="always", inward_hosts=[DOMAIN])
    yield
    field.stop()


def is_over(kind: str) -> bool:
    """Whether all work of a kind is done."""
    return Work.objects.filter(kind=kind).exists() and not Work.objects.filter(state__in=["waiting", "running"]).exists()


def test_from_taking_in_to_every_finding(house: Any, practice: None, start_worker: Any, sign_in: Any, tmp_path: Path) -> None:
    """Every answer of the practice field is on the map by its word, the findings are told, and the files hold what the screen shows."""
    paths = [path for paths in EXPECTED.values() for path in sorted(paths)] + FINE
    more = (
        f'<p><img src="{PICTURES}/shelf.png" width="300" alt="Pots"><img src="{PICTURES}/missing.png" width="99" height="9" alt="Kiln"></p>'
    )
    revision = taken_in(house, message(f"{WWW}/glaze-sale", *(f"{ANSWERS}{path}" for path in paths), f"{ANSWERS}/slow", more=more), "a.eml")
    start_worker()
    wait_until(lambda: is_over("links") and is_over("renders"), "the end of all work", 180)
    page = sign_in("reviewer")
    page.goto(f"/mailings/{revision.mailing_id}/r1/links/")
    drawn = page.get_by_role("region", name="Link map")
    for name, word in {
        "404": "404",
        "loop": "goes in circles",
        "redirect/308/11": "led on and on",
        "hanging": "no answer in time",
        "broken-off": "broke off",
        "busy": "busy",
        "inward": "inside the network",
        "downgrade": "not secure on the way",
        "soft-not-found": "says not there",
        "fine": "200",
    }.items():
        expect(drawn.get_by_role("link", name=f"answers.{DOMAIN}/{name}, ", exact=False).first).to_have_accessible_name(
            f"Link {paths.index('/' + name) + 1}: answers.{DOMAIN}/{name}, {'200 · ' if word.startswith(('not s', 'says')) else ''}{word}"
        )
    findings = page.get_by_role("group", name="Findings of this station")
    expect(findings.get_by_text(re.compile(rf"{ANSWERS}/slow takes 3\.\d s\."))).to_be_visible()
    places = page.get_by_role("navigation", name="Places of this finding")
    findings.get_by_role("link", name="4 links lead to pages that answer with an error.").click()
    expect(places.get_by_text(f"{ANSWERS}/410 answers 410.")).to_be_visible()
    findings.get_by_role("link", name="3 links lead to pages that do not fit a phone.").click()
    expect(places.get_by_text(re.compile(rf"The page of {ANSWERS}/desktop-only is [\d,]+ px wide on a phone of 390 px\."))).to_be_visible()
    expect(places.get_by_text(re.compile(rf"of the copy on the page of {ANSWERS}/tiny-text is smaller than 12 px\."))).to_be_visible()
    expect(page.get_by_text("its server answers 404")).to_have_count(0)

    # By keyboard: a page on the map is a link, and what is selected is selected on the map, in the table and in the source.
    drawn.get_by_role("link", name=f"www.{DOMAIN}/glaze-sale", exact=False).focus()
    page.keyboard.press("Enter")
    one = page.get_by_role("region", name="The selected link")
    expect(one.get_by_text("Twelve glazes, a fifth off", exact=True)).to_be_visible()
    expect(one.get_by_label("Source of the link")).to_contain_text(f"{WWW}/glaze-sale")
    expect(page.locator(".link-map a[aria-current='true']")).to_have_count(1)
    expect(page.locator(".link-map .place.chosen")).to_have_count(1)
    expect(page.locator(".links-table tr.chosen")).to_have_count(1)
    picture = one.get_by_alt_text("The page on a phone, 390 px wide")
    expect(picture).to_be_visible()
    assert picture.evaluate("image => image.complete && image.naturalWidth") == 390

    with page.expect_download() as coming:
        page.get_by_text("Save", exact=True).click()
        page.get_by_role("link", name="Links with their answers as CSV").click()
    rows = list(csv.DictReader(coming.value.path().read_text("utf-8").splitlines()))
    assert next(row["answer"] for row in rows if row["address"] == f"{ANSWERS}/404") == "404"
    page.goto(f"/mailings/{revision.mailing_id}/r1/images/")
    expect(findings.get_by_text("its server answers 404")).to_be_visible()


def test_one_link_in_hand(house: Any, practice: None, start_worker: Any, sign_in: Any) -> None:
    """A finding leads to its link; opened again, looked at by hand; a second press does nothing twice; then all, cancelled."""
    revision = taken_in(house, message(f"{ANSWERS}/403", *(f"{ANSWERS}/hanging?{number}" for number in range(40))), "a.eml")
    worker = start_worker()
    wait_until(lambda: LinkAnswer.objects.filter(address=f"{ANSWERS}/403").exists(), "the first answer", 60)
    page = sign_in("reviewer")
    base = f"/mailings/{revision.mailing_id}/r1/links/"
    page.goto(base)
    expect(page.get_by_role("status").get_by_text("of 41 links")).to_be_visible()
    page.get_by_role("button", name="Cancel").click()
    expect(page.get_by_text("Opening links was cancelled after")).to_be_visible(timeout=40_000)
    Wire.objects.update(shut=[f"{ANSWERS}/hanging"])
    page.get_by_role("button", name="Open them again").click()
    wait_until(lambda: is_over("links"), "the end of opening", 60)
    page.goto(base)
    expect(page.get_by_text("41 addresses, 0 there, 1 that readers do not reach, 40 not opened.")).to_be_visible()

    page.get_by_role("group", name="Findings of this station").get_by_role("link", name="answers 403").click()
    one = page.get_by_role("region", name="The selected link")
    one.get_by_role("button", name="Open it again").click()
    wait_until(lambda: is_over("links") and LinkAnswer.objects.filter(address=f"{ANSWERS}/403").count() > 2, "another answer", 60)
    page.goto(f"{base}?link=1")
    one.get_by_role("button", name="I opened it by hand").dblclick()
    expect(one.get_by_text("Reviewer opened it by hand and found it in order")).to_be_visible()
    assert SeenByHand.objects.count() == 1
    wait_until(lambda: is_over("checks"), "the checks", 60)
    page.goto(base)
    expect(page.get_by_text("Nothing found here.")).to_be_visible()
    worker.stop()


def test_what_is_opened_is_set(house: Any, sign_in: Any) -> None:
    """On the settings; what is wrong is said beside what was typed."""
    page = sign_in("reviewer")
    page.goto("/settings/")
    page.get_by_role("link", name="What is opened").click()
    page.get_by_label("Links are opened").select_option("when somebody asks for it")
    page.get_by_label("Ports besides 80 and 443").fill("http")
    page.get_by_role("button", name="Keep what is opened").click()
    expect(page.get_by_text("“http” is no port")).to_be_visible()
    expect(page.get_by_label("Links are opened")).to_have_value("asked")
    page.get_by_label("Ports besides 80 and 443").fill("8443")
    page.get_by_role("button", name="Keep what is opened").click()
    expect(page.get_by_text("What is opened is kept.")).to_be_visible()
    wire = Wire.objects.get(workspace=house.workspace)
    assert (wire.links, wire.ports) == ("asked", ["8443"])
