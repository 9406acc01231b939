"""Colours of all spaces, as the core computes them and as they are measured on a page: two ways that know nothing of each other."""

from __future__ import annotations

import pytest

from jetwind.core.profiles import MARK_ATTRIBUTE
from jetwind.engines.browser import Browser, CaptureRequest
from tests.core.test_colours import PUBLISHED, corpus, value


def test_wide_colours_are_measured_as_the_browser_paints_them() -> None:
    """Source: Chromium. The colour of letters and of grounds in every space, measured on the page, is that of the core within one of 255."""
    values = [text for text, _ in PUBLISHED] + [text for text, is_valid in corpus()[::40] if is_valid and not text.startswith("-")]
    told = [(text, value(text)) for text in values]
    told = [(text, found[1]) for text, found in told if found[0] == "colour" and found[1][3] == 1]
    assert len(told) > 100
    html = "<!doctype html>" + "".join(
        f'<p {MARK_ATTRIBUTE}="{number}" style="color: {text}; background-color: {text}">Kiln</p>' for number, (text, _) in enumerate(told)
    )
    browser = Browser()
    try:
        measured = browser.capture(CaptureRequest(html, {}, 600, 400, picture="none")).measured
    finally:
        browser.close()
    blocks = {block.element: block for block in measured.blocks}
    for number, (text, wanted) in enumerate(told):
        block = blocks[number]
        assert block.colour is not None, text
        assert block.ground is not None, text
        assert block.colour[:3] == pytest.approx(wanted[:3], abs=1.01), text
        assert block.ground[:3] == pytest.approx(wanted[:3], abs=1.01), text
