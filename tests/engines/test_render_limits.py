"""Renders under limits of time, memory and turns; what phones do with wide messages; pictures that are too much."""

from __future__ import annotations

import asyncio
import io
import json
import math
import struct
import threading
import time
import zlib
from collections.abc import Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from functools import partial
from typing import Any, TypeVar

import pytest
from PIL import Image

from jetwind.core.images.bounded import is_plain_drawing, pixel_size, smaller_copy
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import Rewritten, profiles, rewrite
from jetwind.engines.browser import Browser, Capture, CaptureFailed, CaptureRequest, FakeBrowser, chromium, crowding, losses_shown
from jetwind.engines.browser.capture import HEAVY_CHARACTERS, HEAVY_PIXELS, HEAVY_TAGS
from jetwind.engines.browser.chromium import SLOTS
from jetwind.engines.browser.pages import OneMessage
from jetwind.engines.browser.turns import Turns
from tests.factories import package

T = TypeVar("T")
PHONE, WEBMAIL_PHONE, PANE = (profiles()[name] for name in ("phone-upright", "phone-webmail", "desktop-pane"))


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """One for all."""
    made = Browser(patience_ms=2_000)
    yield made
    made.close()


def message(html: str, **files: bytes) -> Message:
    """HTML with its pictures."""
    return read_bytes(package(html, **files), "a.zip")


def captured(browser: Browser, html: str, profile_id: str, picture: str = "look", **files: bytes) -> Capture:
    """The message in a profile."""
    profile = profiles()[profile_id]
    return browser.capture(CaptureRequest.of(rewrite(message(html, **files), profile), profile, picture))  # type: ignore[arg-type]


class TestBudget:
    """One message has one budget for all its renders."""

    def test_what_cannot_be_laid_out_is_not_tried_eighteen_times_more(self, browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
        """After the first that does not end, with nothing else laid out, the rest is given up with the reason."""
        taken: list[int] = []
        original = Browser._take

        async def slow(self: Browser, page: object, request: CaptureRequest) -> Capture:
            taken.append(request.width)
            await asyncio.sleep(30)
            return await original(self, page, request)  # type: ignore[arg-type]

        monkeypatch.setattr(Browser, "_take", slow)
        answers: list[Capture | Exception] = []
        requests = [CaptureRequest("<p>x", {}, 300 + number, 600) for number in range(19)]
        browser.capture_all(requests, lambda number, answer: answers.append(answer) is None)
        assert len(answers) == 19
        assert all(isinstance(answer, CaptureFailed) for answer in answers)
        assert len(taken) <= chromium.SLOTS
        assert sum("was not tried: in another profile it did not lay out in time" in str(answer) for answer in answers) >= 16

    def test_the_time_of_all(self, browser: Browser) -> None:
        """What is left when the time is over is given up; what has come stays."""
        answers: list[Capture | Exception] = []
        browser.capture_all([CaptureRequest("<p>x", {}, 300, 600)] * 6, lambda number, answer: answers.append(answer) is None, seconds=0.0)
        assert {str(answer) for answer in answers} == {"The page was not tried: the message takes too long to render."}

    def test_another_message_gets_its_pictures_meanwhile(self, browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
        """While three pages of one message hang, another's come in the fourth place, in its turn."""
        original = Browser._take

        async def slow(self: Browser, page: object, request: CaptureRequest) -> Capture:
            if request.width == 777:
                await asyncio.sleep(60)
            return await original(self, page, request)  # type: ignore[arg-type]

        monkeypatch.setattr(Browser, "_take", slow)
        hung = threading.Thread(
            target=browser.capture_all, args=([CaptureRequest("<p>x", {}, 777, 600)] * 9, lambda number, answer: True), daemon=True
        )
        hung.start()
        time.sleep(0.3)
        answers: list[Capture | Exception] = []
        browser.capture_all(
            [CaptureRequest("<p>y", {}, 300, 600, picture="none")] * 3, lambda number, answer: answers.append(answer) is None
        )
        assert [type(answer) for answer in answers] == [Capture] * 3
        assert hung.is_alive()
        hung.join(30)

    def test_a_page_that_takes_too_much_memory(self, browser: Browser, monkeypatch: pytest.MonkeyPatch) -> None:
        """The largest page is ended from outside and told why; the next message is rendered."""
        monkeypatch.setattr(chromium, "MOST_MEMORY", 260_000_000)
        patient = Browser(patience_ms=20_000)
        try:
            heavy = "".join(
                f"<div style='filter:blur(40px);width:3000px;height:3000px;will-change:transform;background:rgb({n},0,0)'>x</div>"
                for n in range(60)
            )
            cells = "".join(f"<p style='text-shadow:0 0 9px red'>{n} {'word ' * 40}</p>" for n in range(4_000))
            with pytest.raises(CaptureFailed, match=r"MB of memory|lay out in time"):
                for _ in range(4):
                    patient.capture(CaptureRequest(heavy + cells, {}, 3000, 2000, 2, picture="compare"))
            monkeypatch.setattr(chromium, "MOST_MEMORY", 1_500_000_000)
            assert patient.capture(CaptureRequest("<p>x", {}, 300, 600)).image
        finally:
            patient.close()


def in_a_thread(work: Coroutine[Any, Any, T]) -> T:
    """What it answers, from a loop of its own: Playwright keeps one running in the thread of the tests."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(asyncio.run, work).result(10)


class TestTurns:
    """Places are handed out in turn."""

    def test_one_message_never_takes_them_all(self) -> None:
        """Three of four for one, the fourth for another; a place that is given back goes to who has waited longest."""

        async def play() -> list[object]:
            turns = Turns(4, 3)
            first = [await turns.take("a") for _ in range(3)]
            waiting = asyncio.ensure_future(turns.take("a"))
            await asyncio.sleep(0)
            other = await turns.take("b")
            late = asyncio.ensure_future(turns.take("b"))
            await asyncio.sleep(0)
            turns.give_back("a", first[0])
            await asyncio.sleep(0)
            seen = [first, other, waiting.done(), late.done()]
            turns.give_back("b", other)
            await asyncio.sleep(0)
            return [*seen, late.done(), turns.in_use]

        assert in_a_thread(play()) == [[0, 1, 2], 3, True, False, True, 4]

    def test_who_goes_away_takes_no_place_along(self) -> None:
        """A cancelled wait leaves everything as it was."""

        async def play() -> int:
            turns = Turns(1, 1)
            await turns.take("a")
            waiting = asyncio.ensure_future(turns.take("b"))
            await asyncio.sleep(0)
            waiting.cancel()
            await asyncio.sleep(0)
            turns.give_back("a", 0)
            return await turns.take("c")

        assert in_a_thread(play()) == 0


class TestHeavy:
    """Pages that take hundreds of megabytes."""

    def test_one_at_a_time(self) -> None:
        """Of all messages together; others pass, and a heavy page takes those away that nobody uses, and is taken away after its picture."""
        browser = Browser()
        try:
            light = CaptureRequest("<p>kiln</p>", {}, 300, 200)
            heavy = CaptureRequest("<p>kiln</p>", {}, 300, 200, pixels=HEAVY_PIXELS + 1)
            assert heavy.is_heavy and not light.is_heavy
            assert CaptureRequest("x" * (HEAVY_CHARACTERS + 1), {}, 300, 200).is_heavy
            assert CaptureRequest("<p>" * (HEAVY_TAGS + 1), {}, 300, 200).is_heavy
            browser.capture(light)
            assert len(browser._pages) == 1
            at_once: list[int] = []
            take = browser._take

            async def watched(page: Any, request: CaptureRequest) -> Capture:
                if request.is_heavy:
                    at_once.append(len(browser._at_work))
                    assert set(browser._pages) == browser._at_work
                return await take(page, request)

            browser._take = watched  # type: ignore[method-assign]
            answers: list[Capture | Exception] = []
            browser.capture_all([heavy, heavy, heavy], lambda number, capture: answers.append(capture) is None)
            assert [type(one) for one in answers] == [Capture] * 3
            assert at_once == [1, 1, 1]
            assert browser._pages == {}
        finally:
            browser.close()

    def test_none_is_kept_beside_one(self) -> None:
        """While a heavy page is laid out, a small one is taken away after its picture; so is one of which a large picture was taken."""
        browser = Browser()
        try:
            light = CaptureRequest("<p>kiln</p>", {}, 300, 200)
            tall = CaptureRequest('<div style="height: 11000px">kiln</div>', {}, 1200, 200)
            assert not tall.is_heavy
            browser.capture(tall)
            assert browser._pages == {}
            kept: list[int] = []
            take = browser._take

            async def beside(page: Any, request: CaptureRequest) -> Capture:
                if request.is_heavy:
                    await browser._capture(light, OneMessage(math.inf))
                    kept.append(len(browser._pages))
                return await take(page, request)

            browser._take = beside  # type: ignore[method-assign]
            browser.capture(CaptureRequest("<p>kiln</p>", {}, 300, 200, pixels=HEAVY_PIXELS + 1))
            assert kept == [1]
        finally:
            browser.close()

    def test_few_are_kept(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Of the pages that nobody uses, those that were used last."""
        monkeypatch.setattr(chromium, "MOST_KEPT", 2)
        browser = Browser()
        try:
            for ratio in (1, 2, 1, 3):
                browser.capture(CaptureRequest("<p>kiln</p>", {}, 300, 200, ratio))
            assert [ratio for ratio, _ in browser._pages] == [1, 3]
        finally:
            browser.close()

    def test_a_crowded_browser_has_one_page_for_a_message(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """Its pages take turns, none is kept, and another message has a page beside it; a browser with room has several at once."""
        browser = Browser()
        at_work: list[int] = []
        take = browser._take

        async def watched(page: Any, request: CaptureRequest) -> Capture:
            at_work.append(len(browser._at_work))
            return await take(page, request)

        browser._take = watched  # type: ignore[method-assign]
        requests = [CaptureRequest(f"<p>kiln {number}</p>", {}, 300, 200) for number in range(6)]
        try:
            browser.capture_all(requests, lambda number, capture: isinstance(capture, Capture))
            assert max(at_work) == SLOTS
            monkeypatch.setattr(crowding, "CROWDED", 1)
            at_work.clear()
            browser._crowding.note(2)
            browser.capture_all(requests, lambda number, capture: isinstance(capture, Capture))
            assert at_work == [1] * 6
            assert browser._pages == {}
            at_work.clear()
            both = [threading.Thread(target=browser.capture_all, args=(requests, lambda number, capture: True)) for _ in range(2)]
            for thread in both:
                thread.start()
            for thread in both:
                thread.join()
            assert max(at_work) == 2
        finally:
            browser.close()

    def test_a_worn_browser_is_followed_by_a_fresh_one(self, monkeypatch: pytest.MonkeyPatch) -> None:
        """After so many pictures, or fewer where it is crowded, though other pages wait for their turn; every picture comes."""
        monkeypatch.setattr(crowding, "PICTURES_PER_BROWSER", 4)
        monkeypatch.setattr(crowding, "PICTURES_WHEN_CROWDED", 2)
        browser = Browser()
        started: list[int] = []
        start = browser._start

        async def counted() -> None:
            started.append(browser._taken)
            await start()

        browser._start = counted  # type: ignore[method-assign]
        light = CaptureRequest("<p>kiln</p>", {}, 300, 200)
        try:
            for _ in range(5):
                browser.capture(light)
            assert started == [0, 4]
            monkeypatch.setattr(crowding, "CROWDED", 1)
            browser._crowding.note(2)
            came: list[bool] = []
            browser.capture_all([light] * 6, lambda number, capture: came.append(isinstance(capture, Capture)) or True)
            assert came == [True] * 6 and len(started) >= 3
        finally:
            browser.close()

    def test_no_losses_are_tried(self) -> None:
        """Hundreds of such pages would be held and laid out: nobody knows which losses show, and no browser is asked."""
        page = Rewritten("x" * (HEAVY_CHARACTERS + 1), {}, ())
        fake = FakeBrowser()
        chosen = list(profiles().values())[:2]
        assert losses_shown(lambda profile, only=None, spared="": page, {one.id: page for one in chosen}, chosen, fake) is None
        assert fake.seen == []


WIDE = "<!doctype html><body style='margin:0'><table width=640 style='font:16px Arial'><tr><td>left</td><td align=right>right</td></tr></table>"


class TestFit:
    """Mail programs of phones shrink a wide message, a browser scrolls."""

    def test_shrunk(self, browser: Browser) -> None:
        """Laid out at its own width, all of it on a picture as wide as the screen."""
        shot = captured(browser, WIDE, "phone-upright", "compare")
        assert (shot.measured.width, shot.measured.content_width, shot.width) == (640, 640, 390)
        assert shot.measured.scale == pytest.approx(390 / 640)
        picture = Image.open(io.BytesIO(shot.image))
        assert abs(picture.width - 390 * PHONE.pixel_ratio) <= 2
        right = next(block for block in shot.measured.of("text") if block.x > 500)
        assert right.right <= 640

    def test_scrolled(self, browser: Browser) -> None:
        """As wide as the screen, the rest beyond it."""
        shot = captured(browser, WIDE, "phone-webmail", "none")
        assert (shot.measured.width, shot.measured.content_width, shot.measured.scale) == (390, 640, 1.0)

    def test_a_message_that_fits_is_not_shrunk(self, browser: Browser) -> None:
        """Nothing changes for those that stack."""
        shot = captured(browser, "<!doctype html><p>x", "phone-upright", "none")
        assert (shot.measured.width, shot.measured.scale) == (390, 1.0)


RIGHT = "<!doctype html><html dir=rtl><body style='margin:0'><table width=600><tr><td width=50 bgcolor='#ff0000'>a</td><td bgcolor='#00ff00'>b</td></tr></table>"


class TestFromTheRight:
    """A message that is read from the right is cut on neither side."""

    @pytest.mark.parametrize("profile_id", ["desktop-pane", "webmail-wide", "word-processor", "phone-upright"])
    def test_all_of_it_is_on_the_picture(self, browser: Browser, profile_id: str) -> None:
        """Its first cell stands at the right edge of the picture, its last one left of it."""
        shot = captured(browser, RIGHT, profile_id, "compare")
        picture = Image.open(io.BytesIO(shot.image)).convert("RGB")
        row = [picture.getpixel((x, 10)) for x in range(picture.width)]
        reds, greens = ([x for x, pixel in enumerate(row) if pixel == colour] for colour in ((255, 0, 0), (0, 255, 0)))
        assert reds and greens
        assert max(greens) < min(reds)
        assert max(reds) > picture.width * 0.9
        first = next(block for block in shot.measured.of("text"))
        assert 0 <= first.x <= shot.measured.width

    def test_what_is_not_shrunk_is_shown_from_its_right(self, browser: Browser) -> None:
        """A phone's browser that scrolls shows where reading begins; boxes and picture agree."""
        shot = captured(browser, RIGHT, "phone-webmail", "compare")
        picture = Image.open(io.BytesIO(shot.image)).convert("RGB")
        ratio = picture.width / shot.measured.width
        first = next(block for block in shot.measured.of("text"))
        assert picture.getpixel((round((first.x + first.width / 2) * ratio), round(10 * ratio))) != (0, 255, 0)
        assert picture.getpixel((picture.width - round(8 * ratio), round(10 * ratio))) == (255, 0, 0)
        assert picture.getpixel((round(5 * ratio), round(10 * ratio))) == (0, 255, 0)

    @pytest.mark.parametrize("html", [RIGHT, RIGHT.replace(" dir=rtl", "")])
    def test_a_shrunk_message_fills_its_window(self, browser: Browser, html: str) -> None:
        """However small the message, the picture is as high as the screen."""
        shot = captured(browser, html, "phone-upright", "look")
        assert shot.measured.scale < 1
        assert shot.measured.height * shot.measured.scale == pytest.approx(profiles()["phone-upright"].viewport[1], abs=2)


def png(width: int, height: int) -> bytes:
    """A picture of one colour, of any size, in few octets."""

    def chunk(name: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))

    line = zlib.compress(b"\0" * (width // 8 + 1))
    packer = zlib.compressobj(9)
    body = b"".join(packer.compress(b"\0" + b"\0" * ((width + 7) // 8)) for _ in range(height)) + packer.flush()
    assert line
    return (
        b"\x89PNG\r\n\x1a\n"
        + chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 1, 0, 0, 0, 0))
        + chunk(b"IDAT", body)
        + chunk(b"IEND", b"")
    )


class TestPictures:
    """Pictures with too many pixels, drawings with too much in them."""

    def test_a_bomb_is_shown_as_a_box_of_its_size(self, browser: Browser) -> None:
        """16,000 × 16,000 px: the browser never gets it; its width stays its own."""
        page = rewrite(message("<img src='a.png' alt='x'>", **{"a.png": png(16_000, 16_000)}), PANE)
        (part,) = page.parts.values()
        assert pixel_size(part.data) == (200, 200)
        assert 'width="16000"' in page.html
        assert [change.title for change in page.changes if change.feature == "pixels"] == [
            "a picture of 16,000 × 16,000 px shown as a smaller copy"
        ]

    def test_a_large_photograph_is_shown_smaller(self) -> None:
        """Of 20 megapixels a copy of few, with the same proportions; the declared width is left alone."""
        out = io.BytesIO()
        Image.new("RGB", (5_000, 4_000), "#b93c0a").save(out, "JPEG")
        copy = smaller_copy(out.getvalue())
        assert copy is not None
        width, height = pixel_size(copy[1]) or (0, 0)
        assert width * height <= 4_100_000
        assert width / height == pytest.approx(1.25, 0.01)
        page = rewrite(message("<img src='a.jpg' width=600 alt='x'>", **{"a.jpg": out.getvalue()}), PANE)
        assert "width=600" in page.html and 'width="5000"' not in page.html

    def test_pictures_of_usual_size_are_left_alone(self) -> None:
        """They go to the browser as they are."""
        data = png(1_200, 800)
        (part,) = rewrite(message("<img src='a.png' alt='x'>", **{"a.png": data}), PANE).parts.values()
        assert part.data == data

    @pytest.mark.parametrize(
        ("drawing", "is_plain"),
        [
            ("<svg xmlns='http://www.w3.org/2000/svg' width='9' height='9'><circle r='4' fill='url(#a)'/></svg>", True),
            ("<svg><g id='a'><use href='#b'/><use href='#b'/></g></svg>", False),
            ("<!DOCTYPE svg [<!ENTITY a 'aaaa'>]><svg>&a;</svg>", False),
            ("<svg><filter id='f'><feGaussianBlur stdDeviation='999'/></filter></svg>", False),
            ("<svg><image href='http://kiln.org/a.png'/></svg>", False),
            ("<svg>" + "<path d='M0 0'/>" * 2_000 + "</svg>", False),
        ],
    )
    def test_drawings(self, drawing: str, is_plain: bool) -> None:
        """Plain ones are drawn, busy ones are told as not shown."""
        assert is_plain_drawing(drawing.encode()) is is_plain
        page = rewrite(message("<img src='a.svg' alt='x'>", **{"a.svg": drawing.encode()}), PANE)
        assert bool(page.parts) is is_plain
        assert bool([change for change in page.changes if change.feature == "drawing"]) is not is_plain

    def test_heights_that_are_not_known(self, browser: Browser) -> None:
        """A picture that lies elsewhere and gives no height is counted; one that gives it, and a blocked one, are not."""
        html = "<img src='https://k.org/a.png' width=300><img src='https://k.org/b.png' width=300 height=200><p>x</p>"
        assert captured(browser, html, "desktop-pane", "none").measured.facts["unsized"] == 1
        assert captured(browser, html, "pane-blocked", "none").measured.facts["unsized"] == 0


class TestKeptPages:
    """A page is kept from message to message, and nothing of one stays for the next."""

    def test_the_colour_scheme_of_the_message_before(self, browser: Browser) -> None:
        """A message without one is as light at night after a dark one as before it."""
        plain = "<!doctype html><body data-jetwind-element=0><a href=x data-jetwind-element=1>link</a>"
        dark = plain.replace("<body", "<meta name=color-scheme content='light dark'><body")
        requests = [CaptureRequest(html, {}, 600, 600, dark=True, picture="none") for html in (plain, dark, plain)]
        first, between, again = (next(iter(browser.capture(request).measured.of("text"))) for request in requests)
        assert (first.colour, first.ground) == (again.colour, again.ground)
        assert between.colour != first.colour


class TestKept:
    """What was measured is kept and read back."""

    def test_scale_and_scripts(self, browser: Browser) -> None:
        """As JSON, and again."""
        measured = captured(browser, WIDE, "phone-upright", "none").measured
        again = type(measured).from_json(json.loads(json.dumps(measured.as_json())))
        assert (again.scale, again.without_font, again.width) == (measured.scale, measured.without_font, measured.width)


def test_direct_rewriter_is_one(browser: Browser) -> None:
    """The plain function serves as a rewriter."""
    assert partial(rewrite, message("<p>x</p>"))(PANE).html
