"""Contrast and tap size against axe-core on real newsletters, element by element.

Source: axe-core (Deque), shipped by the package axe-playwright-python; rules color-contrast and target-size.
"""

from __future__ import annotations

from collections import Counter
from functools import lru_cache
from importlib.resources import files
from typing import Any

from jetwind.core.checks.access.contrast import faint
from jetwind.core.checks.access.size import small_targets
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import MARK_ATTRIBUTE, profiles, rewrite
from jetwind.core.renders import Render
from jetwind.engines.browser import CaptureRequest
from jetwind.engines.browser.measuring import read, script
from tests.chromium import in_chromium
from tests.references import newsletters

#: Newsletters that both are run over: every third of the readable half.
_TRIED = 40
_AXE = """async ([mark, rule]) => {
  const found = await axe.run(document, {runOnly: [rule], elementRef: true, resultTypes: ['violations', 'incomplete', 'passes']});
  const of = (list) => list.flatMap((one) => one.nodes).map((node) => +node.element.getAttribute(mark)).filter((number) => !Number.isNaN(number));
  return {violations: of(found.violations), incomplete: of(found.incomplete), passes: of(found.passes)};
}"""


@lru_cache
def answers() -> list[tuple[str, Message, str, Render, dict[str, set[int]]]]:
    """For each newsletter and rule, our measurement and what axe-core says of the same page."""
    axe = (files("axe_playwright_python") / "axe.min.js").read_text("utf-8")
    found: list[tuple[str, Message, str, Render, dict[str, set[int]]]] = []

    def work(browser: Any) -> None:
        for rule, profile in (("color-contrast", profiles()["desktop-pane"]), ("target-size", profiles()["phone-upright"])):
            width, height = profile.viewport
            page = browser.new_context(viewport={"width": width, "height": height}, offline=True).new_page()
            for name, data in newsletters()[: _TRIED * 2 : 2]:
                message = read_bytes(data, name)
                if message.html is None:
                    continue
                rewritten = rewrite(message, profile)
                page.set_content(rewritten.html, wait_until="load")
                measured = read(page.evaluate(script(), [MARK_ATTRIBUTE, False]), CaptureRequest.of(rewritten, profile, "none"))
                page.evaluate(axe)
                theirs = page.evaluate(_AXE, [MARK_ATTRIBUTE, rule])
                found.append((name, message, rule, Render(profile, measured), {key: set(value) for key, value in theirs.items()}))

    in_chromium(work)
    return found


#: Links on which the two differ, by newsletter and element. Why was not found out yet: ten that only axe-core flags, four that only we do.


#: Links that only we flag. Two (one newsletter, sent twice): the words after the neighbour overlap its lower edge by two px, which axe-core
#: takes off; the distance is then 12.2 px instead of 10.9. One: axe-core takes it as covered by the box around the two lines of the link
#: beside it, between which it stands, clear to see.
EXPLAINED = {("00015", 139), ("00084", 130), ("00167", 41)}


def compared(rule: str) -> tuple[Counter[str], dict[str, set[tuple[str, int]]]]:
    """How many elements both flag and both pass, and those that only one of the two flags."""
    counts: Counter[str] = Counter()
    differences: dict[str, set[tuple[str, int]]] = {"axe": set(), "Jetwind": set()}
    for name, message, tried, render, theirs in answers():
        if tried != rule or message.document is None:
            continue
        if rule == "color-contrast":
            ours = {index for pair in faint(message.document, [render]).values() for index in pair.elements}
            known = {block.element for block in render.measured.of("text") if block.ground is not None}
        else:
            ours = {block.element for block in small_targets(render.measured)}
            known = {block.element for block in render.measured.of("link")}
        for index in sorted((theirs["violations"] | theirs["passes"]) & known):
            both = (index in theirs["violations"], index in ours)
            counts[str(both)] += 1
            if both[0] != both[1]:
                differences["axe" if both[0] else "Jetwind"].add((name, index))
    return counts, differences


def test_contrast() -> None:
    """Of the elements that both can judge, both say the same of all."""
    counts, differences = compared("color-contrast")
    print(dict(counts))
    assert counts["(True, True)"] > 400
    assert differences == {"axe": set(), "Jetwind": set()}


def test_target_size() -> None:
    """The same for links under 24 px on a phone, but for the three that are explained."""
    counts, differences = compared("target-size")
    print(dict(counts))
    assert counts["(True, True)"] > 400
    assert differences["axe"] == set()
    # The words are set in the fonts of this machine: with others a link may come to lie a px further off.
    assert differences["Jetwind"] <= EXPLAINED
