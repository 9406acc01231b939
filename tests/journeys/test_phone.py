"""On a phone of 390 px the navigation and the course are folded, nothing runs past the edge, and the message is near the top."""

from __future__ import annotations

from typing import Any

import pytest
from playwright.sync_api import Page, expect

from jetwind.apps.intake.models import Revision
from jetwind.apps.mends.services import prepare_now
from jetwind.core.reports import STATIONS
from tests.apps.helpers import taken_in
from tests.apps.test_previews import render
from tests.factories import GOOD_HTML, mail
from tests.journeys.test_accessibility import of_a_set

#: Controls whose edges lie outside of the window; what a closed menu or dialog holds has no place yet.
OUTSIDE = """() => [...document.querySelectorAll("button, select, input, textarea, a.btn")].filter((one) => {
    const at = one.getBoundingClientRect();
    return one.checkVisibility({contentVisibilityAuto: true}) && at.width && (at.right > innerWidth + 1 || at.left < -1);
}).map((one) => one.outerHTML.slice(0, 140))"""


@pytest.fixture
def page(house: Any, sign_in: Any, fake_browser: Any) -> tuple[Page, str]:
    """A reviewer's phone, and the path of a message that was rendered for readers with long names."""
    revision = taken_in(house, mail(GOOD_HTML + "<p>Lorem ipsum</p><a href='http://k.org'>x</a>", Subject="GLAZES FOR ALL!!"))
    render(revision)
    prepare_now(revision)
    for reader in house.workspace.readers.all():
        reader.name = f"{reader.name} Featherstone-Wintergreen of the long quay behind the second works"[:80]
        reader.save()
    window = sign_in("reviewer")
    window.set_viewport_size({"width": 390, "height": 844})
    return window, f"/mailings/{revision.mailing_id}/r1/"


def test_nothing_runs_past_the_edge(house: Any, page: tuple[Page, str]) -> None:
    """Every station and every main page; the station's own part begins in the upper third or little below it."""
    window, base = page
    of_stations = [f"{base}{station.slug}/" for station in STATIONS]
    others = [
        f"{base}appearance/?profile=phone-upright",
        f"{base}appearance/compare/",
        f"{base}comments/",
        f"{base}send-back/",
        f"{base}mends/",
        f"{base}approve/",
    ]
    main = [
        "/",
        "/readers/",
        "/mailroom/",
        "/people/",
        "/settings/",
        "/settings/mail-servers/",
        "/waiting/",
        "/log/",
        "/calendar/",
        "/settings/sign-off/",
        "/settings/sign-off/every/",
        *of_a_set(house, Revision.objects.get()),
    ]
    wrong = []
    for address in of_stations + others + main:
        window.goto(address)
        wrong += [(address, one) for one in window.evaluate(OUTSIDE)]
        wide = window.evaluate("document.documentElement.scrollWidth")
        top = window.evaluate("document.querySelector('main').getBoundingClientRect().top")
        if wide > 390 or top > 844 * 0.36:
            wrong.append((address, f"{wide} px wide, its own part begins at {top} px"))
    assert wrong == []


def test_folded_and_unfolded(page: tuple[Page, str]) -> None:
    """A press unfolds the navigation, another one the course; on a wide window both stand open and have no button."""
    window, base = page
    window.goto(f"{base}wording/")
    main, course = window.get_by_role("navigation", name="Main"), window.get_by_role("navigation", name="Course")
    expect(main).to_be_hidden()
    expect(course.get_by_role("link", name="Footer")).to_be_hidden()
    menu = window.get_by_role("button", name="Menu")
    expect(menu).to_have_attribute("aria-expanded", "false")
    menu.press("Enter")
    expect(menu).to_have_attribute("aria-expanded", "true")
    expect(main.get_by_role("link", name="Readers")).to_be_visible()
    window.get_by_role("button", name="Course: Wording").click()
    course.get_by_role("link", name="Footer").click()
    window.wait_for_url(f"**{base}footer/")
    window.set_viewport_size({"width": 1280, "height": 800})
    expect(main).to_be_visible()
    expect(menu).to_be_hidden()
