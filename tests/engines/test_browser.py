"""Real Chromium: pictures, boxes, and nothing that leaves."""

import asyncio
import contextlib
import io
import os
import shutil
import signal
import socket
import tempfile
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from PIL import Image

from jetwind.core.profiles import MARK_ATTRIBUTE, PARTS_HOST
from jetwind.engines.browser import Browser, Capture, CaptureFailed, CaptureRequest, FakeBrowser
from jetwind.engines.browser.chromium import SLOTS
from jetwind.engines.browser.devtools import DevToolsError
from tests.factories import picture


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """One long-lived browser for all tests here, as in the worker."""
    made = Browser()
    yield made
    made.close()


def request(html: str, **more: object) -> CaptureRequest:
    """A request with ordinary sizes."""
    return CaptureRequest(**{"html": html, "parts": {}, "width": 400, "first_screen": 300, "pixel_ratio": 1, **more})  # type: ignore[arg-type]


class Listener:
    """A server on loopback that counts who knocks: nothing from inside the browser may reach it."""

    def __init__(self) -> None:
        self._socket = socket.create_server(("127.0.0.1", 0))
        self.port = self._socket.getsockname()[1]
        self.knocks = 0
        threading.Thread(target=self._listen, daemon=True).start()

    def _listen(self) -> None:
        while True:
            try:
                connection, _ = self._socket.accept()
            except OSError:
                return
            self.knocks += 1
            connection.close()

    def close(self) -> None:
        """Stop listening."""
        self._socket.close()


class TestPictures:
    """What comes back."""

    def test_sizes_and_boxes(self, browser: Browser) -> None:
        """The picture is the content's height, larger by the pixel ratio; boxes are in CSS px."""
        html = f'<body style="margin:0"><a {MARK_ATTRIBUTE}="7" href="x" style="display:block;height:50px">x</a><div style="height:600px"></div>'
        taken = browser.capture(request(html, pixel_ratio=2))
        image = Image.open(io.BytesIO(taken.image))
        assert (taken.width, taken.height, taken.measured.cut) == (400, 650, False)
        assert image.size == (800, 1300)
        assert (image.format, taken.content_type) == ("JPEG", "image/jpeg")
        (box,) = taken.measured.of("link")
        assert (box.element, box.kind, box.x, box.y, box.width, box.height) == (7, "link", 0, 0, 400, 50)

    def test_copies_that_the_parser_makes(self, browser: Browser) -> None:
        """An open <b> goes on in the next paragraph: its words there are the paragraph's. (HTML, reconstruct the active formatting elements)"""
        html = f"<p {MARK_ATTRIBUTE}=1><b {MARK_ATTRIBUTE}=2>one<p {MARK_ATTRIBUTE}=3>two <a {MARK_ATTRIBUTE}=4 href=x>three"
        blocks = browser.capture(request(html)).measured.blocks
        assert [(block.element, block.kind) for block in blocks] == [(2, "text"), (3, "text"), (4, "link"), (4, "text")]

    def test_a_link_over_two_lines(self, browser: Browser) -> None:
        """Each line is a box; a picture and the line it stands in are one."""
        words = f"<p style='width:200px;font:20px/30px Arial'><a {MARK_ATTRIBUTE}=1 href=x>words that are broken over several lines</a>"
        (block,) = browser.capture(request(words)).measured.of("link")
        assert len(block.lines) >= 2
        assert all(line[3] < block.height for line in block.lines)
        alone = f"<a {MARK_ATTRIBUTE}=1 href=x>see <img src=x width=40 height=15 alt=''></a>"
        (block,) = browser.capture(request(alone)).measured.of("link")
        assert block.lines == ()

    def test_lossless(self, browser: Browser) -> None:
        """PNG where pixels are compared: the very colour."""
        taken = browser.capture(request('<body style="background:#1F5F8B">', picture="compare"))
        image = Image.open(io.BytesIO(taken.image)).convert("RGB")
        assert taken.content_type == "image/png"
        assert image.getpixel((200, 150)) == (0x1F, 0x5F, 0x8B)

    def test_pictures_come_from_the_parts(self, browser: Browser) -> None:
        """A part is drawn; a picture that is not there is counted as broken."""
        html = f'<body style="margin:0"><img src="http://{PARTS_HOST}/one"><img src="http://{PARTS_HOST}/none">'
        taken = browser.capture(request(html, parts={"one": ("image/png", picture(100, 50, "#A61B29"))}, picture="compare"))
        assert Image.open(io.BytesIO(taken.image)).convert("RGB").getpixel((50, 25)) == (0xA6, 0x1B, 0x29)
        assert taken.measured.facts["broken"] == 1

    def test_night_and_light_on_the_same_page(self, browser: Browser) -> None:
        """The scheme is set anew for every picture of a kept page."""
        html = "<style>body{background:#fff}@media(prefers-color-scheme:dark){body{background:#000}}</style>"
        shades = [
            Image.open(io.BytesIO(browser.capture(request(html, dark=dark, picture="compare")).image)).convert("L").getpixel((5, 5))
            for dark in (False, True, False)
        ]
        assert shades == [255, 0, 255]

    @pytest.mark.parametrize(
        "before",
        [
            "<body link='#ff0000' vlink=red>",
            "<body lInK\n=\n#f00>",
            "<meta http-equiv='Content-Security-Policy' content=\"img-src 'none'; style-src 'none'\">",
            "<meta name='color-scheme' content='dark'>",
        ],
    )
    def test_nothing_stays_behind(self, browser: Browser, before: str) -> None:
        """What a message says of links, pictures or colours to the whole document does not hold for the next one in the same page."""
        html = f"<body><a {MARK_ATTRIBUTE}=1 href=x>see</a><img src='http://{PARTS_HOST}/one' style='display:block'>"
        parts = {"one": ("image/png", picture(100, 50, "#A61B29"))}
        for _ in range(SLOTS + 1):
            browser.capture(request(before, parts=parts, picture="compare"))
            taken = browser.capture(request(html, parts=parts, picture="compare"))
            (link,) = taken.measured.of("link")
            assert (link.colour, link.ground) == ((0, 0, 238, 1), (255, 255, 255, 1))
            assert taken.measured.facts["broken"] == 0

    def test_pictures_from_servers_keep_their_addresses(self, browser: Browser) -> None:
        """Over http and https, also by a selector for the address; no other message gets them from what the page keeps."""
        addresses = ("http://pictures.kiln.org/a.png?x=1", "https://pictures.kiln.org/b.png", "https://kiln.org:8443/c.png")
        images = "".join(f"<img {MARK_ATTRIBUTE}={number} src='{address}'>" for number, address in enumerate(addresses, 1))
        style = "<style>img { display: block } img[src^='https://pictures'] { width: 40px; height: 40px }</style>"
        known = {"parts": {"one": ("image/png", picture(100, 50, "#A61B29"))}, "own": dict.fromkeys(addresses, "one"), "fetched": "these"}
        for _ in range(SLOTS + 1):
            taken = browser.capture(request(f"<body style='margin:0'>{style}{images}", picture="compare", **known))
            assert [(block.width, block.height, block.is_broken) for block in taken.measured.of("image")] == [
                (100, 50, False),
                (40, 40, False),
                (100, 50, False),
            ]
            assert Image.open(io.BytesIO(taken.image)).convert("RGB").getpixel((20, 70)) == (0xA6, 0x1B, 0x29)
            # Another message that shows the same addresses and did not have them fetched, in the same slot.
            lacking = browser.capture(request(f"<body>{style}{images}")).measured
            assert [block.is_broken for block in lacking.of("image")] == [True, True, True]
            other = known | {"parts": {"one": ("image/png", picture(30, 30, "#1F5F8B"))}, "fetched": "others"}
            changed = browser.capture(request(f"<body>{images}", **other)).measured
            assert [block.width for block in changed.of("image")] == [30, 30, 30]

    def test_sideways_content_is_measured_and_cut_at_the_width(self, browser: Browser) -> None:
        """The picture keeps the profile's width; how wide the content is stands beside it."""
        taken = browser.capture(request('<div style="width:640px;height:10px"></div>'))
        assert Image.open(io.BytesIO(taken.image)).size[0] == 400
        assert taken.measured.content_width >= 640

    def test_a_very_tall_page_is_bounded(self, browser: Browser) -> None:
        """30,000 px are cut, and said to be."""
        taken = browser.capture(request('<div style="height:30000px"></div>'))
        assert (taken.height, taken.measured.cut) == (12_000, True)

    def test_scripts_of_the_page_never_run(self, browser: Browser) -> None:
        """Even where the rewrite would have let one through."""
        html = (
            f'<p {MARK_ATTRIBUTE}="1">a</p><script>document.body.innerHTML = ""</script><img src=x onerror="document.body.innerHTML = 1">'
        )
        assert browser.capture(request(html)).measured.facts["words"] == 1

    def test_scripts_of_a_drawing_in_a_frame_never_run(self, browser: Browser) -> None:
        """A part opened as a page of its own would be another process; red if its script ran, and nothing of ours reaches into it."""
        drawing = (
            "<svg xmlns='http://www.w3.org/2000/svg' width='100' height='100'><rect id='r' width='100' height='100' fill='#00ff00'/>"
            "<script>document.getElementById('r').setAttribute('fill', '#ff0000')</script></svg>"
        )
        frame = f"<body style='margin:0'><iframe src='http://{PARTS_HOST}/d' width=100 height=100 style='border:0'></iframe>"
        taken = browser.capture(request(frame, parts={"d": ("image/svg+xml", drawing.encode())}, picture="compare"))
        assert Image.open(io.BytesIO(taken.image)).convert("RGB").getpixel((50, 50)) == (0, 255, 0)

    def test_many_side_by_side_and_stop(self, browser: Browser) -> None:
        """Each answer once; False stops the rest."""
        seen: list[int] = []
        browser.capture_all([request(f"<p>{number}") for number in range(4)], lambda number, capture: seen.append(number) is None)
        assert sorted(seen) == [0, 1, 2, 3]
        seen.clear()
        browser.capture_all([request(f"<p>{number}") for number in range(4)], lambda number, capture: bool(seen.append(number)))
        assert len(seen) == 1


class TestConfinement:
    """Requests that leave the browser: none."""

    def test_nothing_gets_out(self, browser: Browser) -> None:
        """Pictures, styles, fonts, frames, media, prefetches, forms, redirects: on a listening loopback address."""
        listener = Listener()
        there = f"http://127.0.0.1:{listener.port}"
        html = f"""
          <link rel=stylesheet href="{there}/a.css"><link rel=preload as=image href="{there}/b.png"><link rel=prefetch href="{there}/c"><link rel=preconnect href="{there}">
          <link rel=icon href="{there}/d.ico"><link rel=dns-prefetch href="{there}"><link rel=manifest href="{there}/e.json"><link rel=modulepreload href="{there}/f.js">
          <style>@import "{there}/g.css"; @font-face{{font-family:x;src:url({there}/h.woff2)}} p{{font-family:x;background:url({there}/i.png);cursor:url({there}/j.cur),auto;
          list-style-image:url({there}/k.png);border-image:url({there}/l.png) 1}} </style><p>text</p>
          <img src="{there}/m.png" srcset="{there}/n.png 2x"><picture><source srcset="{there}/o.webp"><img src="{there}/p.png"></picture><iframe src="{there}/q"></iframe>
          <object data="{there}/r"></object><embed src="{there}/s"><video src="{there}/t.mp4" poster="{there}/u.png" autoplay></video><audio src="{there}/v.mp3" autoplay></audio>
          <svg><image href="{there}/w.png"/><use href="{there}/x.svg#a"/></svg><input type=image src="{there}/y.png"><meta http-equiv=refresh content="0;url={there}/z">
          <body background="{there}/aa.png"><table background="{there}/bb.png"><tr><td>x</td></tr></table><img src="https://127.0.0.1:{listener.port}/cc.png"><img src="//127.0.0.1:{listener.port}/dd.png">
          <img src="file:///etc/hostname"><iframe src="file:///etc/passwd"></iframe>"""
        # The refresh may take the page away; nothing may have left all the same.
        with contextlib.suppress(CaptureFailed):
            browser.capture(request(html))
        browser.capture(request("<p>still there</p>"))
        listener.close()
        assert listener.knocks == 0


def _read(path: Path) -> bytes:
    """A file of /proc, which may go while it is read."""
    try:
        return path.read_bytes()
    except OSError:
        return b""


class TestFailures:
    """A page or a browser that does not do."""

    def test_a_browser_that_is_not_there(self) -> None:
        """One sentence, not a hang."""
        missing = Browser("/nowhere/chromium")
        try:
            with pytest.raises(CaptureFailed, match="does not start"):
                missing.capture(request("<p>x"))
        finally:
            missing.close()

    def test_a_killed_browser_is_replaced(self, browser: Browser) -> None:
        """The next picture starts a new one."""
        browser.capture(request("<p>x"))
        assert browser._proxy is not None
        mark = f"--proxy-server=http://127.0.0.1:{browser._proxy.port}".encode()
        children = [int(line.parent.name) for line in Path("/proc").glob("[0-9]*/cmdline") if mark in _read(line)]
        assert children
        for child in children:
            with contextlib.suppress(ProcessLookupError):
                os.kill(child, signal.SIGKILL)
        for _ in range(3):
            try:
                answer = browser.capture(request("<p>y"))
                break
            except CaptureFailed:
                continue
        else:
            pytest.fail("the browser did not come back")
        assert answer.image

    def test_a_page_that_dies_is_made_anew(self, browser: Browser) -> None:
        """Whoever waits for a crashed renderer is told, and the next picture comes from a new page."""
        browser.capture(request("<p>x"))
        devtools, page = browser._devtools, next(iter(browser._pages.values()))
        assert devtools is not None
        with pytest.raises(DevToolsError, match="closed"):
            browser._wait(asyncio.wait_for(devtools.send("Page.crash", session=page.session), 60))
        for _ in range(SLOTS):
            assert browser.capture(request("<p>y")).image
        assert page not in browser._pages.values()

    @pytest.mark.parametrize("name", ["chromium-headless-shell", "chromium"])
    def test_kept_pages_go_on_in_each_browser(self, name: str) -> None:
        """Each page makes several pictures. The full browser stops painting pages that are too small; the headless shell does not."""
        executable = shutil.which(name)
        if executable is None:
            pytest.skip(f"{name} is not installed here; one of the two is enough")
        made = Browser(executable, patience_ms=8_000)
        try:
            for number in range(SLOTS * 2):
                assert made.capture(request(f"<p>{number}", picture=("look", "compare")[number % 2])).image
        finally:
            made.close()

    def test_nothing_is_left(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        """A closed browser leaves no process and no folder."""
        # Other tests have browsers in the usual place meanwhile.
        monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
        made = Browser()
        made.capture(request("<p>x"))
        assert made._devtools is not None
        (folder,) = tmp_path.glob("jetwind-browser-*")
        made.close()
        assert not folder.exists()
        assert not [line for line in Path("/proc").glob("[0-9]*/cmdline") if str(folder).encode() in _read(line)]

    def test_the_stand_in_answers_alike(self) -> None:
        """The shipped fake keeps the protocol."""
        fake = FakeBrowser()
        answers: list[Capture | Exception] = []
        fake.capture_all(
            [request("<p>x", pixel_ratio=2), request("<p>y", picture="compare")], lambda number, capture: answers.append(capture) is None
        )
        sizes = [Image.open(io.BytesIO(answer.image)).size for answer in answers if isinstance(answer, Capture)]
        assert sizes == [(800, 600), (400, 300)]
        assert len(fake.seen) == 2
