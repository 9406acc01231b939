"""Losses in a real Chromium: which places show, how they are told together, and that what is advised helps."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

import pytest

from jetwind.core.checking import Context, Finding, run
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import profiles, rewrite
from jetwind.core.renders import Renders
from jetwind.engines.browser import Browser, survey

CHECKS = ("appearance.css-unsupported", "appearance.html-unsupported")
#: What facts/loss_mends.toml advises, tried: the feature, a client that lacks it, a message that uses it, and the message as advised.
#: A cell that says "Left" and one that says "Right" stand for two columns.
TRIED: dict[str, tuple[str, str, str, str]] = {
    "margin in padding": (
        "css-margin",
        "word-processor",
        '<p>Four <span style="margin-left:90px">bowls</span></p>',
        '<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Four</td><td style="padding-left:90px">bowls</td></tr></table>',
    ),
    "padding on a cell": (
        "css-padding",
        "word-processor",
        '<div style="padding:40px">Four bowls</div><p>Come</p>',
        '<table role="presentation" cellpadding="0" cellspacing="0"><tr><td style="padding:40px">Four bowls</td></tr></table><p>Come</p>',
    ),
    "columns in cells": (
        "css-float",
        "word-processor",
        '<div style="float:left;width:200px">Left</div><div style="float:left;width:200px">Right</div>',
        '<table role="presentation" cellpadding="0" cellspacing="0"><tr><td width="200">Left</td><td width="200">Right</td></tr></table>',
    ),
    "flex in cells": (
        "css-display",
        "word-processor",
        '<div style="display:flex"><div>Left of the kiln</div><div>Right of the kiln</div></div>',
        '<table role="presentation" cellpadding="0" cellspacing="0"><tr><td>Left of the kiln</td><td>Right of the kiln</td></tr></table>',
    ),
    "sheet in attributes": (
        "html-style",
        "webmail-bare",
        "<style>.a { font-size: 30px; padding: 20px }</style><p class=a>Four bowls</p><p>Come</p>",
        '<p style="font-size: 30px; padding: 20px">Four bowls</p><p>Come</p>',
    ),
    "body on a wrapper": (
        "html-body",
        "webmail-wide",
        "<style>body { padding: 120px; font-size: 30px }</style><body><p>Four bowls</p></body>",
        '<body><div style="padding:120px;font-size:30px"><p>Four bowls</p></div></body>',
    ),
    "unit in px before it": (
        "css-unit-rem",
        "webmail-columns",
        '<p style="padding:3rem">Four bowls</p><p>Come</p>',
        '<p style="padding:48px;padding:3rem">Four bowls</p><p>Come</p>',
    ),
    "width of a table": (
        "css-max-width",
        "word-processor",
        '<div style="max-width:300px">Four glazed bowls of the kiln that was fired in the spring of this year</div>',
        '<!--[if mso]><table role="presentation" width="300" cellpadding="0" cellspacing="0"><tr><td><![endif]-->'
        '<div style="max-width:300px">Four glazed bowls of the kiln that was fired in the spring of this year</div>'
        "<!--[if mso]></td></tr></table><![endif]-->",
    ),
}


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """One browser for all tests here."""
    made = Browser(patience_ms=5000)
    yield made
    made.close()


def message_of(body: str) -> Message:
    """A message of this body."""
    return read_bytes(f"<!doctype html><html lang=en><title>x</title>{body}</html>".encode(), "x.html")


def surveyed(message: Message, browser: Browser, *names: str) -> Renders:
    """What is measured in these profiles."""
    chosen = [profiles()[name] for name in names]
    pages = {one.id: (one, rewrite(message, one)) for one in chosen}
    return survey(partial(rewrite, message), pages, browser, "none", lambda name, capture: True)


def told(message: Message, renders: Renders) -> list[Finding]:
    """What the two checks find."""
    return [finding for one in run(message, Context(renders=renders), CHECKS) for finding in one.findings]


@pytest.mark.parametrize("name", TRIED)
def test_what_is_advised_helps(name: str, browser: Browser) -> None:
    """The loss shows in the message, and no loss moves anything in the message as advised."""
    feature, profile, before, after = TRIED[name]
    renders = surveyed(message_of(before), browser, profile)
    assert renders.shown is not None
    assert feature in {one.feature for one in renders.shown if one.effect == "layout"}
    mended = surveyed(message_of(after), browser, profile)
    assert mended.shown is not None
    assert [one.feature for one in mended.shown if one.effect == "layout"] == []


def test_only_the_places_that_show(browser: Browser) -> None:
    """Forty paragraphs have a padding that shows nowhere, and three one that does."""
    plain = '<p style="padding:1px 0">Come to the kiln</p>'
    wide = '<p style="padding:60px 0 60px 90px">Four bowls</p>'
    message = message_of(f"<div>{plain * 20}{wide}{plain}{wide}{plain}{wide}{plain * 18}</div>")
    (finding,) = [one for one in told(message, surveyed(message, browser, "word-processor")) if "css-padding" in one.listed("features")]
    assert message.html is not None
    text = message.html.text
    places = [text[place.start.offset : place.end.offset] for place in finding.places if place.start is not None and place.end is not None]
    assert sum("60px" in place for place in places) == 3
    assert len(places) < 12, "a neighbour of what moved may be among them, and no more"
