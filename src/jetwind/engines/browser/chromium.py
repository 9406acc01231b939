"""One long-lived Chromium through Playwright, driven from a thread of its own, with a few kept pages for each pixel ratio.

Why this shape: measured, a new context and a default PNG for each picture cost six to eight times as much. Scripts of
the page never run; ours, which measure, still do.
"""

from __future__ import annotations

import asyncio
import base64
import logging
import math
import os
import shutil
import threading
from collections.abc import Callable, Coroutine, Iterable
from typing import Any, TypeVar

from jetwind.core.profiles import MARK_ATTRIBUTE
from jetwind.engines.browser import measuring
from jetwind.engines.browser.capture import Capture, CaptureFailed, CaptureRequest
from jetwind.engines.browser.proxy import PartsProxy

logger = logging.getLogger(__name__)
T = TypeVar("T")

#: A page that has not laid out after this many milliseconds is given up.
PATIENCE_MS = 15_000
#: Device pixels of a picture to look at: a phone's page of 390 by 5,000 CSS px at twice the resolution.
MOST_PIXELS = 8_000_000
#: Pages at work at once: measured, more gain nothing on two cores.
SLOTS = 3
#: Chromium keeps memory from page to page; a fresh one after so many pictures bounds it.
PICTURES_PER_BROWSER = 400

_EXECUTABLES = ("chromium-headless-shell", "chromium", "chromium-browser")
_FLAGS = (
    "--proxy-bypass-list=<-loopback>",
    "--font-render-hinting=none",
    "--force-color-profile=srgb",
    "--hide-scrollbars",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-quic",
    "--no-first-run",
    "--force-webrtc-ip-handling-policy=disable_non_proxied_udp",
)


def find_executable() -> str | None:
    """The browser to render with: the headless shell where it is installed, since it is two to four times faster."""
    return os.environ.get("JETWIND_CHROMIUM") or next((path for name in _EXECUTABLES if (path := shutil.which(name))), None)


class Browser:
    """A browser that can be asked from any thread. Starts with the first request; :meth:`close` ends it."""

    def __init__(self, executable: str | None = None, patience_ms: int = PATIENCE_MS) -> None:
        self._patience_ms = patience_ms
        self._executable = executable or find_executable()
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="browser", daemon=True)
        self._thread.start()
        self._playwright: Any = None
        self._browser: Any = None
        self._pages: dict[tuple[int, int], tuple[Any, Any]] = {}
        self._slots: asyncio.Queue[int] = asyncio.Queue()
        for slot in range(SLOTS):
            self._slots.put_nowait(slot)
        self._proxy: PartsProxy | None = None
        self._starting = asyncio.Lock()
        self._taken = 0

    def capture(self, request: CaptureRequest) -> Capture:
        """One picture.

        Raises:
            CaptureFailed: the page did not lay out in time, or the browser cannot be started.
        """
        return self._wait(self._capture(request))

    def capture_all(self, requests: Iterable[CaptureRequest], done: Callable[[int, Capture | Exception], bool]) -> None:
        """All pictures, pages of different pixel ratio side by side. ``done`` gets each as it comes; False stops the rest."""
        self._wait(self._capture_all(list(requests), done))

    def close(self) -> None:
        """End the browser, its driver and the thread."""
        try:
            self._wait(self._close())
        finally:
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join(10)

    def _wait(self, work: Coroutine[Any, Any, T]) -> T:
        return asyncio.run_coroutine_threadsafe(work, self._loop).result()

    async def _capture_all(self, requests: list[CaptureRequest], done: Callable[[int, Capture | Exception], bool]) -> None:
        stopped = False

        async def one(number: int, request: CaptureRequest) -> None:
            nonlocal stopped
            if stopped:
                return
            try:
                answer: Capture | Exception = await self._capture(request, lambda: stopped)
            except CaptureFailed as failure:
                answer = failure
            if not stopped and not await asyncio.to_thread(done, number, answer):
                stopped = True

        await asyncio.gather(*(one(number, request) for number, request in enumerate(requests)))

    async def _capture(self, request: CaptureRequest, stopped: Callable[[], bool] = lambda: False) -> Capture:
        from playwright.async_api import Error

        slot = await self._slots.get()
        try:
            for attempt in (1, 2):
                if stopped():
                    raise CaptureFailed("cancelled")
                key = (request.pixel_ratio, slot)
                page = None
                try:
                    page, session = await self._page(key)
                    return await asyncio.wait_for(self._take(page, session, request), self._patience_ms * 2 / 1000)
                except (Error, TimeoutError) as failure:
                    if attempt == 1 and "closed" in str(failure):
                        # Another page took the browser along; this one is not to blame.
                        await asyncio.sleep(0.2)
                        continue
                    # A page that hung may hang the next message too: it is thrown away, and made anew when needed.
                    self._pages.pop(key, None)
                    try:
                        if page is not None:
                            await asyncio.wait_for(page.context.close(), 5)
                    except (Error, TimeoutError):
                        await self._close()
                    is_late = "imeout" in f"{type(failure).__name__}{failure}"
                    reason = "it did not lay out in time" if is_late else str(failure).splitlines()[0]
                    raise CaptureFailed(f"The page could not be rendered: {reason}.") from failure
            raise AssertionError("the second attempt answers or raises")
        finally:
            self._slots.put_nowait(slot)

    async def _take(self, page: Any, session: Any, request: CaptureRequest) -> Capture:
        assert self._proxy is not None
        key = self._proxy.hold(request.parts)
        try:
            await session.send(
                "Emulation.setDeviceMetricsOverride",
                {"width": request.width, "height": request.first_screen, "deviceScaleFactor": request.pixel_ratio, "mobile": False},
            )
            scheme = [{"name": "prefers-color-scheme", "value": "dark" if request.dark else "light"}]
            await session.send("Emulation.setEmulatedMedia", {"features": scheme})
            await page.set_content(request.html, wait_until="load", timeout=self._patience_ms)
            answer = await page.evaluate(measuring.script(), [MARK_ATTRIBUTE, request.paint])
            measured = measuring.read(answer, request)
            if request.picture == "none":
                return Capture(b"", "", measured)
            options: dict[str, Any] = (
                {"format": "png", "optimizeForSpeed": True} if request.picture == "compare" else {"format": "jpeg", "quality": 80}
            )
            device_pixels = measured.width * measured.height * request.pixel_ratio**2
            # A picture to look at beyond this is drawn smaller: it costs its pixels, and nobody looks at them one by one. A CSS px keeps one.
            least = 1 / request.pixel_ratio
            scale = 1.0 if request.picture == "compare" else min(1.0, max(least, math.sqrt(MOST_PIXELS / device_pixels)))
            clip = {"x": 0, "y": 0, "width": measured.width, "height": measured.height, "scale": scale}
            shot = await session.send("Page.captureScreenshot", {**options, "clip": clip, "captureBeyondViewport": True})
            self._taken += 1
        finally:
            self._proxy.release(key)
        return Capture(base64.b64decode(shot["data"]), f"image/{options['format']}", measured)

    async def _page(self, key: tuple[int, int]) -> tuple[Any, Any]:
        """The kept page of a slot at a pixel ratio. A page never changes its ratio: text is set differently after it has."""
        async with self._starting:
            if self._browser is not None and not self._browser.is_connected():
                await self._close()
            if self._taken >= PICTURES_PER_BROWSER and self._slots.qsize() == SLOTS - 1:
                await self._close()
            if self._browser is None:
                await self._start()
            if key in self._pages and self._pages[key][0].is_closed():
                del self._pages[key]
            if key not in self._pages:
                context = await self._browser.new_context(java_script_enabled=False, service_workers="block", accept_downloads=False)
                page = await context.new_page()
                self._pages[key] = (page, await context.new_cdp_session(page))
            return self._pages[key]

    async def _start(self) -> None:
        from playwright.async_api import Error, async_playwright

        if self._executable is None:
            raise CaptureFailed("No Chromium is installed; “apt-get install chromium-headless-shell” brings one.")
        self._proxy = PartsProxy()
        port = await self._proxy.start()
        try:
            self._playwright = await async_playwright().start()
        except Exception as failure:  # the driver is a process of its own, and its ways of not starting share no class
            await self._close()
            raise CaptureFailed(
                f"The browser's driver does not start: {str(failure).splitlines()[0] if str(failure) else failure!r}"
            ) from failure
        options: dict[str, Any] = {
            "executable_path": self._executable,
            "proxy": {"server": f"http://127.0.0.1:{port}"},
            "args": list(_FLAGS),
        }
        # Chromium refuses its sandbox to root; for anybody else it is tried first.
        sandboxes = (False,) if os.geteuid() == 0 else (True, False)
        for sandbox in sandboxes:
            try:
                self._browser = await self._playwright.chromium.launch(chromium_sandbox=sandbox, **options)
                break
            except Error as failure:
                if sandbox:
                    logger.warning("this machine gives Chromium no sandbox; rendering without it", extra={"action": "browser.unsandboxed"})
                    continue
                await self._close()
                raise CaptureFailed(f"Chromium does not start: {str(failure).splitlines()[0]}") from failure
        self._taken = 0

    async def _close(self) -> None:
        from playwright.async_api import Error

        self._pages.clear()
        browser, self._browser = self._browser, None
        driver, self._playwright = self._playwright, None
        proxy, self._proxy = self._proxy, None
        for ending in (browser and browser.close, driver and driver.stop, proxy and proxy.stop):
            if ending:
                try:
                    await asyncio.wait_for(ending(), 10)
                except (Error, TimeoutError, OSError):
                    logger.warning("a part of the browser did not end in time", extra={"action": "browser.slow-end"})
