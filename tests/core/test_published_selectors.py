"""Selectors against the W3C's own tests, as the source distribution of cssselect2 0.10.1 (BSD-3-Clause) carries them.

Jetwind matches selectors with turbohtml's engine, so cssselect2's collection is an outside reference for it.
"""

from __future__ import annotations

import importlib.util
from functools import lru_cache
from types import ModuleType

from jetwind.core.markup import Document, parse
from jetwind.core.styles.matching import specificity
from tests.references import sdist


@lru_cache
def collection() -> ModuleType:
    """The generated lists of selectors; plain data in a Python file."""
    path = sdist("cssselect2", "0.10.1") / "tests" / "w3_selectors.py"
    spec = importlib.util.spec_from_file_location("w3_selectors", path)
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def page() -> Document:
    """The collection's document, read as HTML."""
    text = (sdist("cssselect2", "0.10.1") / "tests" / "content.xhtml").read_text("utf-8")
    return parse(text)


def test_valid_selectors_hit_what_they_should() -> None:
    """Of the selectors for HTML, all but the listed kinds hit exactly the expected elements."""
    document = page()
    agree = 0
    other: dict[str, str] = {}
    for case in collection().valid_selectors:
        if set(case.get("exclude", ())) & {"document", "html"} or "namespace" in case["name"].lower() or "|" in case["selector"]:
            continue
        try:
            found = [element.get("id") for element in document.select(case["selector"])]
        except ValueError as refused:
            other[case["selector"]] = str(refused)[:60]
            continue
        if found == case["expect"]:
            agree += 1
        else:
            other[case["selector"]] = f"{found[:4]} for {case['expect'][:4]}"
    assert agree >= AGREE
    assert set(other) == DIFFERENT, {key: value for key, value in other.items() if key not in DIFFERENT}


def test_invalid_selectors_hit_nothing() -> None:
    """They are refused, and their rule is dropped, as CSS asks; namespaces, which mail has none of, are not judged."""
    document = page()
    taken = []
    for case in collection().invalid_selectors:
        if "namespace" in case["name"].lower():
            continue
        try:
            document.select(case["selector"])
        except ValueError:
            continue
        taken.append(case["selector"])
    assert set(taken) == TAKEN


def test_specificity() -> None:
    """Selectors 4 §17, the examples of the standard (from memory)."""
    for selector, expected in {
        "*": (0, 0, 0),
        "li": (0, 0, 1),
        "ul li": (0, 0, 2),
        "ul ol+li": (0, 0, 3),
        "h1 + *[rel=up]": (0, 1, 1),
        "ul ol li.red": (0, 1, 3),
        "li.red.level": (0, 2, 1),
        "#x34y": (1, 0, 0),
        "#s12:not(foo)": (1, 0, 1),
        "a:link": (0, 1, 1),
    }.items():
        assert specificity(selector) == expected, selector


AGREE = 175
#: What differs: the collection matches below its own root; pseudo-elements are left out before matching, and hit nothing;
#: no mail has a target; the engine follows Selectors 4, where white space leaves an element empty; and it wants brackets closed.
DIFFERENT = {
    "*",
    ":target",
    "#pseudo-empty p:empty",
    "#pseudo-empty :empty",
    '#attr-value [align="center"',
    "::slotted(foo)",
    "::slotted(foo",
}
DIFFERENT |= {f"#pseudo-element{colons}{name}" for colons in (":", "::") for name in ("first-line", "first-letter", "before", "after")}
#: A class that starts with a digit: taken, and hits nothing, since no class of a mail is so named.
TAKEN = {".5cm"}
