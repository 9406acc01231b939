"""What the browser takes: its first picture, the cores while sixteen are made, and memory from start to the end.

PYTHONPATH=src .jetwind/venv/bin/python -m benchmarks.browser_costs
"""

from __future__ import annotations

import os
import re
import threading
import time
from pathlib import Path

from playwright.sync_api import sync_playwright

from benchmarks.common import compare
from benchmarks.renders import as_budgeted
from jetwind.core.profiles import profiles, rewrite, usual
from jetwind.engines.browser import Browser, Capture, CaptureRequest
from jetwind.engines.browser.executable import find_executable


def family(pid: int) -> list[int]:
    """A process and all that it started, directly or not."""
    parents: dict[int, list[int]] = {}
    for stat in Path("/proc").glob("[0-9]*/stat"):
        try:
            fields = stat.read_text().rpartition(")")[2].split()
        except OSError:
            continue
        parents.setdefault(int(fields[1]), []).append(int(stat.parent.name))
    found = [pid]
    for one in found:
        found.extend(parents.get(one, []))
    return found


def cpu_seconds(pids: list[int]) -> float:
    """CPU time of processes so far."""
    total = 0
    for pid in pids:
        try:
            fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
        except OSError:
            continue
        total += int(fields[11]) + int(fields[12])
    return total / os.sysconf("SC_CLK_TCK")


def memory_mb(pids: list[int]) -> float:
    """Their proportional set size (PSS) together, in MB."""
    total = 0
    for pid in pids:
        try:
            found = re.search(r"^Pss:\s+(\d+) kB", Path(f"/proc/{pid}/smaps_rollup").read_text(), re.MULTILINE)
        except OSError:
            continue
        total += int(found[1]) if found else 0
    return total / 1024


def main() -> None:
    """Print the rows."""
    message = as_budgeted()
    sixteen = [CaptureRequest.of(rewrite(message, profiles()[name]), profiles()[name]) for name in usual()[:16]]
    browser = Browser()

    def take(requests: list[CaptureRequest]) -> None:
        taken: list[Capture] = []
        browser.capture_all(requests, lambda number, capture: isinstance(capture, Capture) and taken.append(capture) is None)
        assert len(taken) == len(requests)

    browser._wait(browser._start())
    devtools = browser._devtools
    assert devtools is not None
    time.sleep(1)
    started = memory_mb(family(devtools.pid))
    peak, done = started, threading.Event()

    def watch() -> None:
        nonlocal peak
        while not done.wait(0.05):
            peak = max(peak, memory_mb(family(devtools.pid)))

    watching = threading.Thread(target=watch)
    watching.start()
    for _ in range(3):
        take(sixteen)
    done.set()
    watching.join()
    for key in list(browser._pages):
        browser._wait(browser._discard(key))
    time.sleep(1)
    closed = memory_mb(family(devtools.pid))
    print(
        f"memory (PSS): started {started:.0f} MB, peak {peak / started:.1f} times (goal 6), pages closed {closed / started:.1f} (goal 2.5)"
    )

    take(sixteen)
    for _ in range(3):
        pids = [os.getpid(), *family(devtools.pid)]
        before, at = cpu_seconds(pids), time.perf_counter()
        take(sixteen)
        wall, used = time.perf_counter() - at, cpu_seconds(pids) - before
        print(f"use of the cores: 16 pictures in {wall:.2f} s, {used:.2f} CPU seconds, ratio {wall / (used / 2):.2f}, goal 1.3")

    with sync_playwright() as playwright:
        naive = playwright.chromium.launch(executable_path=find_executable(), chromium_sandbox=False)

        def new_context() -> None:
            request = sixteen[0]
            context = naive.new_context(viewport={"width": request.width, "height": request.first_screen}, offline=True)
            page = context.new_page()
            page.set_content(request.html)
            page.screenshot(full_page=True, type="jpeg", quality=80)
            context.close()

        compare("first picture from a warm worker", "JPEG in a new context", new_context, lambda: take(sixteen[:1]), 0.8, rounds=7)
        naive.close()
    browser.close()


if __name__ == "__main__":
    main()
