"""How much memory a browser's processes take, told from outside."""

from __future__ import annotations

import asyncio
import contextlib
import ctypes
import logging
import os
import signal
from collections.abc import Callable
from pathlib import Path

from jetwind.engines.browser.devtools import DevTools

_PAGE = os.sysconf("SC_PAGE_SIZE")
logger = logging.getLogger(__name__)

LOOKS_EVERY_S = 0.25


async def guard(
    devtools: DevTools,
    is_busy: Callable[[], bool],
    ended: Callable[[], object],
    most: Callable[[], int],
    noted: Callable[[int], object] = lambda octets: None,
) -> None:
    """End the largest page when the browser's processes together take more than ``most`` octets; ``ended`` is told each time.

    ``noted`` gets the octets of all processes together, as often as they are looked at.
    """
    while devtools.is_open:
        await asyncio.sleep(LOOKS_EVERY_S)
        if not is_busy():
            continue
        taken = await asyncio.to_thread(memory_of, devtools.pid)
        noted(sum(taken.values()))
        if sum(taken.values()) > most() and taken:
            ended()
            logger.warning("a page took too much memory", extra={"action": "browser.page-ended", "octets": sum(taken.values())})
            with contextlib.suppress(ProcessLookupError):
                os.kill(max(taken, key=lambda pid: taken[pid]), signal.SIGKILL)


def give_back() -> None:
    """Have what this process has freed given back to the system (malloc_trim(3)); with other C libraries nothing happens."""
    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).malloc_trim(0)


def memory_of(group: int) -> dict[int, int]:
    """Octets of memory that each process of a group has for itself alone, by its number (proc(5), statm: resident less shared)."""
    found: dict[int, int] = {}
    for folder in Path("/proc").iterdir():
        if not folder.name.isdigit():
            continue
        try:
            fields = (folder / "stat").read_text().rpartition(")")[2].split()
            if int(fields[2]) != group:
                continue
            _, resident, shared, *_ = (folder / "statm").read_text().split()
        except (OSError, ValueError):
            continue  # it ended meanwhile
        found[int(folder.name)] = (int(resident) - int(shared)) * _PAGE
    return found
