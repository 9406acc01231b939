"""What a screen reader says, from the browser's own accessibility tree."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

import pytest

from jetwind.core.message import read_bytes
from jetwind.core.profiles import REFERENCE, profiles, rewrite
from jetwind.core.renders.spoken import Spoken
from jetwind.engines.browser import Browser, CaptureRequest
from jetwind.engines.browser.listening import MOST_SAID, MOST_WORDS, read

PAGE = """<html lang="en"><body><table role="presentation"><tr><td><h1>Spring <a href="https://k.org/">glazes</a></h1>
<p>Hello <b>Bo</b>, <span>come</span> &amp;<br>see.</p><img src="cid:a" alt="A pot"><img src="cid:b" alt=""><img src="cid:c" width="30" height="30">
<a href="https://k.org/u"><img src="cid:d" alt="Shop"></a></td></tr></table>
<table><tr><th>Glaze</th><th>°C</th></tr><tr><td>Ash</td><td>1,280</td></tr></table><table><tr><td>Lay</td><td>out</td></tr></table><table role="presentation"><tr><td>One</td></tr><tr><td>two</td></tr></table>
<h3>Next</h3><ul><li lang="de">Eins</li><li>Two</li></ul><hr><div style="display:none">Hidden</div><p aria-hidden="true">Nor this</p></body></html>"""


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    """Debian's Chromium."""
    browser = Browser()
    yield browser
    browser.close()


def heard(browser: Browser, html: str, seconds: float = 20) -> tuple[Spoken, ...] | None:
    """What is said of some HTML in the reference profile."""
    profile = profiles()[REFERENCE]
    return browser.spoken(CaptureRequest.of(rewrite(read_bytes(html.encode(), "a.html"), profile), profile, "none"), seconds)


def test_order_roles_and_languages(browser: Browser) -> None:
    """Headings with levels, links and pictures by name, layout tables flattened, data tables and lists told; what is hidden is not said."""
    said = heard(browser, PAGE)
    assert said is not None
    assert [(one.role, one.words, one.level, one.language) for one in said] == [
        ("heading", "Spring glazes", 1, "en"),
        ("link", "glazes", 0, "en"),
        ("text", "Hello Bo, come & see.", 0, "en"),
        ("image", "A pot", 0, "en"),
        ("image", "", 0, "en"),
        ("link", "Shop", 0, "en"),
        ("table", "", 0, "en"),
        ("text", "Glaze", 0, "en"),
        ("text", "°C", 0, "en"),
        ("text", "Ash", 0, "en"),
        ("text", "1,280", 0, "en"),
        ("text", "Lay", 0, "en"),
        ("text", "out", 0, "en"),
        ("text", "One", 0, "en"),
        ("text", "two", 0, "en"),
        ("heading", "Next", 3, "en"),
        ("list", "2 items", 0, "en"),
        ("text", "Eins", 0, "de"),
        ("text", "Two", 0, "en"),
        ("line", "", 0, "en"),
    ]
    document = read_bytes(PAGE.encode(), "a.html").document
    assert document is not None
    tags = {"heading": ("h1", "h3"), "link": ("a",), "image": ("img",), "list": ("ul",), "table": ("table",), "line": ("hr",)}
    for one in said:
        assert document.all_elements[one.element].tag in tags.get(one.role, ("p", "b", "span", "th", "td", "li")), one


def test_limits(browser: Browser) -> None:
    """No more is kept than anybody reads; no time, no answer; the next page is rendered as before."""
    said = heard(browser, "".join(f"<p>Pot {number}</p>" for number in range(MOST_SAID + 300)))
    assert said is not None
    assert len(said) == MOST_SAID
    assert heard(browser, PAGE, seconds=0) is None
    after = heard(browser, "<p>x</p>")
    assert after is not None
    assert [(one.role, one.words) for one in after] == [("text", "x")]


def test_no_tree() -> None:
    """Nothing is said of nothing."""
    assert read([], [], "data-x") == ()


def node(number: str, role: str, name: str = "", children: tuple[str, ...] = (), place: int = 0, **more: Any) -> dict[str, Any]:
    """A node of an accessibility tree, as the browser gives it."""
    return {
        "nodeId": number,
        "role": {"value": role},
        "name": {"value": name},
        "childIds": list(children),
        "backendDOMNodeId": place,
        **more,
    }


class TestReading:
    """Trees as a browser may give them, without one."""

    DOM = (
        {"nodeId": 3, "parentId": 2, "backendNodeId": 30, "localName": "p", "attributes": ["data-x", "7"]},
        {"nodeId": 2, "parentId": 1, "backendNodeId": 20, "localName": "body", "attributes": ["lang", "fr", "data-x", "2"]},
        {"nodeId": 1, "backendNodeId": 10, "localName": "html", "attributes": ["lang", "en", "data-x", "no number"]},
        {"nodeId": 4, "parentId": 3, "backendNodeId": 40, "localName": "", "nodeValue": "x"},
    )

    def test_places_and_languages(self) -> None:
        """Of the nearest element that has them, whatever the order in which the elements come."""
        tree = [
            node("1", "RootWebArea", children=("2",)),
            node("2", "paragraph", children=("3",), place=30),
            node("3", "StaticText", "x", place=40),
        ]
        assert read(tree, self.DOM, "data-x") == (Spoken("text", "x", 0, "fr", 7),)

    def test_what_is_ignored_still_holds_others(self) -> None:
        """An ignored box says nothing itself; children that are named and not there are passed over."""
        tree = [
            node("1", "RootWebArea", children=("2", "9")),
            node("2", "none", "unheard", children=("3", "4"), ignored=True),
            node("3", "image", "A pot"),
            node("4", "image", "unheard", ignored=True),
        ]
        assert [(one.role, one.words) for one in read(tree, (), "data-x")] == [("image", "A pot")]

    def test_headings_and_controls(self) -> None:
        """A heading says its words once, and the links in it; a control is read in one go."""
        tree = [
            node("1", "RootWebArea", children=("2", "6")),
            node("2", "heading", "Pots here", children=("3", "4"), properties=[{"name": "level", "value": {"value": 2}}]),
            node("3", "StaticText", "Pots "),
            node("4", "link", "here", children=("5",)),
            node("5", "StaticText", "here"),
            node("6", "button", "Send", children=("7",)),
            node("7", "StaticText", "Send"),
        ]
        assert [(one.role, one.words, one.level) for one in read(tree, (), "data-x")] == [
            ("heading", "Pots here", 2),
            ("link", "here", 0),
            ("button", "Send", 0),
        ]

    def test_long_words_are_cut(self) -> None:
        """A text of a million characters is kept as its beginning."""
        (one,) = read([node("1", "RootWebArea", children=("2",)), node("2", "StaticText", "word " * 200_000)], (), "data-x")
        assert len(one.words) <= MOST_WORDS

    def test_kept_and_read_again(self) -> None:
        """As rows of plain values."""
        one = Spoken("heading", "Töpfe", 2, "de", 9)
        assert Spoken.from_row(json.loads(json.dumps(one.as_row()))) == one
