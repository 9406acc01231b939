"""Whether the browser is crowded: its processes take much memory, and pages give way to one another."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator

from jetwind.engines.browser.memory import LOOKS_EVERY_S
from jetwind.engines.browser.pages import OneMessage

#: Octets of all its processes beyond which the browser is crowded: no page is kept for the next picture, and each message has one at a time.
CROWDED = 400_000_000
#: Chromium keeps memory from page to page; a fresh one after so many pictures bounds it, and after fewer where it is crowded.
PICTURES_PER_BROWSER, PICTURES_WHEN_CROWDED = 200, 30


class Crowding:
    """The memory of the browser's processes as it was told last."""

    def __init__(self) -> None:
        self._octets = 0

    def note(self, octets: int) -> None:
        """The memory that all processes have now; 0 for a browser that begins."""
        self._octets = octets

    def __bool__(self) -> bool:
        return self._octets > CROWDED

    def is_worn(self, pictures: int) -> bool:
        """Whether a browser that has taken so many pictures is to be followed by a fresh one."""
        return pictures >= (PICTURES_WHEN_CROWDED if self else PICTURES_PER_BROWSER)

    @contextlib.asynccontextmanager
    async def room_for(self, message: OneMessage) -> AsyncIterator[None]:
        """While the browser is crowded, a message has no second page at work."""
        while self and message.at_work:
            await asyncio.sleep(LOOKS_EVERY_S)
        message.at_work += 1
        try:
            yield
        finally:
            message.at_work -= 1
