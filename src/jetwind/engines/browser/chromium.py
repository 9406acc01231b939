"""One long-lived Chromium, driven from a thread of its own, with a few kept pages for each pixel ratio.

Why this shape: measured, a new context and a default PNG for each picture cost six to eight times as much. Scripts of
the page never run; ours, which measure, still do.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
import logging
import math
import ssl
import threading
import time
from collections.abc import Callable, Coroutine, Iterable
from concurrent.futures import Future
from typing import Any, TypeVar

from jetwind.core.profiles import MARK_ATTRIBUTE
from jetwind.core.renders.enlarged import Loss
from jetwind.core.renders.spoken import Spoken
from jetwind.engines.browser import certificate, enlarging, listening, measuring
from jetwind.engines.browser.capture import ALL_SECONDS, Capture, CaptureFailed, CaptureRequest
from jetwind.engines.browser.crowding import Crowding
from jetwind.engines.browser.devtools import CLOSED, DevTools, DevToolsError
from jetwind.engines.browser.executable import FLAGS, find_executable
from jetwind.engines.browser.left_behind import left_behind
from jetwind.engines.browser.memory import give_back, guard
from jetwind.engines.browser.pages import OneMessage, Page
from jetwind.engines.browser.proxy import PartsProxy
from jetwind.engines.browser.starting import started
from jetwind.engines.browser.turns import Turns

logger = logging.getLogger(__name__)
T = TypeVar("T")

#: A page that has not laid out after this many milliseconds is given up.
PATIENCE_MS = 15_000
#: Device pixels of a picture to look at: a phone's page of 390 by 5,000 CSS px at twice the resolution.
MOST_PIXELS = 8_000_000
#: Pages at work at once for one message: measured, more gain nothing on two cores. One more is kept for another message.
SLOTS = 3
#: Pages that are kept for the next picture. Each takes 20 to 70 MB, and making one takes a twentieth of a second.
MOST_KEPT = SLOTS + 1
#: Octets that the browser's processes may have for themselves; on real newsletters they take a third.
MOST_MEMORY = 1_500_000_000
#: What is painted of a page while it loads, in px. Under about 100 px the full browser stops painting; the headless shell does not mind.
_WINDOW = {"width": 300, "height": 300}


class Browser:
    """A browser that can be asked from any thread. Starts with the first request; :meth:`close` ends it."""

    def __init__(self, executable: str | None = None, patience_ms: int = PATIENCE_MS) -> None:
        self._patience_ms = patience_ms
        self._executable = executable or find_executable()
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="browser", daemon=True)
        self._thread.start()
        self._devtools: DevTools | None = None
        self._pages: dict[tuple[int, int], Page] = {}
        self._turns = Turns(SLOTS + 1, SLOTS)
        #: Of all messages together, one heavy page at a time.
        self._heavy = asyncio.Semaphore(1)
        #: Pictures over MOST_PIXELS are taken one at a time: the browser keeps several copies of each, with four octets for a pixel.
        self._large = asyncio.Semaphore(1)
        #: Pages that somebody uses now.
        self._at_work: set[tuple[int, int]] = set()
        self._guard: asyncio.Task[None] | None = None
        #: How often a page was ended because the browser took too much memory.
        self._ended_for_memory = 0
        self._crowding = Crowding()
        #: The way out of what belongs to no page: it has nothing to serve.
        self._proxy: PartsProxy | None = None
        self._secure: ssl.SSLContext | None = None
        self._starting = asyncio.Lock()
        self._taken = 0

    def capture(self, request: CaptureRequest) -> Capture:
        """One picture.

        Raises:
            CaptureFailed: the page did not lay out in time, or the browser cannot be started.
        """
        return self._wait(self._capture(request, OneMessage(math.inf)))

    def capture_all(
        self, requests: Iterable[CaptureRequest], done: Callable[[int, Capture | Exception], bool], seconds: float = ALL_SECONDS
    ) -> None:
        """Take all pictures of one message, pages of different pixel ratio side by side. ``done`` gets each as it comes; False stops the rest.

        After ``seconds`` what is left is given up. A page that does not lay out ends the rest too, unless others have been laid out.
        """
        self._wait(self._capture_all(list(requests), done, seconds))

    def spoken(self, request: CaptureRequest, seconds: float) -> tuple[Spoken, ...] | None:
        """The words that a screen reader says of a page, in its order; None where the page does not answer in time."""
        return self._wait(self._alone(request, self._listened, min(seconds, self._patience_ms / 1000)))

    def enlarged(self, request: CaptureRequest, seconds: float) -> tuple[Loss, ...] | None:
        """The losses of a page whose text is set twice as large; None where the page does not answer in time."""
        return self._wait(self._alone(request, self._enlarged, min(seconds, self._patience_ms / 1000)))

    def close(self) -> None:
        """End the browser, its driver and the thread."""
        try:
            self._wait(self._close_for_good())
        finally:
            self._loop.call_soon_threadsafe(self._loop.stop)
            self._thread.join(10)

    def _wait(self, work: Coroutine[Any, Any, T]) -> T:
        asked: Future[T] | None = None
        try:
            asked = asyncio.run_coroutine_threadsafe(work, self._loop)
            return asked.result()
        finally:
            if asked is None:
                # Interrupted before the loop had it: nobody else will end it.
                with contextlib.suppress(ValueError):
                    work.close()

    async def _capture_all(self, requests: list[CaptureRequest], done: Callable[[int, Capture | Exception], bool], seconds: float) -> None:
        stopped = False
        message = OneMessage(time.monotonic() + seconds)
        # ``done`` is called for one picture at a time: once it has said no, it is not called for those that came meanwhile.
        telling = asyncio.Lock()

        async def one(number: int, request: CaptureRequest) -> None:
            nonlocal stopped
            if stopped:
                return
            try:
                answer: Capture | Exception = await self._capture(request, message, lambda: stopped)
                message.laid_out += 1
            except CaptureFailed as failure:
                answer = failure
            async with telling:
                if stopped:
                    return
                try:
                    stopped = not await asyncio.to_thread(done, number, answer)
                except BaseException:
                    stopped = True
                    raise

        await asyncio.gather(*(one(number, request) for number, request in enumerate(requests)))

    async def _capture(self, request: CaptureRequest, message: OneMessage, stopped: Callable[[], bool] = lambda: False) -> Capture:
        async with self._heavy if request.is_heavy else contextlib.nullcontext():
            return await self._captured(request, message, stopped)

    async def _captured(self, request: CaptureRequest, message: OneMessage, stopped: Callable[[], bool]) -> Capture:
        slot = await self._turns.take(message)
        try:
            async with self._crowding.room_for(message):
                return await self._tried(request, message, slot, stopped)
        finally:
            key = (request.pixel_ratio, slot)
            self._at_work.discard(key)
            # While a heavy page is laid out, none is kept for the next picture: it needs the memory.
            is_crowded = request.is_heavy or self._crowding
            if is_crowded or self._heavy.locked() or (key in self._pages and self._pages[key].is_worn):
                await self._discard(key)
            await self._discard_idle(MOST_KEPT)
            if is_crowded:
                await asyncio.to_thread(give_back)
            self._turns.give_back(message, slot)

    async def _tried(self, request: CaptureRequest, message: OneMessage, slot: int, stopped: Callable[[], bool]) -> Capture:
        """The picture from the page of a place; tried twice where the browser ended because of another page."""
        if request.is_heavy or self._crowding:
            # It needs the memory that they keep.
            await self._discard_idle()
        for attempt in (1, 2):
            if stopped():
                raise CaptureFailed("cancelled")
            if message.given_up:
                raise CaptureFailed(f"The page was not tried: {message.given_up}.", for_time=message.given_up_for_time)
            left = message.deadline - time.monotonic()
            if left <= 0:
                raise CaptureFailed("The page was not tried: the message takes too long to render.", for_time=True)
            key = (request.pixel_ratio, slot)
            self._at_work.add(key)
            ended_before = self._ended_for_memory
            try:
                return await asyncio.wait_for(
                    self._take(await self._page(key, request.fetched), request), min(self._patience_ms * 2 / 1000, left)
                )
            except (DevToolsError, TimeoutError) as failure:
                # A page that hung may hang the next message too: it is thrown away, and made anew when needed.
                await self._discard(key)
                too_large = self._ended_for_memory > ended_before and str(failure) == CLOSED
                if attempt == 1 and str(failure) == CLOSED and not too_large:
                    # The browser ended because of another page, so this one is tried again.
                    await asyncio.sleep(0.2)
                    continue
                reason = "it did not lay out in time" if isinstance(failure, TimeoutError) else str(failure)
                if too_large:
                    reason = f"it needs more than {MOST_MEMORY // 1_000_000:,} MB of memory"
                if (too_large or isinstance(failure, TimeoutError)) and not message.laid_out:
                    # What could not be laid out once, with nothing else to show for it, is not tried in every other window.
                    message.given_up = f"in another profile {reason}"
                    message.given_up_for_time = not too_large
                for_time = isinstance(failure, TimeoutError) and not too_large
                raise CaptureFailed(f"The page could not be rendered: {reason}.", for_time=for_time) from failure
        raise AssertionError("the second attempt answers or raises")

    async def _alone(self, request: CaptureRequest, ask: Callable[[Page], Coroutine[Any, Any, T]], seconds: float) -> T | None:
        """The answer of one page that is thrown away after it; None where the page does not answer in time."""
        if seconds <= 0:
            return None
        message = OneMessage(time.monotonic() + seconds)
        async with self._heavy if request.is_heavy else contextlib.nullcontext():
            return await self._answered(request, message, ask, seconds)

    async def _answered(
        self, request: CaptureRequest, message: OneMessage, ask: Callable[[Page], Coroutine[Any, Any, T]], seconds: float
    ) -> T | None:
        slot = await self._turns.take(message)
        key = (1, slot)
        self._at_work.add(key)
        try:
            return await asyncio.wait_for(self._asked(await self._page(key, request.fetched), request, ask), seconds)
        except (DevToolsError, TimeoutError) as failure:
            logger.warning("a page does not answer: %s", failure, extra={"action": "browser.no-answer"})
            return None
        finally:
            self._at_work.discard(key)
            # A page that has built its accessibility tree once keeps it up for every later message.
            await self._discard(key)
            self._turns.give_back(message, slot)

    async def _asked(self, page: Page, request: CaptureRequest, ask: Callable[[Page], Coroutine[Any, Any, T]]) -> T:
        page.proxy.hold(request.parts, request.own)
        try:
            await self._load(page, request)
            return await ask(page)
        finally:
            page.proxy.release()

    async def _listened(self, page: Page) -> tuple[Spoken, ...]:
        devtools = self._devtools
        if devtools is None:
            raise DevToolsError(CLOSED)
        tree = await devtools.send("Accessibility.getFullAXTree", session=page.session)
        await devtools.send("DOM.enable", session=page.session)
        elements = await devtools.send("DOM.getFlattenedDocument", {"depth": -1}, page.session)
        return listening.read(tree["nodes"], elements["nodes"], MARK_ATTRIBUTE)

    async def _enlarged(self, page: Page) -> tuple[Loss, ...]:
        return enlarging.read(await self._evaluate(page, enlarging.call(MARK_ATTRIBUTE)))

    def _note_ended(self) -> None:
        self._ended_for_memory += 1

    async def _take(self, page: Page, request: CaptureRequest) -> Capture:
        devtools = self._devtools
        if devtools is None:
            # The browser was ended a moment ago because another page did not end.
            raise DevToolsError(CLOSED)
        page.proxy.hold(request.parts, request.own)
        try:
            size = await self._load(page, request)
            measured = measuring.read(await self._evaluate(page, measuring.call(MARK_ATTRIBUTE, paint=request.paint)), request)
            if measured.left < 0:
                # A picture cannot begin left of the page: a message that is read from the right and shrunk is laid out at its own width.
                await devtools.send("Emulation.setDeviceMetricsOverride", {**size, "width": measured.width}, page.session)
                again = await self._evaluate(page, measuring.call(MARK_ATTRIBUTE, paint=request.paint))
                measured = measuring.read(again, request, measured.width)
            if request.picture == "none":
                return Capture(b"", "", measured)
            options: dict[str, Any] = {"format": "png"} if request.picture == "compare" else {"format": "jpeg", "quality": 80}
            device_pixels = measured.width * measured.height * (request.pixel_ratio * measured.scale) ** 2
            # A picture to look at beyond this is drawn smaller: it costs its pixels, and nobody looks at them one by one. A CSS px keeps one.
            least = 1 / request.pixel_ratio
            scale = 1.0 if request.picture == "compare" else min(1.0, max(least, math.sqrt(MOST_PIXELS / device_pixels)))
            clip = {"x": measured.left, "y": 0, "width": measured.width, "height": measured.height, "scale": scale * measured.scale}
            page.is_worn = device_pixels * scale**2 > MOST_PIXELS * 1.01
            async with self._large if page.is_worn else contextlib.nullcontext():
                shot = await devtools.send(
                    "Page.captureScreenshot",
                    {**options, "optimizeForSpeed": True, "clip": clip, "captureBeyondViewport": True},
                    page.session,
                )
            self._taken += 1
        finally:
            page.proxy.release()
        return Capture(base64.b64decode(shot["data"]), f"image/{options['format']}", measured)

    async def _load(self, page: Page, request: CaptureRequest) -> dict[str, Any]:
        """Lay a page out in its window, and return the browser's words on the size of the window."""
        devtools = self._devtools
        if devtools is None:
            raise DevToolsError(CLOSED)
        size = {
            "width": request.width,
            "height": request.first_screen,
            "deviceScaleFactor": request.pixel_ratio,
            "mobile": False,
            # The page is laid out for this size, but what is painted while it loads stays small: measured, a tenth of a picture's cost.
            "dontSetVisibleSize": True,
        }
        scheme = [{"name": "prefers-color-scheme", "value": "dark" if request.dark else "light"}]
        # Window and colour scheme must hold before the message comes: seen on a busy machine, half of a page was styled for the other scheme.
        await asyncio.gather(
            devtools.send("Emulation.setDeviceMetricsOverride", size, page.session),
            devtools.send("Emulation.setEmulatedMedia", {"features": scheme}, page.session),
        )
        stays = left_behind(request.html)
        if page.left_behind not in ("", stays):
            await self._anew(devtools, page)
        page.left_behind = stays
        loaded = devtools.coming(page.session, "Page.loadEventFired")
        await asyncio.gather(
            devtools.send("Page.setDocumentContent", {"frameId": page.frame, "html": request.html}, page.session),
            asyncio.wait_for(loaded, self._patience_ms / 1000),
        )
        return size

    async def _anew(self, devtools: DevTools, page: Page) -> None:
        """Give a page an empty document in the place of the one it has. It costs 15 ms, so it is done only where something stays behind."""
        blank = devtools.coming(page.session, "Page.loadEventFired")
        await devtools.send("Page.navigate", {"url": "about:blank"}, page.session)
        await asyncio.wait_for(blank, self._patience_ms / 1000)

    async def _evaluate(self, page: Page, expression: str) -> Any:
        if self._devtools is None:
            raise DevToolsError(CLOSED)
        found = await self._devtools.send("Runtime.evaluate", {"expression": expression, "returnByValue": True}, page.session)
        if "exceptionDetails" in found:
            raise DevToolsError(f"it could not be measured ({found['exceptionDetails'].get('text', 'no reason given')})")
        return found["result"].get("value")

    async def _page(self, key: tuple[int, int], fetched: str) -> Page:
        """The kept page of a slot at a pixel ratio. A page never changes its ratio: text is set differently after it has.

        Nor does one that was given pictures under addresses on servers get another message: it may keep them, and that message may lack them.
        """
        async with self._starting:
            if self._devtools is not None and not self._devtools.is_open:
                await self._close()
            if self._crowding.is_worn(self._taken) and self._at_work <= {key}:
                await self._close()
            if self._devtools is None:
                await self._start()
            if key in self._pages and self._pages[key].fetched not in (None, fetched):
                await self._discard(key)
                if self._devtools is None:
                    await self._start()
            if key not in self._pages:
                self._pages[key] = await asyncio.wait_for(self._new_page(), self._patience_ms / 1000)
            # The page that was used last stands last.
            page = self._pages[key] = self._pages.pop(key)
            page.fetched = fetched or None
            return page

    async def _new_page(self) -> Page:
        devtools = self._devtools
        assert devtools is not None
        proxy = PartsProxy(self._secure)
        way_out = {"proxyServer": f"http://127.0.0.1:{await proxy.start()}", "proxyBypassList": "<-loopback>"}
        try:
            return await self._opened(devtools, proxy, way_out)
        except BaseException:
            await proxy.stop()
            raise

    async def _opened(self, devtools: DevTools, proxy: PartsProxy, way_out: dict[str, str]) -> Page:
        context = (await devtools.send("Target.createBrowserContext", way_out))["browserContextId"]
        await devtools.send("Browser.setDownloadBehavior", {"behavior": "deny", "browserContextId": context})
        small = {"url": "about:blank", "browserContextId": context, **_WINDOW}
        target = (await devtools.send("Target.createTarget", small))["targetId"]
        session = (await devtools.send("Target.attachToTarget", {"targetId": target, "flatten": True}))["sessionId"]
        for command in ("Inspector.enable", "Page.enable"):
            await devtools.send(command, session=session)
        await devtools.send("Emulation.setScriptExecutionDisabled", {"value": True}, session)
        page = Page(context, session, (await devtools.send("Page.getFrameTree", session=session))["frameTree"]["frame"]["id"], proxy)
        # The empty page must be done before the first message comes, or its end is taken for the message's.
        while await self._evaluate(page, "document.readyState") != "complete":
            await asyncio.sleep(0.005)
        return page

    async def _discard_idle(self, kept: int = 0) -> None:
        """Throw away pages that nobody uses now, those first that were used longest ago, until so many are kept with those in use."""
        idle = [key for key in self._pages if key not in self._at_work]
        for key in idle[: max(0, len(self._pages) - kept)]:
            await self._discard(key)

    async def _discard(self, key: tuple[int, int]) -> None:
        """Throw a page away; with the whole browser where it does not even end."""
        page = self._pages.pop(key, None)
        if page is not None:
            await page.proxy.stop()
        if page is None or self._devtools is None or not self._devtools.is_open:
            return
        try:
            await asyncio.wait_for(self._devtools.send("Target.disposeBrowserContext", {"browserContextId": page.context}), 5)
        except (DevToolsError, TimeoutError):
            await self._close()

    async def _start(self) -> None:
        self._proxy = PartsProxy()
        try:
            self._secure, key = await asyncio.to_thread(certificate.made)
            own = (f"--proxy-server=http://127.0.0.1:{await self._proxy.start()}", f"--ignore-certificate-errors-spki-list={key}")
            self._devtools = await started(self._executable, (*own, *FLAGS))
        except CaptureFailed:
            await self._close()
            raise
        self._taken = 0
        self._crowding.note(0)
        self._guard = asyncio.create_task(
            guard(self._devtools, lambda: bool(self._turns.in_use), self._note_ended, lambda: MOST_MEMORY, self._crowding.note)
        )

    async def _close_for_good(self) -> None:
        await self._close()
        # Ctrl-C leaves pictures under way, and they may have begun a browser: what is pending when the loop stops is told on the terminal.
        pending = asyncio.all_tasks() - {asyncio.current_task()}
        for task in pending:
            task.cancel()
        if pending:
            await asyncio.wait(pending, timeout=5)
        await self._close()

    async def _close(self) -> None:
        for page in self._pages.values():
            await page.proxy.stop()
        self._pages.clear()
        if self._guard is not None:
            self._guard.cancel()
            self._guard = None
        devtools, self._devtools = self._devtools, None
        proxy, self._proxy = self._proxy, None
        if devtools is not None:
            await devtools.close()
        if proxy is not None:
            await proxy.stop()
