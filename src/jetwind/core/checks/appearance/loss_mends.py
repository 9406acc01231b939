"""Fallbacks for declarations that a chosen client drops: an attribute, or a declaration before the one that is dropped; each is tried on renders."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping

from jetwind.core.checking import Context, Finding, laid_out
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checking.samples import Layout
from jetwind.core.checks.needs import need_html
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.profiles.support import features
from jetwind.core.renders.loss_places import Sources
from jetwind.core.renders.showing import Shown
from jetwind.core.source import Span
from jetwind.core.styles import placed_declarations
from jetwind.core.styles.colours import parse
from jetwind.core.styles.contrast import as_hex
from jetwind.core.styles.reading import value_nodes

_CELLS, _SIZED = frozenset(["td", "th"]), frozenset(["table", "td", "th", "img"])
_COLOURED = frozenset(["table", "tr", "td", "th", "body"])
_ALIGNED = frozenset(["td", "th", "tr", "p", "div", "h1", "h2", "h3", "h4", "h5", "h6"])
_PX, _SHARE = re.compile(r"(\d{1,5})(?:\.0+)?px\Z", re.IGNORECASE), re.compile(r"(\d{1,3})%\Z")
_REM = re.compile(r"(?<![\w.-])(\d{0,4}\.?\d{1,4})rem\b", re.IGNORECASE)
#: CSS px of one rem where no sheet sets the type size of the root (CSS Values 4 §6.1.1).
_REM_PX = 16.0


def _width(value: str) -> str:
    found = _PX.match(value)
    share = _SHARE.match(value)
    return found[1] if found is not None and int(found[1]) > 0 else share[0] if share is not None and int(share[1]) else ""


def _height(value: str) -> str:
    found = _PX.match(value)
    return found[1] if found is not None and int(found[1]) > 0 else ""


def _hex(value: str) -> str:
    """A colour as six digits; empty for one that lets something through, and for what is no single colour."""
    nodes = [node for node in value_nodes(value) if node.type not in ("whitespace", "comment")]
    found = parse(nodes[0], quirks=False) if len(nodes) == 1 else None
    colour = found[1] if found is not None else None
    return as_hex(colour) if isinstance(colour, tuple) and colour[3] == 1 else ""


def _word(*allowed: str) -> Callable[[str], str]:
    return lambda value: value.lower() if value.lower() in allowed else ""


#: For each property the attribute that says the same (HTML §15.3, from memory), the elements that have it, and its value from that of the property.
_ATTRIBUTES: Mapping[str, tuple[str, frozenset[str], Callable[[str], str]]] = {
    "width": ("width", _SIZED, _width),
    "max-width": ("width", frozenset(["img"]), lambda value: _width(value) if _PX.match(value) else ""),
    "height": ("height", _SIZED, _height),
    "background-color": ("bgcolor", _COLOURED, _hex),
    "background": ("bgcolor", _COLOURED, _hex),
    "text-align": ("align", _ALIGNED, _word("left", "center", "right")),
    "vertical-align": ("valign", _CELLS | {"tr"}, _word("top", "middle", "bottom", "baseline")),
    "border-spacing": ("cellspacing", frozenset(["table"]), lambda value: "0" if value in ("0", "0px") else _height(value)),
}
#: Declarations of the word processor's own that stand beside those that it drops (common practice, no published source).
_BESIDE = {"css-display-none": "mso-hide:all", "css-line-height": "mso-line-height-rule:exactly"}


def _lost(feature: str, start: int, end: int, *elements: int) -> Layout:
    lost = Shown(feature, feature, effect="layout", profiles=("word-processor",), spans=(Span(start, end),), elements=elements)
    return laid_out("word-processor", shown=(lost,))


@mend(
    "appearance.css-unsupported",
    kind=MendKind.CONFIRM,
    measured=True,
    does="The element gets the attribute that says the same, or the declaration another before it that the client takes.",
    leaves="Where no attribute and no other declaration says the same, as for a float or a shadow, a person builds it in another way.",
    samples=[
        turns(
            "<table><tr><td style='width:50%'>x</td></tr></table>",
            "<table><tr><td width=\"50%\" style='width:50%'>x</td></tr></table>",
            renders=_lost("css-width", 22, 31),
        ),
        turns(
            "<style>.a { background-color: #1f5f8b }</style><table><tr><td class='a'>x</td></tr></table>",
            "<style>.a { background-color: #1f5f8b }</style><table><tr><td bgcolor=\"#1f5f8b\" class='a'>x</td></tr></table>",
            renders=_lost("css-background-color", 12, 37, 7),
        ),
        turns(
            "<p style='font-size:1.5rem'>x</p>",
            "<p style='font-size:24px;font-size:1.5rem'>x</p>",
            renders=_lost("css-unit-rem", 10, 26),
        ),
        turns(
            "<p style='color:rgb(31 95 139)'>x</p>",
            "<p style='color:#1f5f8b;color:rgb(31 95 139)'>x</p>",
            renders=_lost("css-rgb", 10, 30),
        ),
        turns("<p style='display:none'>x</p>", "<p style='mso-hide:all;display:none'>x</p>", renders=_lost("css-display-none", 10, 22)),
        leaves_alone("<p style='float:left'>x</p>", renders=_lost("css-float", 10, 20)),
        leaves_alone("<table><tr><td width='300' style='width:50%'>x</td></tr></table>", renders=_lost("css-width", 34, 43)),
        leaves_alone("<p style='color:rgb(31 95 139 / 50%)'>x</p>", renders=_lost("css-rgb", 10, 36)),
    ],
)
def mend_lost(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """For each feature that the finding tells of."""
    _, document = need_html(message)
    shown = context.renders.shown if context.renders is not None else None
    wanted = {str(finding.data.get("feature", "")), *finding.each("feature")}
    sources, done = Sources(document), set[tuple[int, str]]()
    for one in shown or ():
        if one.feature not in wanted:
            continue
        spans = {span.start for span in one.spans}
        elements = {element.index: element for span in one.spans if (element := sources.element_at(span)) is not None}
        elements |= {index: document.all_elements[index] for index in one.elements if index < len(document.all_elements)}
        for change in (*_by_attributes(message, one.feature, elements), *_by_declarations(message, one.feature, spans)):
            key = (change.span.start, change.text.partition("=")[0])
            if key not in done:
                done.add(key)
                yield change


def _by_attributes(message: Message, feature: str, elements: Mapping[int, Element]) -> Iterator[Change]:
    of = features()[feature]
    for name in sorted(of.names & _ATTRIBUTES.keys()) if of.how == "property" else ():
        attribute, tags, said = _ATTRIBUTES[name]
        for _, element in sorted(elements.items()):
            value = message.cascade.value(element, name) if element.tag in tags and attribute not in element.names else None
            words = said(value.strip()) if value is not None and not message.holds_field(value) else ""
            if words and element.start_tag is not None:
                at = element.start_tag.start + 1 + len(element.tag)
                yield Change("html", Span(at, at), f' {attribute}="{words}"')


def _by_declarations(message: Message, feature: str, spans: set[int]) -> Iterator[Change]:
    _, document = need_html(message)
    for placed in placed_declarations(document):
        name, value = placed.declaration.name, placed.declaration.value.strip()
        if placed.span.start not in spans or message.holds_field(value):
            continue
        before = _BESIDE.get(feature, "")
        if not before and _REM.search(value):
            before = f"{name}:{_REM.sub(lambda found: f'{float(found[1]) * _REM_PX:g}px', value)}"
        elif not before and "(" in value and (colour := _hex(value)):
            before = f"{name}:{colour}"
        if before and before != f"{name}:{value}":
            yield Change("html", Span(placed.span.start, placed.span.start), f"{before};")
