"""Contrast and tap size against axe-core on real newsletters, element by element.

Source: axe-core (Deque), shipped by the package axe-playwright-python; rules color-contrast and target-size.
"""

from __future__ import annotations

import re
from collections import Counter
from functools import lru_cache
from importlib.resources import files
from typing import Any

from jetwind.apps.demo import messages
from jetwind.core.checking import Context, registry, run_check
from jetwind.core.checks.access.contrast import faint
from jetwind.core.checks.access.size import small_targets
from jetwind.core.images import is_spacer
from jetwind.core.links.collect import accessible_name
from jetwind.core.message import Message, read_bytes
from jetwind.core.profiles import MARK_ATTRIBUTE, profiles, rewrite
from jetwind.core.renders import Render
from jetwind.engines.browser import CaptureRequest
from jetwind.engines.browser.measuring import read, script
from tests.chromium import in_chromium
from tests.references import newsletters

#: Newsletters that both are run over: every third of the readable half.
_TRIED = 40
#: Messages of the demo world, by the functions that write them.
_DEMO = ("clean_sale", "faulty_weekend", "autumn_sale", "pick_up_notice", "courses_letter")


def tried() -> list[tuple[str, bytes]]:
    """What both are run over: newsletters, and the demo's messages by name."""
    return [*newsletters()[: _TRIED * 2 : 2], *((name, getattr(messages, name)()) for name in _DEMO)]


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
            context = browser.new_context(viewport={"width": width, "height": height}, offline=True)
            for name, data in tried():
                message = read_bytes(data, name)
                if message.html is None:
                    continue
                rewritten = rewrite(message, profile)
                # A page of its own: what a message says of the colours of links would hold for the next one, sometimes.
                page = context.new_page()
                page.set_content(rewritten.html, wait_until="load")
                measured = read(page.evaluate(script(), [MARK_ATTRIBUTE, False]), CaptureRequest.of(rewritten, profile, "none"))
                page.evaluate(axe)
                theirs = page.evaluate(_AXE, [MARK_ATTRIBUTE, rule])
                found.append((name, message, rule, Render(profile, measured), {key: set(value) for key, value in theirs.items()}))
                page.close()

    in_chromium(work)
    return found


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
    assert counts["(True, True)"] > 80
    assert differences == {"axe": set(), "Jetwind": set()}


def test_target_size() -> None:
    """The same for links under 24 px on a phone, but for the three that are explained."""
    counts, differences = compared("target-size")
    print(dict(counts))
    assert counts["(True, True)"] > 400
    assert differences["axe"] == set()
    # The words are set in the fonts of this machine: with others a link may come to lie a px further off.
    assert differences["Jetwind"] <= EXPLAINED


#: axe-core's rules of tables; the last two are experimental and on only where they are asked for.
_OF_TABLES = ("scope-attr-valid", "td-headers-attr", "th-has-data-cells", "table-duplicate-name", "table-fake-caption", "td-has-header")
_RULES = ("image-alt", "link-name", "html-has-lang", "html-lang-valid", "document-title", "heading-order", *_OF_TABLES)
_AXE_OF_MARKUP = """async ([mark, rules]) => {
  const found = await axe.run(document, {runOnly: rules, elementRef: true, resultTypes: ['violations']});
  const of = (one) => one.nodes.map((node) => Number(node.element.getAttribute(mark) ?? -1));
  return Object.fromEntries(found.violations.map((one) => [one.id, of(one)]));
}"""


@lru_cache
def of_markup() -> list[tuple[str, Message, dict[str, set[int]]]]:
    """For each newsletter, the elements that axe-core flags under each rule that needs no layout."""
    axe = (files("axe_playwright_python") / "axe.min.js").read_text("utf-8")
    found: list[tuple[str, Message, dict[str, set[int]]]] = []

    def work(browser: Any) -> None:
        page = browser.new_context(viewport={"width": 1000, "height": 800}, offline=True, java_script_enabled=True).new_page()
        # What a message asks for is not there; that says nothing of its markup.
        page.route("**/*", lambda route: route.abort())
        for name, data in tried():
            message = read_bytes(data, name)
            if message.html is None or message.document is None:
                continue
            page.set_content(marked(message), wait_until="domcontentloaded")
            page.evaluate(axe)
            told = page.evaluate(_AXE_OF_MARKUP, [MARK_ATTRIBUTE, list(_RULES)])
            found.append((name, message, {rule: set(elements) for rule, elements in told.items()}))

    in_chromium(work)
    return found


def marked(message: Message) -> str:
    """The HTML with the index of each element as an attribute, its scripts taken out."""
    assert message.html is not None
    assert message.document is not None
    text, at = [], 0
    for element in sorted((one for one in message.document.all_elements if one.start_tag is not None), key=lambda one: one.start_tag.start):  # type: ignore[union-attr]
        assert element.start_tag is not None
        here = element.start_tag.start + 1 + len(element.tag)
        if here < at or message.html.text[element.start_tag.start : here].lower() != f"<{element.tag}":
            continue
        text += [message.html.text[at:here], f' {MARK_ATTRIBUTE}="{element.index}" ']
        at = here
    text.append(message.html.text[at:])
    return re.sub(r"(?is)<script\b.*?</script>", "", "".join(text))


def ours(message: Message, check_id: str) -> set[int]:
    """The elements at which a check finds something; -1 for the message as a whole."""
    found = run_check(registry()[check_id], message, Context()).findings
    return {place.element if place.element is not None else -1 for finding in found for place in finding.places}


def differing(rule: str, check_id: str) -> tuple[int, dict[str, set[tuple[str, int]]]]:
    """At how many elements both find something, and those that one alone flags, by newsletter."""
    both, alone = 0, {"axe": set[tuple[str, int]](), "Jetwind": set[tuple[str, int]]()}
    for name, message, theirs in of_markup():
        they, we = theirs.get(rule, set()), ours(message, check_id)
        both += len(they & we)
        alone["axe"] |= {(name, element) for element in they - we}
        alone["Jetwind"] |= {(name, element) for element in we - they}
    print(rule, check_id, both, alone)
    return both, alone


#: One picture with alt=" ": axe-core counts white space as no alternative text, HTML §4.8.4.4 lets it be one; it is no missing attribute.
BLANK = {("00127", 107)}
#: A picture in its link inside noscript: axe-core runs where scripts are on, mail is read where they are off.
WITHOUT_SCRIPTS = {("00135", 39)}


def test_alternative_text() -> None:
    """image-alt: the same pictures, but for those of 1 to 3 px, which the catalogue lets pass and axe-core does not."""
    both, alone = differing("image-alt", "access.alt-missing")
    messages = {name: message for name, message, _ in of_markup()}
    seen = set()
    for name, element in alone["axe"]:
        document = messages[name].document
        assert document is not None
        if not is_spacer(messages[name], document.all_elements[element]):
            seen.add((name, element))
    assert (both > 250, seen, alone["Jetwind"]) == (True, BLANK, WITHOUT_SCRIPTS)


def test_whole_messages() -> None:
    """html-has-lang with html-lang-valid, and document-title: by newsletter."""
    for rules, check_id in ((("html-has-lang", "html-lang-valid"), "access.lang-missing"), (("document-title",), "access.title-missing")):
        they = {name for name, _, theirs in of_markup() if any(theirs.get(rule) for rule in rules)}
        we = {name for name, message, _ in of_markup() if ours(message, check_id)}
        print(rules, len(they & we), they - we, we - they)
        assert they == we


def test_headings() -> None:
    """heading-order; that a message has no heading at all is another rule of axe-core's, and one of the page."""
    both, alone = differing("heading-order", "access.headings")
    alone["Jetwind"] = {(name, element) for name, element in alone["Jetwind"] if element >= 0}
    assert (both, alone) == (0, {"axe": set(), "Jetwind": set()})


def test_linked_pictures() -> None:
    """link-name, of links that hold a picture."""
    they, we = set(), set()
    for name, message, theirs in of_markup():
        assert message.document is not None
        elements = message.document.all_elements
        they |= {(name, number) for number in theirs.get("link-name", ()) if any(True for _ in elements[number].elements("img"))}
        empty = [elements[number] for check_id in ("access.alt-link-empty", "access.alt-missing") for number in ours(message, check_id)]
        links = [next((place for place in image.ancestors() if place.tag == "a"), None) for image in empty]
        we |= {(name, link.index) for link in links if link is not None and link.get("href") is not None and not accessible_name(link)}
    print(len(they & we), they - we, we - they)
    assert (they - we, we - they) == (set(), {(name, element - 1) for name, element in WITHOUT_SCRIPTS})


def test_tables() -> None:
    """Rules of tables: headers, scopes and captions that are there are in order, says axe-core, and we have no check of them.

    The two experimental rules take tables of forty newsletters for data without a caption or headers. Each of these tables is flagged by
    access.table-role, too, as one that lays out and is read as a table; who is right about what it is makes no difference to its reader.
    """
    flagged = {(name, element) for name, message, _ in of_markup() for element in ours(message, "access.table-role")}
    told = {rule: {(name, element) for name, _, theirs in of_markup() for element in theirs.get(rule, ())} for rule in _OF_TABLES}
    print({rule: len(places) for rule, places in told.items()}, len(flagged))
    assert [len(told[rule]) for rule in _OF_TABLES[:4]] == [0, 0, 0, 0]
    suspected = told["table-fake-caption"] | told["td-has-header"]
    assert len(suspected) > 10
    assert suspected <= flagged
