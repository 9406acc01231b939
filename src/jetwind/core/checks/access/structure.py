"""A screen reader finds its way by language, title, headings and tables that hold data, and reads lines of even words."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import islice
from typing import Annotated

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.needs import need_html
from jetwind.core.markup import Element, TextRun
from jetwind.core.message import Message
from jetwind.core.prose.language import declared, primary_subtag
from jetwind.core.prose.outline import outline_of
from jetwind.core.prose.reading import reading_of, tidy
from jetwind.core.styles.computed import ComputedStyles

#: Language, script, region and the like, each 1 to 8 letters or digits (BCP 47, RFC 5646 §2.1).
LANGUAGE_TAG = re.compile(r"[A-Za-z]{2,3}(?:-[A-Za-z0-9]{1,8})*\Z")
COPY = "<p>Twelve glazes, mixed by hand from ash and sea sand, are a fifth off until the middle of the month.</p>"


@check(
    id="access.lang-missing",
    name="Language not declared",
    level=Level.FIX,
    why="A screen reader reads the message in the voice of another language.",
    fix='Write the language into the html tag, as lang="en".',
    basis="WCAG 2.2 SC 3.1.1; BCP 47 (RFC 5646 §2.1)",
    samples=[
        clear(f"<html lang='en'><body>{COPY}</body></html>"),
        clear(f"<html lang='pt-BR'><body>{COPY}</body></html>"),
        clear(f"<html lang='zh-Hant-TW'><body>{COPY}</body></html>"),
        clear(f"<html><body><div lang='de'>{COPY}</div></body></html>"),
        clear(f"<html lang='{{{{ language }}}}'><body>{COPY}</body></html>"),
        clear("<html><body><img src='a.png' alt=''></body></html>"),
        finds(f"<html><body>{COPY}</body></html>", at="<html>"),
        finds(f"<html lang=''><body>{COPY}</body></html>"),
        finds(f"<html lang='english'><body>{COPY}</body></html>", at="english"),
        finds(f"<html lang='en_GB'><body>{COPY}</body></html>", at="en_GB"),
        finds(f"<html lang='und'><body>{COPY}</body></html>", at="und"),
        finds(COPY),
    ],
)
def find_language_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The html tag, or the only wrapper of the copy, says the language by a tag of BCP 47."""
    _, document = need_html(message)
    if not any(letter.isalpha() for letter in reading_of(message).visible_text):
        raise DoesNotApply("there is nothing to read")
    found = declared(message)
    if found is None:
        html = next((element for element in document.elements("html")), None)
        yield Hit(
            "The message does not say its language.",
            Place.in_html(message, html.start_tag if html is not None else None),
            identity="language",
        )
        return
    element, attribute = found
    tag = attribute.value.strip()
    if not message.holds_field(tag) and (not LANGUAGE_TAG.match(tag) or not primary_subtag(tag)):
        yield Hit(
            "“{tag}” names no language.",
            Place.in_html(message, attribute.value_span, element.index),
            {"tag": tag[:40]},
            identity="language",
        )


@check(
    id="access.title-missing",
    name="Message without a title",
    level=Level.NOTE,
    why="A screen reader says the title first, in a browser window and in some clients.",
    fix="Write the subject, or what the message is about, into the title element.",
    basis="WCAG 2.2 SC 2.4.2",
    samples=[
        clear(f"<html><head><title>Spring glazes</title></head><body>{COPY}</body></html>"),
        clear(f"<html><head><title>{{{{ subject }}}}</title></head><body>{COPY}</body></html>"),
        finds(f"<html><head></head><body>{COPY}</body></html>"),
        finds(f"<html><head><title> </title></head><body>{COPY}</body></html>", at="<title>"),
    ],
)
def find_title_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The title element is there and says something."""
    _, document = need_html(message)
    # A title of a drawing (SVG) is the drawing's.
    titles = [
        element
        for element in document.elements("title")
        if not any(place.tag == "svg" for place in islice(element.ancestors(), _MOST_BOXES))
    ]
    if any(element.text.strip() for element in titles):
        return
    yield Hit(
        "The message has no title." if not titles else "The title is empty.",
        Place.in_html(message, titles[0].start_tag if titles else None),
        identity="title",
    )


@check(
    id="access.headings",
    name="Headings missing or skipped",
    level=Level.NOTE,
    why="Listeners go from heading to heading; without them they hear everything from the top.",
    fix="Mark the main line as h1 and go down one level at a time.",
    basis="WCAG 2.2 SC 1.3.1",
    together={"skipped": "{many} headings skip a level.", "empty": "{many} headings are empty."},
    samples=[
        clear(f"<h1>Glazes</h1>{COPY}<h2>Ash</h2>{COPY}<h3>Sea</h3>{COPY}<h2>Sand</h2>{COPY}"),
        clear(f"<h2>Glazes</h2>{COPY}"),
        clear("<p>Short note.</p>"),
        clear(f"<div role='heading' aria-level='1'>Glazes</div>{COPY * 3}"),
        clear(f"<h1>Glazes</h1><h3 style='display:none'>x</h3>{COPY}"),
        clear(f"<h1>Glazes</h1>{COPY}<h2><img src='cid:a' alt=''></h2><h2>{{{{ title }}}}</h2><h2 aria-label='Ash'></h2>"),
        clear(f"<h1>Glazes</h1>{COPY}<h2 style='display:none'></h2><div style='display:none'><h2> </h2></div>"),
        finds(f"<h1>Glazes</h1>{COPY}<h2>&nbsp;</h2>", at="<h2>"),
        finds(f"<h1></h1><h1>Glazes</h1>{COPY}", at="<h1>"),
        finds(f"{COPY}{COPY}{COPY}{COPY}"),
        finds(f"<h1>Glazes</h1>{COPY}<h3>Ash</h3>{COPY}", at="<h3>"),
    ],
)
def find_headings(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Copy of several passages has a heading, none is empty, and no level of headings is skipped on the way down."""
    _, document = need_html(message)
    before = 0
    found = False
    for element in document.elements():
        level = _level(element)
        if not level or message.cascade.is_hidden(element):
            continue
        if not _says(element):
            if _is_empty(element):
                place = Place.in_html(message, element.start_tag, element.index)
                yield Hit("A heading of level {level} is empty.", place, {"level": level}, identity="empty", cause="empty")
            continue
        if found and level > before + 1:
            data = {"level": level, "before": before}
            yield Hit(
                "A heading of level {level} follows one of level {before}.",
                Place.in_html(message, element.start_tag, element.index),
                data,
                cause="skipped",
            )
        before, found = level, True
    if not found and _is_long(message):
        yield Hit("The message has no headings.", Place.in_html(message, None), identity="none", cause="none")


def _level(element: Element) -> int:
    if (element.get("role") or "").strip().lower() == "heading":
        written = (element.get("aria-level") or "2").strip()
        return int(written) if written.isdecimal() and 0 < len(written) < 3 else 2
    is_own = not (element.get("role") or "").strip()
    return int(element.tag[1]) if is_own and element.tag in ("h1", "h2", "h3", "h4", "h5", "h6") else 0


def _is_empty(element: Element) -> bool:
    """Whether a heading has neither words nor a label; that a picture in it has no words, others tell."""
    if tidy(element.get("aria-label") or element.get("aria-labelledby") or ""):
        return False
    return not any(
        tidy(node.text) if isinstance(node, TextRun) else node.tag in ("img", "svg", "input")
        for node in islice(element.walk(), _MOST_INSIDE)
    )


def _says(element: Element) -> bool:
    return any(
        node.text.strip() if isinstance(node, TextRun) else node.tag == "img" and (node.get("alt") or "").strip()
        for node in islice(element.walk(), _MOST_INSIDE)
    )


#: Nodes of a heading, and boxes around an element, that are looked at: hostile markup nests thousands.
_MOST_INSIDE, _MOST_BOXES = 200, 40


def _is_long(message: Message) -> bool:
    """Whether there is enough to read that a listener wants to skip: a note of a few lines is read whole."""
    letters = sum(len(passage.text) for section, passage in outline_of(message).sections if section != "footer")
    return letters >= _LONG


#: Characters of copy, the footer left out, from which headings are missed.
_LONG = 350


@check(
    id="access.table-role",
    together={"data": "{many} tables of data have no header cells."},
    name="Layout table that is read as a table",
    level=Level.FIX,
    why="A screen reader announces rows and columns before every line.",
    fix='Give each layout table role="presentation".',
    basis="WAI-ARIA 1.2, presentation; WCAG 2.2 SC 1.3.1",
    samples=[
        clear(f"<table role='presentation'><tr><td>{COPY}</td></tr></table>"),
        clear(f"<table role='none'><tr><td>{COPY}</td></tr></table>"),
        clear("<table><caption>Kilns</caption><tr><td>Ash</td><td>1,280 °C</td></tr></table>"),
        clear("<table><tr><th>Glaze</th><th>°C</th></tr><tr><td>Ash</td><td>1,280</td></tr></table>"),
        clear("<table style='display:none'><tr><td>x</td></tr></table>"),
        clear(f"<p>x</p><!--[if mso]><table><tr><td><![endif]-->{COPY}"),
        clear(COPY),
        clear("<table role=presentation><tr><td>Ash</td><td>1,280</td></tr><tr><td>Sea</td><td>1,240</td></tr></table>"),
        finds(f"<table><tr><td>{COPY}</td></tr></table>", at="<table>"),
        finds("<table><tr><td>Ash</td><td>1,280</td></tr><tr><td>Sea</td><td>1,240</td></tr></table>", at="<table>"),
        finds(f"<table role='presentation'><tr><td><table><tr><td>{COPY}</td></tr></table></td></tr></table>", at="<table>"),
    ],
)
def find_table_role(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each table that lays out says so by its role; tables of data have header cells or a caption."""
    _, document = need_html(message)
    if next(document.elements("table"), None) is None:
        raise DoesNotApply("the message has no tables")
    of_values, bare = bare_tables(message)
    for table in of_values:
        yield Hit(
            "A table of data has no header cells.",
            Place.in_html(message, table.start_tag, table.index),
            identity=f"data {tidy(table.text)[:200]}",
            fix='Mark the cells that name rows or columns as th, with scope="col" or scope="row".',
            cause="data",
        )
    if bare:
        first, *others = (Place.in_html(message, table.start_tag, table.index) for table in bare)
        many = f"{len(bare)} layout tables have" if len(bare) > 1 else "A layout table has"
        yield Hit("{tables} no role of presentation.", first, {"tables": many}, identity="tables", also=tuple(others), cause="layout")


def bare_tables(message: Message) -> tuple[list[Element], list[Element]]:
    """Tables without a role, a caption and header cells: those that hold values, and those that lay out."""
    _, document = need_html(message)
    of_data = {
        holder.index
        for node in document.elements("th", "caption")
        if _says(node)
        and (holder := next((place for place in islice(node.ancestors(), _MOST_BOXES) if place.tag == "table"), None)) is not None
    }
    bare = [
        table
        for table in document.elements("table")
        if not (table.get("role") or "").strip() and table.index not in of_data and not message.cascade.is_hidden(table)
    ]
    of_values = [table for table in bare if _holds_data(table)]
    told = {table.index for table in of_values}
    return of_values, [table for table in bare if table.index not in told]


#: Characters of a cell that holds a value, and cells of a table that are looked at.
_SHORT, _MOST_CELLS = 60, 400
#: What marks words inside a cell, and no more.
_IN_WORDS = frozenset(
    {"b", "strong", "i", "em", "u", "s", "span", "font", "small", "big", "sup", "sub", "a", "br", "abbr", "code", "time", "nobr", "p"}
)


def _holds_data(table: Element) -> bool:
    """Whether a table has two rows and two columns or more, all of short text with nothing nested: then it holds values, and lays nothing out."""
    rows: dict[int, list[Element]] = {}
    for node in islice(table.elements(), _MOST_CELLS * 4):
        if node.tag in ("td", "th"):
            row = next((place for place in islice(node.ancestors(), 3) if place.tag == "tr"), None)
            if row is None:
                return False
            rows.setdefault(row.index, []).append(node)
        elif node.tag not in _IN_WORDS | {"tbody", "thead", "tfoot", "tr", "col", "colgroup"}:
            return False
    cells = [cell for row in rows.values() for cell in row]
    texts = [tidy(cell.text[:1_000]) for cell in cells]
    return (
        len(rows) >= 2
        and len(cells) <= _MOST_CELLS
        and min(map(len, rows.values())) >= 2
        and len({len(row) for row in rows.values()}) == 1
        and all(0 < len(text) <= _SHORT for text in texts)
        # A grid of links is a menu.
        and not all(any(True for _ in cell.elements("a")) for cell in cells)
    )


@dataclass(frozen=True)
class JustifiedOptions(Options):
    """The options that a house may set."""

    least_characters: Annotated[int, About("shorter passages are labels, whose lines are not stretched", unit="characters")] = 60


@check(
    id="access.justified",
    name="Justified copy",
    level=Level.NOTE,
    why="Uneven gaps between words are hard on readers with dyslexia, most of all in narrow columns.",
    fix="Align the copy to the side where its lines begin.",
    basis="WCAG 2.2 SC 1.4.8",
    options=JustifiedOptions,
    samples=[
        clear(COPY),
        clear("<p style='text-align:justify'>Ash and sand</p>"),
        clear(f"<div style='text-align:justify'><div style='text-align:left'>{COPY}</div></div>"),
        finds(f"<div style='text-align:justify'>{COPY}</div>", at="<p>"),
        finds(f"<table><tr><td align='justify'>{COPY}</td></tr></table>"),
    ],
)
def find_justified(message: Message, context: Context, options: JustifiedOptions) -> Iterator[Hit]:
    """No body copy is justified."""
    html, document = need_html(message)
    if "justify" not in html.text.lower():
        return
    computed = ComputedStyles(document)
    found = [
        passage
        for passage in reading_of(message).passages
        if len(tidy(passage.text)) >= options.least_characters and computed.value(passage.element, "text-align") == "justify"
    ]
    if found:
        first, *others = (Place.in_html(message, passage.element.start_tag, passage.element.index) for passage in found)
        many = f"{len(found)} passages are" if len(found) > 1 else "A passage is"
        yield Hit("{passages} justified.", first, {"passages": many}, identity="justified", also=tuple(others))
