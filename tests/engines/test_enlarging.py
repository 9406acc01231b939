"""What is lost with text at 200 % (WCAG 2.2 SC 1.4.4), in the real browser."""

from __future__ import annotations

from collections.abc import Iterator

import pytest

from jetwind.core.message import read_bytes
from jetwind.core.profiles import REFERENCE, profiles, rewrite
from jetwind.core.renders.enlarged import Loss
from jetwind.engines.browser import Browser, CaptureRequest, enlargeable

WORDS = "Glazes fired on the long quay are back in every colour of the sea"


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """Debian's Chromium."""
    browser = Browser()
    yield browser
    browser.close()


def lost(browser: Browser, body: str, seconds: float = 20) -> list[tuple[str, str, str]] | None:
    """What is lost: the kind, and the first of class and tag of the text and of the other element."""
    message = read_bytes(f"<html lang=en><body>{body}</body></html>".encode(), "a.html")
    profile = profiles()[REFERENCE]
    found = browser.enlarged(CaptureRequest.of(rewrite(message, profile), profile, "none"), seconds)
    assert message.document is not None
    every = message.document.all_elements
    name = lambda index: every[index].get("class") or every[index].tag  # noqa: E731
    return [(one.kind, name(one.element), name(one.other)) for one in found] if found is not None else None


@pytest.mark.parametrize(
    "body",
    [
        f"<p style='font-size:16px;line-height:20px'>{WORDS}</p><p>{WORDS}</p>",
        # What grows with its text: cells, rows, min-height, a height on a cell, which is a least height (CSS 2.2 §17.5.3).
        f"<table width=300><tr><td style='height:20px;overflow:hidden'>{WORDS}</td></tr><tr><td>{WORDS}</td></tr></table>",
        f"<div style='min-height:20px;overflow:hidden'>{WORDS}</div><p>{WORDS}</p>",
        f"<table height=20 width=600><tr><td style='line-height:1'>{WORDS}</td></tr></table><p>{WORDS}</p>",
        # Hidden from everybody before: a preview text is not lost by larger type.
        f"<div style='max-height:0;overflow:hidden;font-size:1px;color:#fff'>{WORDS}</div><p>{WORDS}</p>",
        f"<div style='max-height:0;overflow:hidden'>{WORDS}</div><div style='display:none'>{WORDS}</div><p>{WORDS}</p>",
        # What is reached by scrolling.
        f"<div style='height:40px;overflow:auto'>{WORDS} {WORDS}</div>",
        # Lines that stand close, letters over letters that were so before.
        f"<h1 style='font-size:40px;line-height:0.9'>{WORDS} {WORDS}</h1>",
        f"<div style='position:relative;height:60px'><p>{WORDS}</p><p style='margin-top:-30px'>{WORDS}</p></div>",
        f"<p>{WORDS} <b>{WORDS}</b> <a href='https://kiln.org/'>{WORDS}</a></p>",
        "<a style='display:inline-block;width:160px;height:auto;text-align:center' href='https://kiln.org/'>All bowls and pots</a><p>Next</p>",
    ],
)
def test_what_grows_loses_nothing(browser: Browser, body: str) -> None:
    """Boxes that grow, what was hidden before, what can be scrolled to."""
    assert lost(browser, body) == []


@pytest.mark.parametrize(
    ("body", "wanted"),
    [
        (f"<div class=box style='height:24px;overflow:hidden'><p style='margin:0'>{WORDS}</p></div>", ("cut", "p", "box")),
        (f"<div class=box style='max-height:40px;overflow:hidden;width:500px'>{WORDS}</div>", ("cut", "box", "box")),
        ("<div class=box style='width:150px;overflow:hidden;white-space:nowrap'>All bowls and pots</div>", ("cut", "box", "box")),
        (f"<div class=one style='height:20px;width:500px'>{WORDS}</div><p class=two style='margin:0'>{WORDS}</p>", ("covers", "one", "two")),
        ("<a class=button style='display:block;height:40px;line-height:40px;overflow:hidden;width:200px' href='https://kiln.org/'>All bowls, pots</a>", ("cut", "button", "button")),
    ],
)  # fmt: skip
def test_boxes_that_do_not_grow(browser: Browser, body: str, wanted: tuple[str, str, str]) -> None:
    """Fixed heights and widths cut text off, or let it run over what comes next."""
    assert wanted in (lost(browser, body) or [])


def test_bounded(browser: Browser) -> None:
    """Thousands of texts on one spot end within the time given, and no more than 200 losses are told."""
    pile = "".join(f"<div style='height:0;line-height:0.2'>Pot {number}</div>" for number in range(4_000))
    found = lost(browser, pile)
    assert found is not None and len(found) <= 200
    assert lost(browser, "<p>Pot</p>", 0) is None


def test_which_profile() -> None:
    """The one that others are held against, else a desktop of the same kind of engine."""
    known = profiles()
    assert enlargeable(list(known.values())) == known[REFERENCE]
    others = [profile for profile in known.values() if profile.id != REFERENCE]
    other = enlargeable(others)
    assert other is not None and other.device == "desktop" and other.engine == "standards"
    assert enlargeable([profile for profile in others if profile.is_phone]) is None
    assert Loss.from_row(Loss("cut", 3, 2).as_row()) == Loss("cut", 3, 2)
