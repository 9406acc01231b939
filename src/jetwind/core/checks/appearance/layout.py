"""Fonts have a last resort, the body is of a readable width, and columns add up."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import TYPE_CHECKING, Annotated

import tinycss2

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.needs import need_html
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.prose.outline import TableRow, Width, outline_of
from jetwind.core.styles import length_px, placed_declarations
from jetwind.core.styles.reading import value_nodes

if TYPE_CHECKING:
    from tinycss2.ast import Value

#: CSS Fonts 4 §2.1.4 and §2.1.5, with the CSS-wide keywords (from memory).
_GENERIC = frozenset(
    [
        "serif",
        "sans-serif",
        "monospace",
        "cursive",
        "fantasy",
        "system-ui",
        "ui-serif",
        "ui-sans-serif",
        "ui-monospace",
        "ui-rounded",
        "math",
        "emoji",
        "fangsong",
        "inherit",
        "initial",
        "unset",
        "revert",
        "revert-layer",
    ]
)
#: ``font`` may also be one of these alone (CSS Fonts 4 §2.8).
_SYSTEM = frozenset(["caption", "icon", "menu", "message-box", "small-caption", "status-bar"])


@check(
    id="appearance.font-stack",
    name="Font list without a generic family",
    level=Level.FIX,
    why="Where none of the named fonts is there, the client falls back to its own, often a serif in the middle of a sans-serif layout.",
    fix="End the list with serif, sans-serif or monospace.",
    basis="CSS Fonts 4 §2.1 (from memory)",
    together="{many} font lists end without a generic family.",
    samples=[
        clear("<p style=\"font-family:'Atkinson Hyperlegible',Arial,sans-serif\">x</p><p style='font:bold 16px/1.4 Georgia,serif'>y</p>"),
        clear("<style>p{font-family:inherit} td{font:caption} @font-face{font-family:Lora;src:url(a.woff2)}</style><p>x</p>"),
        clear("<p style='font-family:var(--face)'>x</p><p style='font-family:{{ face }}'>y</p>"),
        clear(
            "<!--[if mso]><style>p{font-family:Arial !important}</style><![endif]--><p style='font-family:Arial, SANS-SERIF !important'>x</p>"
        ),
        clear("<p style='font-size:12px;mso-font-alt:Arial'>x</p>"),
        clear("<p style=\"font-family:Arial,sans-serif,'Apple Color Emoji','Segoe UI Emoji','Segoe UI Symbol'\">x</p>"),
        clear("<p style='font:16px Georgia,serif,Noto Color Emoji'>x</p>"),
        clear("<div style='font-family:Georgia;display:none'>&nbsp;</div><td style='font:1px Georgia;line-height:1px'>&nbsp;</td>"),
        clear("<table><tr><td style='font-family:Georgia;font-size:0'><img src='cid:a' alt=''></td></tr></table>"),
        finds("<p style='font-family: Georgia'>x</p>", at="font-family: Georgia"),
        finds("<style>p { font-family: Arial, Helvetica; color: red }</style><p>x</p>", at="font-family: Arial, Helvetica"),
        finds('<p style="font-family:&quot;Lora&quot;,Georgia">x</p>', at="font-family:&quot;Lora&quot;,Georgia"),
        finds("<p style='font:16px/24px Lora'>x</p>", at="font:16px/24px Lora"),
    ],
)
def find_font_stack(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every font list ends with a generic family."""
    _, document = need_html(message)
    found: dict[str, list[Place]] = {}
    for placed in placed_declarations(document, "font"):
        name, value = placed.declaration.name, placed.declaration.value
        if name not in ("font-family", "font") or (placed.rule and placed.rule.within and placed.rule.within[-1][0] == "font-face"):
            continue
        if message.holds_field(value) or "\ue000" in value:
            continue
        if placed.rule is None and _is_spacer(message, placed.element):
            continue
        last = last_family(value, shorthand=name == "font")
        if last is not None:
            found.setdefault(last, []).append(Place.in_html(message, placed.span, placed.element.index))
    for family, places in found.items():
        yield Hit(
            "A font list ends with {family}; {count} places do." if len(places) > 1 else "A font list ends with {family}.",
            places[0],
            {"family": family, "count": len(places)},
            identity=family.casefold(),
        )


@lru_cache(maxsize=1024)
def last_family(value: str, *, shorthand: bool) -> str | None:
    """The last family of a list that ends in no generic one; None where it does, or where it cannot be told."""
    nodes: Sequence[Value] = [node for node in value_nodes(value) if node.type != "whitespace"]
    if not nodes or any(node.type == "function" and node.lower_name in ("var", "env") for node in nodes):
        return None
    if shorthand and len(nodes) == 1 and nodes[0].type == "ident" and nodes[0].lower_value in _SYSTEM:
        return None
    nodes = _without_pictures(nodes)
    if not nodes:
        return None
    last = nodes[-1]
    if last.type == "string":
        return last.value
    if last.type != "ident" or last.lower_value in _GENERIC:
        return None
    words: list[str] = []
    for node in reversed(nodes):
        if node.type != "ident":
            break
        words.append(node.value)
    return " ".join(reversed(words))


#: Families of pictures and signs, which may follow the generic one: they have no letters.
_PICTURES = re.compile(r"emoji|symbol", re.IGNORECASE)


def _without_pictures(nodes: Sequence[Value]) -> Sequence[Value]:
    """A list of families without those at its end that hold emoji or symbols."""
    while nodes:
        commas = [at for at, node in enumerate(nodes) if node.type == "literal" and node.value == ","]
        cut = commas[-1] if commas else -1
        if not _PICTURES.search(tinycss2.serialize(nodes[cut + 1 :])) or cut < 0:
            return nodes
        nodes = nodes[:cut]
    return nodes


def _is_spacer(message: Message, element: Element) -> bool:
    """Whether no letter of an element is ever seen: hidden, or nothing in it but white space."""
    return message.cascade.is_hidden(element) or not element.text.replace("\u00a0", " ").strip()


@dataclass(frozen=True)
class WidthOptions(Options):
    """The options that a house may set."""

    most_px: Annotated[int, About("the widest body", unit="px")] = 700


@check(
    id="appearance.width",
    name="Body wider than reading panes",
    level=Level.FIX,
    why="Reading panes and webmail columns are narrower: the right edge is cut off or has to be scrolled to.",
    fix="Lay the body out at 600 to 640 px.",
    basis="Common practice, no published source",
    options=WidthOptions,
    samples=[
        clear("<table width='600'><tr><td>x</td></tr></table>"),
        clear("<table width='100%'><tr><td><table width='640'><tr><td>x</td></tr></table></td></tr></table>"),
        clear("<div style='max-width:640px;width:100%'>x</div>"),
        clear("<table width='900' style='width:100%;max-width:600px'><tr><td>x</td></tr></table>"),
        clear("<div style='display:none;width:900px'>x</div><p>y</p>"),
        clear("<table width='100%'><tr><td><img width='1200' src='cid:a' alt='x' style='max-width:100%'></td></tr></table>"),
        finds("<table width='800'><tr><td>x</td></tr></table>", at="<table width='800'>"),
        finds("<table width='100%'><tr><td><table style='width:720px'><tr><td>x</td></tr></table></td></tr></table>"),
        finds("<div style='min-width:800px'>x</div>"),
    ],
)
def find_width(message: Message, context: Context, options: WidthOptions) -> Iterator[Hit]:
    """The body is at most 700 px wide."""
    _, document = need_html(message)
    wide = [(element, width) for element, width in outline_of(message).blocks if width > options.most_px and element.text.strip()]
    if not wide:
        for element in document.body.elements("table", "div"):
            least = length_px(message.cascade.value(element, "min-width")) if "style" in element.names or "class" in element.names else None
            if least is not None and least > options.most_px and not message.cascade.is_hidden(element):
                wide = [(element, least)]
                break
    if wide:
        element, width = max(wide, key=lambda item: item[1])
        yield Hit(
            "The body is {width} px wide; the limit is {limit} px.",
            Place.in_html(message, element.start_tag, element.index),
            {"width": round(width), "limit": options.most_px},
            identity="width",
        )


@check(
    id="appearance.columns-sum",
    name="Columns do not add up to the row",
    level=Level.FIX,
    why="Each client shares the difference out in its own way: columns shift, and pictures show seams.",
    fix="Give the cells widths that add up to the table's.",
    basis="Common practice, no published source",
    together="{many} rows have columns that do not add up to the row.",
    samples=[
        clear("<table width='600'><tr><td width='200'>a</td><td width='400'>b</td></tr></table>"),
        clear("<table width='600' cellpadding='10'><tr><td width='280'>a</td><td width='280'>b</td></tr></table>"),
        clear("<table width='100%'><tr><td width='33%'>a</td><td width='33%'>b</td><td width='33%'>c</td></tr></table>"),
        clear("<table width='600'><tr><td width='200'>a</td><td>b</td></tr></table>"),
        clear("<table width='600'><tr><td width='50%'>a</td><td width='300'>b</td></tr></table>"),
        clear(
            "<table width='600'><tr><td colspan='2' width='600'>a</td></tr><tr><td width='300'>a</td><td width='300'>b</td></tr></table>"
        ),
        clear(
            "<table width='600'><tr><td style='width:290px;padding:0 5px'>a</td><td style='width:290px;padding:0 5px'>b</td></tr></table>"
        ),
        clear(
            "<table width='600'><tr><td rowspan='2' width='200'>a</td><td width='400'>b</td></tr><tr><td width='400'>c</td></tr></table>"
        ),
        finds("<table width='600'><tr><td width='300'>a</td><td width='400'>b</td></tr></table>", at="<tr>"),
        finds("<table width='600'><tr><td width='200'>a</td><td width='200'>b</td></tr></table>"),
        finds("<table width='100%'><tr><td width='60%'>a</td><td width='60%'>b</td></tr></table>"),
    ],
)
def find_columns(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Cells of a row that all have a width add up to that of their table."""
    _, document = need_html(message)
    told: set[int] = set()
    # A cell that reaches down takes room in rows that do not name it: such tables are left alone.
    spanning = {
        table.index for cell in document.elements("td", "th") if cell.get("rowspan") not in (None, "", "1") and (table := _table_of(cell))
    }
    for row in outline_of(message).rows():
        if len(row.cells) < 2 or row.table.index in told or row.table.index in spanning or message.cascade.is_hidden(row.table):
            continue
        widths = [outline_of(message).width(cell) for cell, _ in row.cells]
        known = [width for width in widths if width is not None]
        if len(known) < len(widths) or len({width.is_percent for width in known}) > 1:
            continue
        fault = _fault(message, row, known)
        if fault is not None:
            told.add(row.table.index)
            total, whole, unit = fault
            tag = row.element.start_tag or row.table.start_tag
            yield Hit(
                "The columns add up to {total} {unit}, but the row has {whole} {unit}.",
                Place.in_html(message, tag, row.element.index),
                {"total": round(total), "whole": round(whole), "unit": unit},
                identity=f"{round(total)}:{round(whole)}:{row.element.text.strip()[:40]}",
            )


def _table_of(cell: Element) -> Element | None:
    return next((place for place in cell.ancestors() if place.tag == "table"), None)


#: Differences that no client shows, in px.
_TOLERANCE = 5


def _fault(message: Message, row: TableRow, widths: list[Width]) -> tuple[float, float, str] | None:
    total = sum(width.value for width in widths)
    if widths[0].is_percent:
        return (total, 100.0, "%") if abs(total - 100) > 2.5 else None
    table = outline_of(message).width(row.table)
    if table is None or table.is_percent:
        return None
    count = len(widths)
    spacing = _number(row.table.get("cellspacing")) * (count + 1)
    padding = sum(_padding(message, row, cell) for cell, _ in row.cells)
    border = _number(row.table.get("border")) * 2
    # The width attribute covers the padding, the width property does not: either sum may be the one that was meant.
    fits = any(
        abs(total + extra - table.value) <= max(_TOLERANCE, count)
        for extra in (0, padding, spacing, padding + spacing, padding + spacing + border, border)
    )
    return None if fits else (total, table.value, "px")


def _padding(message: Message, row: TableRow, cell: Element) -> float:
    """Padding left and right of a cell in px: its own, else the table's cellpadding."""
    sides = [length_px(message.cascade.value(cell, f"padding-{side}")) for side in ("left", "right")]
    written = (message.cascade.value(cell, "padding") or "").split()
    if written:
        right = length_px(written[1 if len(written) > 1 else 0]) or 0
        left = length_px(written[3]) or 0 if len(written) > 3 else right
        return (sides[0] if sides[0] is not None else left) + (sides[1] if sides[1] is not None else right)
    default = _number(row.table.get("cellpadding"))
    return sum(side if side is not None else default for side in sides)


def _number(value: str | None) -> float:
    try:
        return max(0.0, float((value or "0").strip().removesuffix("px")))
    except ValueError:
        return 0.0
