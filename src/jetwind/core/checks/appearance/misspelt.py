"""Attributes, properties and their words are spelt as HTML and CSS spell them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import lru_cache
from typing import Literal

from jetwind.core.checking import Context, Finding, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, source_at, turns, with_value
from jetwind.core.checks.needs import need_html
from jetwind.core.facts import table
from jetwind.core.facts.tables import Css, Html
from jetwind.core.message import Message
from jetwind.core.source import Span
from jetwind.core.styles import Declaration, declarations, placed_declarations, rules

#: A name that may be a slip: letters and dashes, no digit, no prefix of a program or of data, long enough that one letter tells.
_ATTRIBUTE = re.compile(r"(?!on[a-z])[a-z]{4,20}\Z")
_PROPERTY = re.compile(r"(?!mso-|ms-|moz-|webkit-|o-)[a-z][a-z-]{3,40}\Z")
_WORD = re.compile(r"_?[a-z][a-z-]{2,30}\Z")
#: CSS Values 4 §2.1 (from memory): words that every property takes.
_EVERYWHERE = ("inherit", "initial", "unset", "revert", "revert-layer", "auto", "none", "normal")
#: Slips that are told of one message.
_MOST = 300


@check(
    id="appearance.misspelt",
    name="Attribute or style one letter away",
    level=Level.NOTE,
    why="Every client leaves out what it does not know, so the message looks as if it did not stand there.",
    fix="Spell it as HTML or CSS does.",
    basis="HTML §3.2.6 and its index of attributes; CSS 2.1 §4.2 (from memory)",
    together={
        "attribute": "{many} attributes are one letter away from those of HTML.",
        "property": "{many} styles are one letter away from those of CSS.",
    },
    samples=[
        clear("<table align=center valign=TOP cellpadding=0><tr><td background='a.png' nowrap data-aling=x x-aling=y>x</td></tr></table>"),
        clear("<a href='a' target='_blank'>x</a><a href='a' target='shop'>y</a><a href='a' target='{{ target }}'>z</a>"),
        clear("<p style='text-align: CENTER !important; mso-line-height-rule: exactly; -webkit-text-size-adjust: none; --colr: red'>x</p>"),
        clear("<style>p { *zoom: 1; _height: 1px; display: -webkit-box; float: var(--a); text-align: {{ side }} }</style><p>x</p>"),
        clear(
            "<v:rect stroek='f' fillcolour='x'>x</v:rect><svg viewBox='0 0 1 1' stroke-widht='1'></svg><custom-tag aling=x>y</custom-tag>"
        ),
        clear("<!--[if mso]><table aling=center><tr><td>x</td></tr></table><![endif]--><p colr1='a'>x</p>"),
        finds("<table aling='center'><tr><td>x</td></tr></table>", at="aling='center'"),
        finds("<img src='a.png' heigth='20' alt='x'>", at="heigth='20'"),
        finds("<a href='https://kiln.org/' target='blank'>x</a>", at="blank"),
        finds("<table><tr><td valign='midle'>x</td></tr></table>", at="midle"),
        finds("<p style='colour: red'>x</p>", at="colour: red"),
        finds("<style>p { margin: 0; pading: 4px }</style><p>x</p>", at="pading: 4px"),
        finds("<p style='text-align: centre'>x</p>", at="text-align: centre"),
        finds("<p style='font-weight: blod'>x</p>", at="font-weight: blod"),
    ],
)
def find_misspelt(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No attribute, property or word of theirs is unknown and one letter away from a known one."""
    need_html(message)
    yield from _in_markup(message)
    yield from _in_styles(message)


@mend(
    "appearance.misspelt",
    kind=MendKind.CONFIRM,
    does="The misspelt name or word is written as HTML or CSS has it.",
    leaves="Only the slip itself is changed; a style that is written with escapes or comments is left to a person.",
    samples=[
        turns(
            "<table aling='center'><tr><td valign=midle>x</td></tr></table>",
            "<table align='center'><tr><td valign=middle>x</td></tr></table>",
        ),
        turns("<p style='colour : red; text-align: Centre'>x</p>", "<p style='color : red; text-align: center'>x</p>"),
        turns("<style>p { margin: 0; pading: 4px }</style><p>x</p>", "<style>p { margin: 0; padding: 4px }</style><p>x</p>"),
        leaves_alone("<p style='text-align: /* x */ centre'>x</p>"),
    ],
)
def mend_misspelt(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The word that is one letter away, in small letters."""
    meant = [one for _, one in with_value(finding, "meant")]
    for (place, written), right in zip(with_value(finding, "written"), meant, strict=True):
        if (found := source_at(message, place)) is None or not written or not right:
            continue
        part, span, source = found
        name, colon, value = source.partition(":")
        if name.strip().lower() == written.lower() or source.lower().startswith(f"{written.lower()}="):
            start = span.start + len(source) - len(source.lstrip())
        elif colon and value.strip().lower() == written.lower():
            start = span.start + len(name) + 1 + len(value) - len(value.lstrip())
        else:
            continue
        yield Change(part, Span(start, start + len(written)), right)


def _in_markup(message: Message) -> Iterator[Hit]:
    assert message.document is not None
    html = table("html", Html)
    elements, takes = html["elements"], html["attribute_values"]
    known = frozenset(elements)
    left = _MOST
    for element in message.document.all_elements:
        if not element.names or element.tag not in known or element.tag == "svg":
            continue
        for name in element.names:
            meant = _near(name, "html") if _ATTRIBUTE.match(name) else ""
            if not meant and name not in takes:
                continue
            attribute = element.attributes.get(name)
            if attribute is None or not left:
                continue
            if meant:
                left -= 1
                data = {"written": name, "meant": meant}
                place = Place.in_html(message, attribute.span, element.index)
                yield Hit("The attribute {written} is unknown; {meant} may be meant.", place, data, identity=name, cause="attribute")
            elif meant := _value_near(attribute.value, name, "html"):
                left -= 1
                data = {"written": attribute.value.strip(), "meant": meant, "name": name}
                place = Place.in_html(message, attribute.value_span, element.index)
                words = "The attribute {name} does not take {written}; {meant} may be meant."
                yield Hit(words, place, data, identity=f"{name}={data['written']}", cause="attribute")


def _in_styles(message: Message) -> Iterator[Hit]:
    document = message.document
    assert document is not None
    # Styles repeat, and hardly any is misspelt: each text is looked at once, and places are sought only where there is a slip.
    texts = {document.style_of(element) for element in document.all_elements if "style" in element.names}
    slips = {_as_key(one) for text in texts for one in declarations(text) if _slip(one)[1]}
    for style in document.elements("style"):
        if (sheet := document.sheet_of(style)) is not None:
            slips |= {_as_key(one) for rule in rules(sheet[0]) for one in rule.declarations if _slip(one)[1]}
    left = _MOST
    for placed in placed_declarations(document) if slips else ():
        key = _as_key(placed.declaration)
        if key not in slips or not left:
            continue
        left -= 1
        is_name, meant = _slip(placed.declaration)
        words = (
            "The style {written} is unknown; {meant} may be meant."
            if is_name
            else "The style {name} does not take {written}; {meant} may be meant."
        )
        data = {"name": key[0], "written": key[0] if is_name else key[1], "meant": meant}
        place = Place.in_html(message, placed.span, placed.element.index)
        yield Hit(words, place, data, identity=key[0] if is_name else f"{key[0]}: {key[1]}", cause="property")


def _as_key(declaration: Declaration) -> tuple[str, str]:
    return declaration.name, declaration.value.strip()[:60]


def _slip(declaration: Declaration) -> tuple[bool, str]:
    """Whether the name of a declaration is the slip, and what may be meant; the second is empty where there is none."""
    if _PROPERTY.match(declaration.name) and (meant := _near(declaration.name, "css")):
        return True, meant
    return False, _value_near(declaration.value, declaration.name, "css")


def _value_near(value: str, name: str, of: Literal["html", "css"]) -> str:
    """The word that a value is one letter away from, among those that its attribute or property takes; empty for any other value."""
    word = value.strip().lower()
    if name not in _taken(of) or not _WORD.match(word) or word in _EVERYWHERE:
        return ""
    return _nearest(word, _deletes(of, name))


def _near(name: str, of: Literal["html", "css"]) -> str:
    return _nearest(name, _deletes(of, ""))


def _taken(of: Literal["html", "css"]) -> dict[str, list[str]]:
    """The words that attributes of HTML or properties of CSS take."""
    return table("html", Html)["attribute_values"] if of == "html" else table("css", Css)["values"]


@lru_cache(maxsize=64)
def _deletes(of: Literal["html", "css"], name: str) -> dict[str, str]:
    """Known words, and each with one letter left out, with the word itself: what is one letter away meets it there."""
    names = table("html", Html)["attributes"] if of == "html" else table("css", Css)["properties"]
    known = _taken(of)[name] if name else names
    left_out = {shorter: word for word in sorted(known, reverse=True) for shorter in _shorter(word)}
    return left_out | {word: word for word in known}


def _nearest(word: str, known: dict[str, str]) -> str:
    """The known word that is one letter more, less, other or exchanged away; empty where the word is known, or none is near."""
    if known.get(word) == word:
        return ""
    for shape in (word, *_shorter(word)):
        other = known.get(shape, "")
        if other and other != word and _is_one_away(word, other):
            return other
    return ""


def _shorter(word: str) -> Iterable[str]:
    return (word[:at] + word[at + 1 :] for at in range(len(word)))


def _is_one_away(one: str, other: str) -> bool:
    """Whether two words differ by one letter added, left out or exchanged, or by two neighbours that changed places."""
    start = next((at for at, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))
    rest, others = one[start:], other[start:]
    return rest[1:] == others[1:] or rest[1:] == others or rest == others[1:] or (rest[:2] == others[:2][::-1] and rest[2:] == others[2:])
