"""Sixteen pictures against sixteen new Playwright contexts with PNG, one by one; one profile more; which losses show; a difference.

PYTHONPATH=src .jetwind/venv/bin/python -m benchmarks.renders
"""

from __future__ import annotations

import io
import time
from collections.abc import Mapping
from functools import partial
from pathlib import Path

from PIL import Image, ImageFilter, ImageOps
from playwright.sync_api import Route, sync_playwright

from benchmarks.common import compare
from benchmarks.static_review import message_of
from jetwind.core.images.difference import difference
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import profiles, rewrite, usual
from jetwind.engines.browser import Browser, Capture, CaptureRequest, losses_shown
from jetwind.engines.browser.executable import find_executable
from tests.factories import GOOD_HTML, package

#: The message that the budget was measured on, by its description: 60 KB, 414 elements, 154 selectors, 231 style attributes, 8 photographs.
_PARAGRAPH = (
    '<p style="margin:0 0 8px;padding:0;font-family:Georgia,Times,serif;font-size:15px;line-height:22px;color:#1b2430;text-align:left;'
    'mso-line-height-rule:exactly"><b style="font-weight:bold;color:#b93c0a;text-decoration:none;letter-spacing:0">Pale green</b> over '
    '<i class="k{0} glaze firing">texture</i>, <span class="k{0} c1 glaze-colour-of-the-week">pools where it is thick</span></p>\n'
)
_CELL = (
    '<td class="c{0}" width="290" valign="top" style="padding:0 5px 14px"><a href="https://www.kiln.org/glaze/{0}" style="color:#1f5f8b">'
    '<img src="{0}.jpg" width="280" height="260" alt="Bowl {0}" style="display:block"></a>{1}</td>'
)


def as_budgeted() -> Message:
    """That message, about 3,000 px tall at 600 px."""
    styles = "".join(f".c{n % 8} .k{n} {{ padding: 0; color: #1b2430; background: #f{n % 10}f6ee }} " for n in range(154))
    cells = [_CELL.format(number, "".join(_PARAGRAPH.format(number * 12 + line) for line in range(12))) for number in range(8)]
    rows = "".join(f"<tr>{cells[number]}{cells[number + 1]}</tr>" for number in range(0, 8, 2))
    table = f'<table role="presentation" width="600" align="center" cellpadding="0" cellspacing="0">{rows}</table>'
    html = GOOD_HTML.replace("</head>", f"<style>{styles}</style></head>").replace("</body>", f"{table}</body>")
    # Soft and full of colours, as photographs are: a PNG of the page has 1 MB, as in the budget.
    bands = [Image.effect_noise((150, 120), 120).filter(ImageFilter.GaussianBlur(1)) for _ in range(3)]
    photograph = Image.merge("RGB", [ImageOps.autocontrast(band) for band in bands]).resize((1200, 960), Image.Resampling.BICUBIC)
    out = io.BytesIO()
    photograph.save(out, "JPEG", quality=80)
    return read_bytes(package(html, **{f"{number}_dot_jpg": out.getvalue() for number in range(8)}), "a.zip")


#: Beside it a short one of the demo (about 1,100 px), and one of 20 KB of rows that is cut at 12,000 px.
MESSAGES = {
    "as budgeted": as_budgeted,
    "short": lambda: read_bytes(Path("src/jetwind/apps/demo/files/spring-glaze-sale.html").read_bytes(), "a.html"),
    "tall": lambda: read_bytes(message_of(20), "a.eml"),
}


def main() -> None:
    """Print the rows for each message."""
    for name, make in MESSAGES.items():
        print(f"-- {name}")
        rows(make())


def rows(message: Message) -> None:
    """Print the rows for one message."""
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

    def one_by_one() -> None:
        for request in sixteen:
            context = naive.new_context(
                viewport={"width": request.width, "height": request.first_screen}, device_scale_factor=request.pixel_ratio
            )
            page = context.new_page()
            page.route("**/*", partial(serve, request.parts))
            page.set_content(request.html)
            page.screenshot(full_page=True)
            context.close()

    def serve(parts: Mapping[str, tuple[str, bytes]], route: Route) -> None:
        content_type, data = parts.get(route.request.url.rpartition("/")[2], ("", b""))
        route.fulfill(body=data, content_type=content_type, status=200 if data else 404)

    html = message.html.text if message.html else ""
    print(f"{len(html):,} characters, {len(list(message.document.all_elements)) if message.document else 0} elements")
    take(sixteen)
    with sync_playwright() as playwright:
        naive = playwright.chromium.launch(executable_path=find_executable(), chromium_sandbox=False)
        compare("16 pictures to look at, measured too", "new contexts, PNG", one_by_one, lambda: take(sixteen), 0.20, rounds=5)
        compare("16 lossless pictures to compare", "new contexts, PNG", one_by_one, lambda: take(lossless), 0.30, rounds=5)
        naive.close()
    compare("one profile added", "16 pictures", lambda: take(sixteen), lambda: take(more), 1.12, rounds=5)
    compare(
        "which losses show, 16 profiles",
        "16 pictures",
        lambda: take(sixteen),
        lambda: losses_shown(partial(rewrite, message), pages, chosen[:16], browser),
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
    compare(
        "difference with its map drawn and coded",
        "decoding both",
        decode,
        lambda: difference(one.image, one.width, other.image, other.width).drawn(),
        2.0,
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
