"""Sixteen pictures against sixteen new Playwright contexts with PNG, one by one; one profile more; which losses show; a difference.

PYTHONPATH=src .jetwind/venv/bin/python -m benchmarks.renders
"""

from __future__ import annotations

import io
import time

from PIL import Image
from playwright.sync_api import sync_playwright

from benchmarks.common import compare
from benchmarks.static_review import message_of
from jetwind.core.images.difference import difference
from jetwind.core.message import read_bytes
from jetwind.core.profiles import profiles, rewrite, usual
from jetwind.engines.browser import Browser, Capture, CaptureRequest, losses_shown
from jetwind.engines.browser.chromium import find_executable


def main() -> None:
    """Print the rows."""
    message = read_bytes(message_of(20), "a.eml")
    chosen = [profiles()[name] for name in usual()][:17]
    pages = {profile.id: rewrite(message, profile) for profile in chosen}
    sixteen = [CaptureRequest.of(pages[profile.id], profile) for profile in chosen[:16]]
    lossless = [CaptureRequest.of(pages[profile.id], profile, "compare") for profile in chosen[:16]]
    more = [*sixteen, CaptureRequest.of(pages[chosen[16].id], chosen[16])]
    browser = Browser()

    def take(requests: list[CaptureRequest]) -> list[Capture]:
        taken: list[Capture] = []
        browser.capture_all(requests, lambda number, capture: isinstance(capture, Capture) and taken.append(capture) is None)
        assert len(taken) == len(requests)
        return taken

    take(sixteen)
    with sync_playwright() as playwright:
        naive = playwright.chromium.launch(executable_path=find_executable(), chromium_sandbox=False)

        def one_by_one() -> None:
            for request in sixteen:
                context = naive.new_context(
                    viewport={"width": request.width, "height": request.first_screen}, device_scale_factor=request.pixel_ratio, offline=True
                )
                page = context.new_page()
                page.set_content(request.html)
                page.screenshot(full_page=True)
                context.close()

        compare("16 pictures to look at, measured too", "new contexts, PNG", one_by_one, lambda: take(sixteen), 0.20, rounds=3)
        compare("16 lossless pictures to compare", "new contexts, PNG", one_by_one, lambda: take(lossless), 0.30, rounds=3)
        naive.close()
    compare("one profile added", "16 pictures", lambda: take(sixteen), lambda: take(more), 1.12, rounds=5)
    compare(
        "which losses show, 16 profiles",
        "16 pictures",
        lambda: take(sixteen),
        lambda: losses_shown(message, pages, chosen[:16], browser),
        2.0,
        rounds=3,
    )
    one, other = take(lossless[:1] * 2)

    def decode() -> None:
        for picture in (one, other):
            Image.open(io.BytesIO(picture.image)).convert("RGB")

    compare(
        "difference of two captures",
        "decoding both",
        decode,
        lambda: difference(one.image, one.width, other.image, other.width),
        1.3,
        rounds=5,
    )
    started = time.perf_counter()
    for profile in chosen[:16]:
        rewrite(message, profile)
    print(
        f"sixteen rewrites of {len(message.html.text) if message.html else 0:,} characters: {(time.perf_counter() - started) * 1000:.0f} ms"
    )
    browser.close()


if __name__ == "__main__":
    main()
