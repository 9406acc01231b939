"""Pictures of real screens: kept beside a copy, held against its render, and counted for the client that a person names."""

from __future__ import annotations

import io
from typing import Any

import pytest
from django.core.files.uploadedfile import SimpleUploadedFile
from PIL import Image

from jetwind.apps.approvals.services import release, sign
from jetwind.apps.blobs import store
from jetwind.apps.proofs import screenshots, services
from jetwind.apps.proofs.models import Screenshot, TestCopy
from jetwind.apps.proofs.tasks import hold_screenshot
from jetwind.apps.ui.refusal import NotAllowed, Refused
from jetwind.engines.browser import CaptureFailed, FakeBrowser
from tests.apps.helpers import Post, handed_over, page_of, taken_in, walked
from tests.apps.test_previews import render
from tests.factories import picture


@pytest.fixture
def copy(house: Any, post: Post) -> TestCopy:
    """A copy that was handed over."""
    send = services.send_test(house.reviewer, taken_in(house), house.test_list, None)
    handed_over(send)
    found = send.copies.select_related("send__mailing__workspace", "send__revision").first()
    assert found is not None
    return found


def screen(width: int = 780, height: int = 900, colour: str = "white") -> bytes:
    """A picture of a screen with a bar that no render has."""
    shown = Image.new("RGB", (width, height), colour)
    shown.paste("#7A1FA2", (0, height // 2, width // 2, height // 2 + height // 5))
    out = io.BytesIO()
    shown.save(out, "PNG")
    return out.getvalue()


def bring(house: Any, copy: TestCopy, content: bytes, **given: Any) -> Any:
    """What a press on the station answers."""
    file = SimpleUploadedFile("screen.png", content, "image/png")
    address = f"/mailings/{copy.send.mailing_id}/r1/test-sends/screen/"
    return house.client(house.reviewer).post(address, {"screen": file, "copy": copy.pk, **given}, follow=True)


def test_kept_held_and_counted(house: Any, copy: TestCopy, fake_browser: FakeBrowser) -> None:
    """From the station to the sheet of the profile that a person names, with what differs outlined."""
    answer = page_of(bring(house, copy, screen(), profile="phone-upright"))
    assert "It is being held against the render." in answer
    one = Screenshot.objects.get()
    hold_screenshot.func(screenshot_id=one.pk)
    one.refresh_from_db()
    assert (one.profile, one.is_named, one.problem, one.top) == ("phone-upright", True, "", 0)
    assert one.likeness is not None and 0.3 < one.likeness < 0.95
    [(x, y, wide, tall)] = one.areas
    assert (x, round(wide / 390, 1)) == (0, 0.5) and 200 <= y <= 240 and 80 <= tall <= 120
    client = house.client(house.author)
    shown = page_of(client.get(f"/screenshots/{one.pk}/"))
    assert "1 area differs" in shown and "Phone, upright, as the team says" in shown
    for which in ("screen", "copy"):
        assert Image.open(io.BytesIO(client.get(f"/screenshots/{one.pk}/{which}.jpg").content)).width >= 390
        assert house.client(house.outsider).get(f"/screenshots/{one.pk}/{which}.jpg").status_code == 404
    assert client.get(f"/screenshots/{one.pk}/other.jpg").status_code == 404
    render(copy.send.revision)
    sheet = page_of(client.get(f"/mailings/{copy.send.mailing_id}/r1/appearance/?profile=phone-upright"))
    assert f"1, with a likeness to its renders of {one.likeness:.2f} in the mean" in sheet
    other = page_of(client.get(f"/mailings/{copy.send.mailing_id}/r1/appearance/?profile=desktop-pane"))
    assert "Pictures of real screens" not in other
    assert f"likeness {one.likeness:.2f}" in page_of(client.get(f"/mailings/{copy.send.mailing_id}/r1/test-sends/"))


def test_an_unknown_client_counts_for_none_until_named(house: Any, copy: TestCopy, fake_browser: FakeBrowser) -> None:
    """The nearest by its width is shown; a press names it, and it is held against that profile's render."""
    one = screenshots.keep(house.reviewer, copy, screen(), "")
    assert (one.profile, one.is_named) == ("phone-upright", False)
    hold_screenshot.func(screenshot_id=one.pk)
    assert screenshots.real_pictures(house.workspace, "phone-upright") is None
    house.client(house.reviewer).post(f"/screenshots/{one.pk}/", {"profile": "tablet-upright"})
    one.refresh_from_db()
    assert (one.profile, one.is_named, one.likeness) == ("tablet-upright", True, None)
    hold_screenshot.func(screenshot_id=one.pk)
    told = screenshots.real_pictures(house.workspace, "tablet-upright")
    assert told is not None and told.count == 1
    with pytest.raises(Refused, match="Choose the client"):
        screenshots.name_profile(house.reviewer, one, "none")


def test_nothing_but_pixels_is_kept(house: Any, copy: TestCopy) -> None:
    """No name, no place, nothing behind the picture."""
    out = io.BytesIO()
    exif = Image.Exif()
    exif[0x010F] = "camera of Una"
    Image.new("RGB", (390, 400), "white").save(out, "JPEG", exif=exif)
    one = screenshots.keep(house.reviewer, copy, out.getvalue() + b"behind", "")
    kept = store.fetch(one.blob_sha256)
    assert b"camera" not in kept and b"behind" not in kept


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (b"no picture", "no picture that can be opened"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'/>", "no picture that can be opened"),
        (picture()[:60], "no picture that can be opened"),
        (b"\x89PNG" + b"0" * 12_000_001, "there is room for 12 MB"),
    ],
    ids=["words", "drawing", "cut", "large"],
)
def test_what_is_no_picture(house: Any, copy: TestCopy, content: bytes, why: str) -> None:
    """Refused with a sentence; nothing is kept."""
    assert why in bring(house, copy, content).content.decode()
    assert not Screenshot.objects.exists()


def test_bounds_and_roles(house: Any, copy: TestCopy, monkeypatch: pytest.MonkeyPatch) -> None:
    """As many as a copy takes; not for those who send no tests; a copy of another message or house is none."""
    with pytest.raises(NotAllowed):
        screenshots.keep(house.operator, copy, screen(), "")
    monkeypatch.setattr(screenshots, "MOST", 1)
    screenshots.keep(house.reviewer, copy, screen(), "")
    with pytest.raises(Refused, match="has 1 pictures"):
        screenshots.keep(house.reviewer, copy, screen(), "")
    other = taken_in(house, name="other.eml")
    address = f"/mailings/{other.mailing_id}/r1/test-sends/screen/"
    file = SimpleUploadedFile("screen.png", screen(), "image/png")
    assert house.client(house.reviewer).post(address, {"screen": file, "copy": copy.pk}).status_code == 404
    assert "Choose the picture" in house.client(house.reviewer).post(address, {"copy": copy.pk}, follow=True).content.decode()


def test_a_render_that_fails(house: Any, copy: TestCopy, monkeypatch: pytest.MonkeyPatch) -> None:
    """The page says why nothing could be held against it."""

    class Broken(FakeBrowser):
        def capture_all(self, requests: Any, done: Any, seconds: float = 0) -> None:
            """No page comes."""
            for number, _ in enumerate(requests):
                done(number, CaptureFailed("the page took too much memory"))

    monkeypatch.setattr("jetwind.apps.previews.services._browser", Broken())
    one = screenshots.keep(house.reviewer, copy, screen(), "phone-upright")
    hold_screenshot.func(screenshot_id=one.pk)
    assert "It cannot be rendered: the page took too much memory" in page_of(house.client(house.author).get(f"/screenshots/{one.pk}/"))


def test_a_released_message_takes_none(house: Any, post: Post) -> None:
    """As it takes nothing else."""
    revision = walked(house, taken_in(house))
    send = services.send_test(house.reviewer, revision, house.test_list, None)
    handed_over(send)
    sign(house.reviewer, revision)
    sign(house.approver, revision)
    release(house.operator, revision)
    copy = send.copies.select_related("send__mailing__workspace", "send__revision").first()
    assert copy is not None
    with pytest.raises(Refused, match="released and locked"):
        screenshots.keep(house.reviewer, copy, screen(), "")
