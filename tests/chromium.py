"""Debian's Chromium as a second opinion, in a thread of its own: Playwright's loop may run in the test's thread already."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import TypeVar

from playwright.sync_api import Browser, sync_playwright

Answer = TypeVar("Answer")


def in_chromium(work: Callable[[Browser], Answer]) -> Answer:
    """What ``work`` answers, given an open browser."""

    def run() -> Answer:
        executable = shutil.which("chromium-headless-shell") or shutil.which("chromium")
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(executable_path=executable, args=["--no-sandbox"])
            try:
                return work(browser)
            finally:
                browser.close()

    with ThreadPoolExecutor(1) as pool:
        return pool.submit(run).result()
