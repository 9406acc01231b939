"""Computed values of some twenty properties for every element, without a browser.

Order follows CSS Cascade 4 §6; presentational attributes count as the weakest author rules (HTML §15.1). A value that cannot be
known here (a variable, a calculation, a merge field) is None: a check that asks cannot tell, and must say so.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cached_property
from typing import TypeGuard

from jetwind.core.facts import table
from jetwind.core.facts.tables import UserAgent
from jetwind.core.fields import tokens
from jetwind.core.markup import Document, Element
from jetwind.core.styles.colours import legacy_colour
from jetwind.core.styles.declarations import declarations
from jetwind.core.styles.matching import Match, matches
from jetwind.core.styles.media import Medium, applies
from jetwind.core.styles.properties import INHERITED, INITIAL, PROPERTIES
from jetwind.core.styles.values import Parsed, expand
from jetwind.core.styles.wide_colours import Rgba

#: public identifiers that put a document into quirks mode (HTML §13.2.6.4.1, the usual ones of mail; from memory).
_QUIRKS_DOCTYPE = re.compile(
    r"\s*(?:<!--.*?-->\s*)*<!doctype\s+html\s+public\s+[\"'](?:-//W3C//DTD HTML (?:3|4\.0(?!1))[^\"']*|-//W3C//DTD HTML 4\.01 (?:Transitional|Frameset)//[^\"']*[\"']\s*>|[-+]//(?:IETF|SoftQuad|W3O|Netscape|Microsoft|AS|O'Reilly|Spyglass|SQ|Sun|WebTechs|Metrius|Silmaril|AdvaSoft)[^\"']*|html\b)",
    re.IGNORECASE | re.DOTALL,
)
_GROUNDS = frozenset(["body", "table", "thead", "tbody", "tfoot", "tr", "td", "th"])
_FONT_SIZES = ("x-small", "small", "medium", "large", "x-large", "xx-large", "xxx-large")
_ALIGNED = frozenset(["div", "p", "td", "th", "tr", "tbody", "thead", "tfoot"])
_NOT_BLOCKIFIED = frozenset(["none", "contents", "block", "table", "flex", "grid", "list-item", "flow-root", "-webkit-box"])

#: A computed value: a word, a number (of px where the property is a length), a colour, names of families, a kind and its number, or None
#: where it cannot be told.
Computed = str | float | Rgba | tuple[str, ...] | tuple[str, float] | None
Values = dict[str, Computed]


def is_quirky(document: Document) -> bool:
    """Whether browsers lay the document out in quirks mode (HTML §13.2.6.4.1)."""
    return not document.has_doctype or bool(_QUIRKS_DOCTYPE.match(document.source.text[:2000]))


class ComputedStyles:
    """The computed values of one document on one medium."""

    def __init__(self, document: Document, medium: Medium | None = None) -> None:
        self._document = document
        self._medium = medium or Medium()
        self._quirks = is_quirky(document)

    def value(self, element: Element, name: str) -> str | None:
        """The computed value as CSSOM writes it, or None where it cannot be told.

        Raises:
            KeyError: a property that is not computed here.
        """
        return _written(name, self._all[element.index][name])

    def colour(self, element: Element, name: str = "color") -> tuple[int, int, int, float] | None:
        """Red, green, blue (0 to 255) and alpha (0 to 1), or None where they cannot be told."""
        found = self._all[element.index][name]
        return found if is_colour(found) else None

    def px(self, element: Element, name: str) -> float | None:
        """A length in px; None for a keyword, a percentage, or what cannot be told."""
        found = self._all[element.index][name]
        return found if isinstance(found, float) else None

    @cached_property
    def _matches(self) -> dict[int, list[Match]]:
        return matches(self._document)

    @cached_property
    def _all(self) -> list[Values]:
        found: list[Values] = []
        agent = table("user_agent", UserAgent)
        elements, quirks = agent["elements"], agent["quirks"]
        root_size = 16.0
        for element in self._document.all_elements:
            parent = found[element.parent.index] if element.parent is not None else None
            own = self._specified(element, elements.get(element.tag), quirks.get(element.tag) if self._quirks else None)
            if element.tag == "table" and self._quirks and "color" not in own and self._document.body.index < len(found):
                # In quirks mode a table takes the body's colour, not that of what is around it (HTML §15.3.10).
                ink = found[self._document.body.index]["color"]
                own["color"] = ("colour", ink) if is_colour(ink) else ("unknown", "")
            values = self._compute(element, own, parent, root_size)
            if element.parent is None:
                size = _number_of(values["font-size"])
                root_size = size if size is not None else root_size
            found.append(values)
        return found

    # What is specified.

    def _specified(self, element: Element, agent: dict[str, str] | None, quirk: dict[str, str] | None) -> dict[str, Parsed]:
        """The winning parsed value of each property: the browser's own, then attributes, then the author's."""
        won: dict[str, Parsed] = {}
        for sheet in (agent, quirk):
            for name, value in (sheet or {}).items():
                won.update(expand(name, value, quirks=False))
        won.update(self._hints(element))
        agent_values = dict(won)
        important: dict[str, Parsed] = {}
        for match in sorted(self._matches.get(element.index, ()), key=lambda match: (match.specificity, match.order)):
            if all(self._holds(kind, prelude) for kind, prelude in match.rule.within):
                for declaration in match.rule.declarations:
                    (important if declaration.important else won).update(expand(declaration.name, declaration.value, self._quirks))
        if style := self._document.style_of(element):
            for declaration in declarations(style):
                target = important if declaration.important else won
                target.update(expand(declaration.name, declaration.value, self._quirks))
        won.update(important)
        for name, (kind, word) in list(won.items()):
            if kind == "wide" and word in ("revert", "revert-layer"):
                if name in agent_values:
                    won[name] = agent_values[name]
                else:
                    del won[name]
        return won

    def _holds(self, kind: str, prelude: str) -> bool:
        return applies(prelude, self._medium) if kind == "media" else kind in ("supports", "layer")

    def _hints(self, element: Element) -> Iterator[tuple[str, Parsed]]:
        """The declarations of presentational attributes (HTML §15.3)."""
        tag, names = element.tag, element.names
        if tag == "form" and element.parent is not None and element.parent.tag in ("table", "tbody", "thead", "tfoot", "tr"):
            yield "display", ("keyword", "none")
        if tag == "input":
            yield from _input_hints((element.get("type") or "text").strip().lower())
        if tag == "a" and "href" in names:
            yield "text-decoration-line", ("keyword", "underline")
            body = self._document.body
            link = self._legacy(body.get("link") or "") if body.tag == "body" and "link" in body.names else None
            yield "color", link or ("colour", (0, 0, 238, 1.0))
        if not names:
            return
        if "hidden" in names:
            yield "display", ("keyword", "none")
        if tag in _GROUNDS:
            if "bgcolor" in names and (ground := self._legacy(element.get("bgcolor") or "")):
                yield "background-color", ground
            if "background" in names and (address := (element.get("background") or "").strip()):
                yield "background-image", ("image", f"url({address})")
        if tag == "body" and "text" in names and (ink := self._legacy(element.get("text") or "")):
            yield "color", ink
        if tag == "font":
            yield from self._font_hints(element)
        if "align" in names:
            yield from _align_hints(tag, (element.get("align") or "").strip().lower())
        if tag in ("td", "th") and "nowrap" in names:
            yield "white-space", ("keyword", "nowrap")
        if tag == "hr" and ("noshade" in names or "color" in names):
            yield "background-color", self._legacy(element.get("color") or "") or ("colour", (128, 128, 128, 1.0))
        if tag == "pre" and "wrap" in names:
            yield "white-space", ("keyword", "pre-wrap")

    def _legacy(self, value: str) -> Parsed | None:
        """A colour of an attribute; nobody can tell the one that a field is to bring."""
        if tokens(value, self._document.syntax):
            return "unknown", value
        found = legacy_colour(value)
        return ("colour", found) if found is not None else None

    def _font_hints(self, element: Element) -> Iterator[tuple[str, Parsed]]:
        if ink := self._legacy(element.get("color") or ""):
            yield "color", ink
        if face := element.get("face"):
            yield from expand("font-family", face, quirks=False)
        if match := re.match(r"\s*([+-]?)(\d+)", element.get("size") or ""):
            number = int(match[2])
            number = 3 + number if match[1] == "+" else 3 - number if match[1] == "-" else number
            yield from expand("font-size", _FONT_SIZES[min(max(number, 1), 7) - 1], quirks=False)

    # From specified to computed (CSS Cascade 4 §4.4).

    def _compute(self, element: Element, own: dict[str, Parsed], parent: Values | None, root_size: float) -> Values:
        values: Values = {}
        size = self._font_size(own, parent, root_size)
        values["font-size"] = size
        for name in PROPERTIES:
            if name != "font-size":
                values[name] = self._one(name, own.get(name), parent, size, root_size)
        self._adjust(element, values, parent)
        return values

    def _font_size(self, own: dict[str, Parsed], parent: Values | None, root_size: float) -> float | None:
        around = _number_of(parent["font-size"]) if parent is not None else 16.0
        kind, what = own.get("font-size", ("wide", "inherit"))
        family = own.get("font-family")
        alone = family == ("family", ("monospace",))
        was_alone = parent is not None and parent["font-family"] == ("monospace",)
        # A list of nothing but monospace has a default size of its own, 13 px where others have 16 (Chromium, measured).
        scale = (
            13 / 16
            if alone and not was_alone
            else 16 / 13
            if was_alone and family is not None and family[0] == "family" and not alone
            else 1.0
        )
        if kind == "wide":
            if what == "initial":
                return 13.0 if alone or (was_alone and family is None) else 16.0
            return around * scale if around is not None else None
        number = _number_of(what)
        if number is None or kind == "unknown":
            return None
        if kind == "px":
            return number
        if kind == "rem":
            return number * root_size
        return around * number / (100 if kind == "percent" else 1) * scale if around is not None else None

    def _one(self, name: str, parsed: Parsed | None, parent: Values | None, size: float | None, root_size: float) -> Computed:
        if parsed is None or parsed[0] == "wide":
            word = parsed[1] if parsed else "unset"
            if parent is not None and (word == "inherit" or (word == "unset" and name in INHERITED)):
                return parent[name]
            parsed = expand(name, INITIAL[name], quirks=False)[0][1] if name != "font-family" else ("family", (INITIAL[name],))
        kind, what = parsed
        if kind == "unknown":
            return None
        if isinstance(what, float):
            if kind in ("em", "rem"):
                base = size if kind == "em" else root_size
                return what * base if base is not None else None
            if name == "line-height" and kind == "percent":
                return what / 100 * size if size is not None else None
            if name == "line-height" and kind == "number":
                return ("times", what)
            if kind == "percent":
                return ("percent", what)
        if name == "font-weight" and kind == "keyword":
            return _relative_weight(str(what), _number_of(parent["font-weight"]) if parent is not None else 400.0)
        if name == "color" and what == "currentcolor":
            return parent["color"] if parent is not None else (0, 0, 0, 1.0)
        return what

    def _adjust(self, element: Element, values: Values, parent: Values | None) -> None:
        """The consequences of other values: blocks made of floats, overflow in one direction, alignment of tables and heads."""
        floats = values["float"] not in (None, "none") or values["position"] in ("absolute", "fixed")
        if values["position"] in ("absolute", "fixed"):
            values["float"] = "none"
        if floats or element.parent is None or (parent is not None and parent["display"] in ("flex", "inline-flex", "grid", "inline-grid")):
            display = values["display"]
            values["display"] = _blockified(display if isinstance(display, str) else None)
        x, y = values["overflow-x"], values["overflow-y"]
        scrolls = ("hidden", "scroll", "auto")
        if x in ("visible", "clip") and y in scrolls:
            values["overflow-x"] = "auto" if x == "visible" else "hidden"
        align = values["text-align"]
        around = parent["text-align"] if parent is not None else "start"
        if align == "match-parent":
            values["text-align"] = around
        elif align == "-internal-center":
            values["text-align"] = "center" if around in ("start", "-internal-center") else around
        if element.tag == "table" and values["text-align"] in ("-webkit-left", "-webkit-center", "-webkit-right"):
            values["text-align"] = "start"
        if values["background-color"] == "currentcolor":
            values["background-color"] = values["color"]


def _align_hints(tag: str, align: str) -> Iterator[tuple[str, Parsed]]:
    if tag in _ALIGNED:
        word = {"middle": "-webkit-center", "justify": "justify"}.get(
            align, f"-webkit-{align}" if align in ("left", "center", "right") else None
        )
        if word and not (tag == "p" and align == "middle"):
            yield "text-align", ("keyword", word)
    elif tag not in ("table", "img", "input", "hr", "object", "embed", "iframe", "caption", "col", "colgroup", "legend"):
        word = "center" if align == "middle" else align if align in ("left", "center", "right", "justify") else None
        if word:
            yield "text-align", ("keyword", word)
    elif tag in ("table", "img") and align in ("left", "right"):
        yield "float", ("keyword", align)


def _input_hints(kind: str) -> Iterator[tuple[str, Parsed]]:
    """Inputs that are buttons, and those that are not shown (HTML §15.5)."""
    if kind in ("hidden", "radio", "checkbox", "image"):
        yield "overflow-x", ("keyword", "clip" if kind in ("hidden", "image") else "visible")
        yield "display", ("keyword", "none" if kind == "hidden" else "inline-block")
        yield "background-color", ("colour", (0, 0, 0, 0.0))
    elif kind in ("submit", "button", "reset"):
        yield "text-align", ("keyword", "center")
        yield "white-space", ("keyword", "pre")
        yield "background-color", ("colour", (239, 239, 239, 1.0))


def is_colour(value: Computed) -> TypeGuard[Rgba]:
    """Whether a computed value is a colour: red, green, blue and alpha."""
    return isinstance(value, tuple) and len(value) == 4 and isinstance(value[3], float)


def _number_of(value: Computed) -> float | None:
    return value if isinstance(value, float) else None


def _relative_weight(word: str, around: float | None) -> float | None:
    """Bolder and lighter (CSS Fonts 4 §2.2.1)."""
    if around is None:
        return None
    if word == "bolder":
        return 400.0 if around < 350 else 700.0 if around < 550 else max(900.0, around)
    return around if around < 100 else 100.0 if around < 550 else 400.0 if around < 750 else 700.0


def _blockified(display: str | None) -> str | None:
    """CSS Display 3 §2.7."""
    if display is None or display in _NOT_BLOCKIFIED:
        return display
    return {"inline-table": "table", "inline-flex": "flex", "inline-grid": "grid", "-webkit-inline-box": "-webkit-box"}.get(
        display, "block"
    )


def _number(value: float) -> str:
    return f"{value:.4f}".rstrip("0").rstrip(".")


def _written(name: str, value: Computed) -> str | None:
    if value is None:
        return None
    if isinstance(value, float):
        return _number(value) if name in ("opacity", "font-weight") else f"{_number(value)}px"
    if is_colour(value):
        red, green, blue, alpha = value
        return f"rgb({red}, {green}, {blue})" if alpha == 1 else f"rgba({red}, {green}, {blue}, {_number(alpha)})"
    if isinstance(value, tuple):
        kind, number = value[0], value[-1]
        if isinstance(number, float):
            return f"{_number(number)}%" if kind == "percent" else _number(number)
        return ", ".join(map(str, value))
    return value
