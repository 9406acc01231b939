"""Starting a Chromium, with its sandbox where the machine gives it one."""

from __future__ import annotations

import logging
import os
from collections.abc import Sequence

from jetwind.engines.browser.capture import CaptureFailed
from jetwind.engines.browser.devtools import DevTools, DevToolsError

logger = logging.getLogger(__name__)
#: A browser that has not answered after this many seconds does not start.
_STARTING_S = 20.0


async def started(executable: str | None, flags: Sequence[str]) -> DevTools:
    """A browser that answers.

    Raises:
        CaptureFailed: none is installed, or it does not start.
    """
    if executable is None:
        raise CaptureFailed("No Chromium is installed; “apt-get install chromium-headless-shell” brings one.")
    # Chromium refuses its sandbox to root; for anybody else it is tried first.
    for sandbox in (False,) if os.geteuid() == 0 else (True, False):
        devtools = DevTools()
        try:
            await devtools.start(executable, flags if sandbox else (*flags, "--no-sandbox"), _STARTING_S)
            return devtools
        except (DevToolsError, TimeoutError) as failure:
            await devtools.close()
            if sandbox:
                logger.warning("this machine gives Chromium no sandbox; rendering without it", extra={"action": "browser.unsandboxed"})
                continue
            reason = "it does not answer" if isinstance(failure, TimeoutError) else str(failure)
            raise CaptureFailed(f"Chromium does not start: {reason}.") from failure
    raise AssertionError("the last attempt answers or raises")
