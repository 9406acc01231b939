"""Pictures of a message into a folder, and the renders that checks read."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

from jetwind.core.message import Message, Sample
from jetwind.core.profiles import Change, Profile, Rewriter, Rewritten, profiles
from jetwind.core.readers import as_reader
from jetwind.core.renders import Renders
from jetwind.core.renders.led_back import LedBack
from jetwind.core.source import SourceText
from jetwind.engines.bounded import REWRITING, BoundedRewriter, Helper, PastBudget
from jetwind.engines.browser import Browser, Capture, survey


def renders_of(message: Message, chosen: Sequence[str], reader: Sample | None) -> Renders:
    """The measurements of a message in these profiles, as a reader gets it; no pictures are made."""
    browser = Browser()
    merged = as_reader(message, reader) if reader is not None else None
    try:
        with Helper(merged.message if merged is not None else message, REWRITING, "fork") as helper:
            rewriter = BoundedRewriter(helper)
            pages, failed = _pages(rewriter, [profiles()[name] for name in chosen])
            found = survey(rewriter, pages, browser, "none", lambda profile_id, capture: True)
        if merged is not None:
            found = LedBack(message, merged).renders(found)
        return replace(found, failed={**failed, **found.failed}, untold=found.untold or next(iter(failed.values()), ""))
    finally:
        browser.close()


def render_to(
    message: Message, chosen: Sequence[str], out: Path, *, images: str, dark: bool, reader: Sample | None = None
) -> tuple[list[dict[str, Any]], list[str]]:
    """Write ``PROFILE.png`` for each profile; returns the facts of each render, and a sentence for each that failed.

    With a ``reader``, the message is rendered as that one gets it; places are those of the source all the same.
    """
    merged = as_reader(message, reader) if reader is not None else None
    places = _Places(message.html.source if message.html else None, LedBack(message, merged) if merged is not None else None)
    message = merged.message if merged is not None else message
    shown = [profiles()[name].shown(images="off" if images == "off" else None, night=True if dark else None) for name in chosen]
    with Helper(message, REWRITING, "fork") as helper:
        pages, failed = _pages(BoundedRewriter(helper), shown)
    facts: dict[str, dict[str, Any]] = {}
    failures = [f"{profile_id}: {reason}" for profile_id, reason in failed.items()]

    def done(profile_id: str, capture: Capture | Exception) -> bool:
        if isinstance(capture, Exception):
            failures.append(f"{profile_id}: {capture}")
        else:
            (out / f"{profile_id}.png").write_bytes(capture.image)
            facts[profile_id] = _facts(places, *pages[profile_id], capture)
        return True

    browser = Browser()
    try:
        browser.capture_all(*_asked(pages, done))
    finally:
        browser.close()
    return [facts[name] for name in chosen if name in facts], failures


def _asked(pages: dict[str, tuple[Profile, Rewritten]], done: Any) -> tuple[list[Any], Any]:
    from jetwind.engines.browser import CaptureRequest

    ids = list(pages)
    requests = [CaptureRequest.of(page, profile, "compare") for profile, page in pages.values()]
    return requests, lambda number, capture: done(ids[number], capture)


def _pages(rewriter: Rewriter, shown: Sequence[Profile]) -> tuple[dict[str, tuple[Profile, Rewritten]], dict[str, str]]:
    """The page of each profile, and why some have none."""
    pages: dict[str, tuple[Profile, Rewritten]] = {}
    failed: dict[str, str] = {}
    for profile in shown:
        try:
            pages[profile.id] = profile, rewriter(profile)
        except PastBudget as past:
            failed[profile.id] = f"The message cannot be rewritten for this client: {past}."
    return pages, failed


@dataclass(frozen=True)
class _Places:
    """Where changes stand in the message's own source, which for a merged message is not the one that was rendered."""

    source: SourceText | None
    led_back: LedBack | None

    def element(self, index: int) -> int:
        """The element of the message's own tree."""
        return self.led_back.element(index) if self.led_back is not None else index

    def of(self, changes: Sequence[Change]) -> list[dict[str, int | None]]:
        """The place of each change that has one."""
        spans = (change.span for change in changes if change.span is not None)
        own = [span for span in (self.led_back.span(span) if self.led_back is not None else span for span in spans) if span is not None]
        return [
            {"start": span.start, "end": span.end, "line": self.source.position(span.start).line if self.source else None} for span in own
        ]


def _facts(places: _Places, profile: Profile, page: Rewritten, capture: Capture) -> dict[str, Any]:
    measured = capture.measured
    width, height = profile.viewport
    return {
        "profile": profile.id,
        "name": profile.name,
        "file": f"{profile.id}.png",
        "images": profile.images if profile.images == "on" else "off",
        "dark": profile.is_night,
        "width": capture.width,
        "height": capture.height,
        "pixel_ratio": profile.pixel_ratio,
        "viewport": {"width": width, "height": height},
        "content_width": measured.content_width,
        "scale": round(measured.scale, 4),
        "without_font": list(measured.without_font),
        "cut": measured.cut,
        "clipped": page.clipped,
        "first_screen": round(measured.first_screen * measured.scale),
        **{kind: _told([change for change in page.changes if change.kind == kind], places) for kind in ("dropped", "altered", "added")},
        "boxes": [
            {
                "kind": block.kind,
                "element": places.element(block.element),
                **{name: round(getattr(block, name) * measured.scale, 1) for name in _BOX},
            }
            for block in measured.of("link", "image")
        ],
        "facts": {**measured.facts, "characters": measured.characters, "remote_pictures": len(page.lacking), "lacking": list(page.lacking)},
    }


_BOX = ("x", "y", "width", "height")


def _told(changes: list[Change], places: _Places) -> list[dict[str, Any]]:
    """Changes by feature, with their places in the message's own source."""
    counts = Counter((change.feature, change.title) for change in changes)
    return [
        {
            "feature": feature,
            "title": title,
            "count": count,
            "places": places.of([change for change in changes if (change.feature, change.title) == (feature, title)]),
        }
        for (feature, title), count in counts.items()
    ]
