"""Landing pages in a browser of their own: scripts off, one page at a time, no way out but the gate."""

from __future__ import annotations

import asyncio
import base64
import json
import time
from collections.abc import Callable, Generator, Sequence
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Any

from jetwind.core.links.addresses import parsed
from jetwind.core.links.answers import Answer, Landed
from jetwind.engines.browser.capture import CaptureFailed
from jetwind.engines.browser.devtools import DevTools, DevToolsError
from jetwind.engines.browser.executable import FLAGS, find_executable
from jetwind.engines.browser.gate import Gate
from jetwind.engines.browser.memory import guard
from jetwind.engines.browser.starting import started
from jetwind.engines.fetch import Policy, Resolver, SystemResolver
from jetwind.engines.fetch.connecting import Ways

#: CSS px of the two windows, and how tall a picture may be.
DESKTOP, PHONE = (1280, 800), (390, 844)
_TALLEST = 2_400
#: Copy smaller than this is told, in CSS px.
SMALL_PX = 12
#: Seconds that one page may take, and all pages of a message.
_PAGE_S, ALL_S = 20.0, 90.0
#: Octets that the browser may take for one page: it stands beside the browser of renders.
MOST_LANDING_MEMORY = 900_000_000
#: Megabytes of one picture once it is decoded: that of twelve million pixels, as renders show them at most. Larger ones stay empty.
_LARGEST_DECODED_MB = 48


@dataclass(frozen=True, slots=True)
class Landing:
    """A page in both windows: two JPEGs with their size in CSS px, and the measures of the phone; or the reason why there is no page."""

    answer: Answer
    desktop: bytes = b""
    phone: bytes = b""
    landed: Landed | None = None
    heading: str = ""
    problem: str = ""


@cache
def _script() -> str:
    return files(__package__).joinpath("landing.js").read_text("utf-8")


class LandingBrowser:
    """An asynchronous context manager. ``trusted_key`` is that of a practice field's certificates."""

    def __init__(self, policy: Policy | None = None, resolver: Resolver | None = None, *, trusted_key: str = "") -> None:
        self._gate = Gate(Ways(policy or Policy(), resolver or SystemResolver()))
        self._trusted_key = trusted_key
        self._devtools: DevTools | None = None
        self._guard: asyncio.Task[None] | None = None
        #: Whether a page is open now, and how often one was ended because it took too much memory.
        self._is_busy, self._ended_for_memory = False, 0

    @property
    def gate(self) -> Gate:
        """Its only way out."""
        return self._gate

    async def __aenter__(self) -> LandingBrowser:
        flags = [f"--proxy-server=http://127.0.0.1:{await self._gate.start()}", *FLAGS, "--disable-features=MediaRouter,OptimizationHints"]
        flags.append(f"--max-decoded-image-size-mb={_LARGEST_DECODED_MB}")
        if self._trusted_key:
            flags.append(f"--ignore-certificate-errors-spki-list={self._trusted_key}")
        try:
            self._devtools = await started(find_executable(), flags)
        except CaptureFailed:
            await self._gate.stop()
            raise
        self._guard = asyncio.create_task(guard(self._devtools, lambda: self._is_busy, self._note_ended, lambda: MOST_LANDING_MEMORY))
        return self

    def _note_ended(self) -> None:
        self._ended_for_memory += 1

    async def __aexit__(self, *ended: object) -> None:
        if self._guard is not None:
            self._guard.cancel()
        if self._devtools is not None:
            await self._devtools.close()
        await self._gate.stop()

    async def open(self, answer: Answer) -> Landing:
        """A page that was there when it was asked for, as a browser shows it. Never raises for what a page does."""
        ways = [address.host for hop in answer.hops if (address := parsed(hop.address)) is not None]
        self._gate.let(tuple(dict.fromkeys(ways)), answer.page.hosts if answer.page is not None else ())
        ended_before, self._is_busy = self._ended_for_memory, True
        try:
            return await asyncio.wait_for(self._opened(answer), _PAGE_S)
        except (DevToolsError, TimeoutError) as failure:
            reason = "it was not laid out in time" if isinstance(failure, TimeoutError) else str(failure)
            if self._ended_for_memory > ended_before:
                reason = f"it needs more than {MOST_LANDING_MEMORY // 1_000_000:,} MB of memory"
            return Landing(answer, problem=f"The page could not be shown: {reason}.")

    async def _opened(self, answer: Answer) -> Landing:
        devtools = self._devtools
        assert devtools is not None
        context = (await devtools.send("Target.createBrowserContext"))["browserContextId"]
        try:
            await devtools.send("Browser.setDownloadBehavior", {"behavior": "deny", "browserContextId": context})
            target = (await devtools.send("Target.createTarget", {"url": "about:blank", "browserContextId": context}))["targetId"]
            session = (await devtools.send("Target.attachToTarget", {"targetId": target, "flatten": True}))["sessionId"]
            for command in ("Inspector.enable", "Page.enable"):
                await devtools.send(command, session=session)
            await devtools.send("Emulation.setScriptExecutionDisabled", {"value": True}, session)
            desktop, _ = await self._shown(session, answer.final, DESKTOP, is_phone=False)
            phone, facts = await self._shown(session, answer.final, PHONE, is_phone=True)
        finally:
            await devtools.send("Target.disposeBrowserContext", {"browserContextId": context})
        return Landing(answer, desktop, phone, _landed(facts), str(facts.get("heading", ""))[:300])

    async def _shown(self, session: str, address: str, window: tuple[int, int], *, is_phone: bool) -> tuple[bytes, dict[str, Any]]:
        devtools = self._devtools
        assert devtools is not None
        width, height = window
        size = {"width": width, "height": height, "deviceScaleFactor": 1, "mobile": is_phone, "screenWidth": width, "screenHeight": height}
        await devtools.send("Emulation.setDeviceMetricsOverride", size, session)
        loaded = devtools.coming(session, "Page.loadEventFired")
        gone = await devtools.send("Page.navigate", {"url": address}, session)
        if gone.get("errorText"):
            loaded.cancel()
            raise DevToolsError(str(gone["errorText"]))
        await loaded
        told = await devtools.send("Runtime.evaluate", {"expression": _script(), "returnByValue": True}, session)
        if "value" not in told.get("result", {}):
            # It led on to elsewhere in the middle of the question.
            raise DevToolsError("the page went away while it was looked at")
        facts: dict[str, Any] = json.loads(told["result"]["value"])
        across = max(width, min(int(facts["content"]), 2 * DESKTOP[0])) if is_phone else width
        down = max(1, min(int(facts["height"]), _TALLEST))
        # What a phone shows smaller to show all of it is pictured as small.
        clip = {"x": 0, "y": 0, "width": across, "height": down, "scale": width / across}
        options = {"format": "jpeg", "quality": 75, "clip": clip, "captureBeyondViewport": True}
        return base64.b64decode((await devtools.send("Page.captureScreenshot", options, session))["data"]), facts


def _landed(facts: dict[str, Any]) -> Landed:
    sizes = {float(size): int(letters) for size, letters in facts["sizes"].items()}
    letters = sum(sizes.values())
    small = sum(number for size, number in sizes.items() if size < SMALL_PX)
    return Landed(PHONE[0], int(facts["content"]), min(sizes, default=0.0), small / letters if letters else 0.0)


def landings(make: Callable[[], LandingBrowser], answers: Sequence[Answer]) -> Generator[Landing, None, None]:
    """Pages one after the other, for a thread without a loop. A caller who stops taking them ends the browser.

    Raises:
        CaptureFailed: no browser starts.
    """
    loop = asyncio.new_event_loop()
    browser = make()
    try:
        loop.run_until_complete(browser.__aenter__())
        try:
            ends = time.monotonic() + ALL_S
            for answer in answers:
                if time.monotonic() > ends:
                    yield Landing(answer, problem=f"It was not tried: the pages of the message take more than {ALL_S:g} s.")
                else:
                    yield loop.run_until_complete(browser.open(answer))
        finally:
            loop.run_until_complete(browser.__aexit__())
    finally:
        pending = asyncio.all_tasks(loop)
        for task in pending:
            task.cancel()
        if pending:
            loop.run_until_complete(asyncio.wait(pending, timeout=2))
        loop.close()
