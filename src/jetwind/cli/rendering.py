"""Pictures of a message into a folder."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal, cast

from jetwind.core.message import Message
from jetwind.core.profiles import profiles, rewrite
from jetwind.engines.browser import Browser, Capture, CaptureRequest


def render_to(message: Message, chosen: Sequence[str], out: Path, *, images: str, dark: bool) -> tuple[list[dict[str, Any]], list[str]]:
    """Write ``PROFILE.png`` for each profile; returns the facts of each render, and a sentence for each that failed."""
    rewritten = [rewrite(message, profiles()[name], cast(Literal["on", "off"], images)) for name in chosen]
    requests = [
        CaptureRequest(
            page.html,
            {digest: (part.content_type, part.data) for digest, part in page.parts.items()},
            profile.width,
            profile.first_screen,
            profile.pixel_ratio,
            dark=dark,
            lossless=True,
        )
        for name, page in zip(chosen, rewritten, strict=True)
        for profile in (profiles()[name],)
    ]
    captures: dict[int, Capture | Exception] = {}

    def done(number: int, capture: Capture | Exception) -> bool:
        captures[number] = capture
        return True

    browser = Browser()
    try:
        browser.capture_all(requests, done)
    finally:
        browser.close()
    facts: list[dict[str, Any]] = []
    failures: list[str] = []
    for number, name in enumerate(chosen):
        capture = captures[number]
        if isinstance(capture, Exception):
            failures.append(f"{name}: {capture}")
            continue
        (out / f"{name}.png").write_bytes(capture.image)
        profile, page = profiles()[name], rewritten[number]
        counts = Counter(item.feature for item in page.dropped)
        source = message.html.source if message.html else None
        facts.append(
            {
                "profile": name,
                "name": profile.name,
                "file": f"{name}.png",
                "images": images,
                "dark": dark,
                "width": capture.width,
                "height": capture.height,
                "pixel_ratio": profile.pixel_ratio,
                "content_width": capture.content_width,
                "cut": capture.cut,
                "first_screen": profile.first_screen,
                "dropped": [
                    {
                        "feature": feature,
                        "count": count,
                        "places": [
                            {
                                "start": item.span.start,
                                "end": item.span.end,
                                "line": source.position(item.span.start).line if source else None,
                            }
                            for item in page.dropped
                            if item.feature == feature
                        ],
                    }
                    for feature, count in counts.items()
                ],
                "boxes": [
                    {"kind": box.kind, "element": box.element, "x": box.x, "y": box.y, "width": box.width, "height": box.height}
                    for box in capture.boxes
                    if box.kind in ("link", "image")
                ],
                "facts": {**capture.facts, "remote_pictures": page.remote_pictures},
            }
        )
    return facts, failures
