"""Six renders with kept pages against six new Playwright contexts with PNG, one by one.

PYTHONPATH=src .jetwind/venv/bin/python -m benchmarks.renders
"""

from __future__ import annotations

from playwright.sync_api import sync_playwright

from benchmarks.common import compare
from benchmarks.static_review import message_of
from jetwind.core.message import read_bytes
from jetwind.core.profiles import profiles, rewrite
from jetwind.engines.browser import Browser, CaptureRequest
from jetwind.engines.browser.chromium import find_executable


def main() -> None:
    """Print the row."""
    message = read_bytes(message_of(20), "a.eml")
    requests = [
        CaptureRequest(rewrite(message, profile, images).html, {}, profile.width, profile.first_screen, profile.pixel_ratio, dark=dark)
        for images, dark in (("on", False), ("off", False), ("on", True))
        for profile in profiles().values()
    ]
    browser = Browser()
    browser.capture(requests[0])
    with sync_playwright() as playwright:
        naive = playwright.chromium.launch(executable_path=find_executable(), chromium_sandbox=False)

        def one_by_one() -> None:
            for request in requests:
                context = naive.new_context(
                    viewport={"width": request.width, "height": request.first_screen}, device_scale_factor=request.pixel_ratio, offline=True
                )
                page = context.new_page()
                page.set_content(request.html)
                page.screenshot(full_page=True)
                context.close()

        # The goal of 0.20 is for sixteen pictures; six share their two pages less, so it is the harder one here.
        compare(
            "six pictures to look at",
            "new contexts, PNG",
            one_by_one,
            lambda: browser.capture_all(requests, lambda number, capture: True),
            0.20,
            rounds=3,
        )
        naive.close()
    browser.close()


if __name__ == "__main__":
    main()
