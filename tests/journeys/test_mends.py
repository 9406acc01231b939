"""A reviewer has a message mended: found and proven by the worker, chosen with the keyboard, taken, and saved as a patch."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from playwright.sync_api import expect

from jetwind.apps.blobs import store
from jetwind.apps.mends.models import MendedRender
from tests.apps.helpers import taken_in
from tests.apps.test_mends import FAULTY
from tests.factories import mail
from tests.journeys.conftest import wait_until


def test_from_the_course_to_the_next_revision(house: Any, sign_in: Any, start_worker: Any) -> None:
    """The numbers beside the mends follow each tick; what is taken is the next revision, and its finding is gone."""
    revision = taken_in(house, mail(FAULTY))
    page = sign_in("reviewer")
    page.goto(f"/mailings/{revision.mailing_id}/r1/links/")
    page.get_by_role("link", name="Mend", exact=True).click()
    start_worker()
    page.get_by_role("button", name="Look for mends").click()
    expect(page.get_by_role("heading", name="2 mends chosen")).to_be_visible(timeout=90_000)
    wait_until(lambda: MendedRender.objects.filter(side="all").exists(), "the renders of all mends", 120)
    expect(page.get_by_role("heading", name="Before and after")).to_be_visible(timeout=90_000)
    sums = page.get_by_role("complementary", name="What comes of the chosen mends")
    address = revision.check_runs.latest("created_at").findings.get(check_id="links.malformed")
    page.locator(f"#tick-{address.fingerprint}").press(" ")
    expect(sums.get_by_role("heading", name="1 mend chosen")).to_be_visible(timeout=30_000)
    page.get_by_label("no title", exact=False).press(" ")
    expect(sums.get_by_role("heading", name="2 mends chosen")).to_be_visible(timeout=30_000)
    with page.expect_download() as download:
        page.get_by_role("button", name="Save a patch").click()
    assert b"presentation" in Path(download.value.path()).read_bytes()
    page.get_by_role("button", name="Take them as revision 2").click()
    expect(page.get_by_text("Revision 2 has 2 mends.")).to_be_visible()
    made = revision.mailing.revisions.get(number=2)
    octets = store.fetch(made.source_sha256)
    assert b"<title>" in octets and b"a%20b" not in octets
    wait_until(lambda: made.check_runs.exists(), "the checks of the new revision")
    assert not made.check_runs.latest("created_at").findings.filter(check_id__in=["access.table-role", "access.title-missing"]).exists()
