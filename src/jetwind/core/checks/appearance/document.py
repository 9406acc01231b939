"""The HTML is a document that clients lay out as it was meant, and holds nothing that they strike out."""

from __future__ import annotations

import re
from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from itertools import pairwise
from typing import Any

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.needs import need_html
from jetwind.core.fields import branches
from jetwind.core.markup import Attribute, Document, Element, parse
from jetwind.core.markup.conditional import conditionals
from jetwind.core.message import Message
from jetwind.core.profiles.word_processor import revealed
from jetwind.core.source import SourceText, Span
from jetwind.core.styles.reading import sheet_nodes

_DATASET = "the open support dataset, caniemail 1.0.5"


@check(
    id="appearance.doctype",
    name="No doctype",
    level=Level.NOTE,
    why="Without it browsers lay the message out by the old rules of quirks mode, with other gaps and widths.",
    fix="Start the HTML with <!doctype html>.",
    basis="HTML §13.1.1 (from memory)",
    samples=[
        clear("<!doctype html><p>x</p>"),
        clear(
            '<!DOCTYPE html PUBLIC "-//W3C//DTD XHTML 1.0 Transitional//EN" "http://www.w3.org/TR/xhtml1/DTD/xhtml1-transitional.dtd"><p>x</p>'
        ),
        clear("\n<!-- made by hand -->\n<!doctype html><p>x</p>"),
        clear("Subject: x\nFrom: a@b.org\n\nplain text\n"),
        finds("<html><body><p>x</p></body></html>"),
        finds("<p>x</p><!doctype html>"),
    ],
)
def find_doctype(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The HTML starts with a doctype."""
    _, document = need_html(message)
    if not document.has_doctype:
        yield Hit("The HTML has no doctype.", Place.in_html(message, Span(0, 0), document.root.index), identity="missing")


@check(
    id="appearance.viewport",
    name="Media queries without a viewport",
    level=Level.FIX,
    why="Phones then lay the page out as for a wide screen, and the styles for small screens never apply.",
    fix='Put <meta name="viewport" content="width=device-width, initial-scale=1"> into the head.',
    basis="Common practice, no published source",
    samples=[
        clear('<meta name="viewport" content="width=device-width"><style>@media (max-width:600px){td{width:100%}}</style><p>x</p>'),
        clear(
            '<META content="width=device-width,initial-scale=1" NAME="Viewport"><style>@media screen and (max-width:600px){a{b:c}}</style>'
        ),
        clear("<style>p{color:red}</style><p>x</p>"),
        clear("<style>@media (prefers-color-scheme: dark){p{color:#fff}}</style><p>x</p>"),
        clear("<!--[if mso]><style>@media (max-width:600px){a{color:red}}</style><![endif]--><p>x</p>"),
        finds("<style>p{color:red}\n@media only screen and (max-width: 600px){td{width:100%}}</style><p>x</p>", at="@media"),
        finds('<meta name="viewport" content=""><style>@media (max-device-width:480px){a{color:red}}</style>'),
    ],
)
def find_viewport(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """A document with media queries on width has a viewport meta."""
    _, document = need_html(message)
    for meta in document.elements("meta"):
        if (meta.get("name") or "").strip().lower() == "viewport" and (meta.get("content") or "").strip():
            return
    for style in document.elements("style"):
        if match := re.search(r"@media\b(?=[^{;]*\bwidth\b)", style.text, re.IGNORECASE):
            yield Hit(
                "The styles ask for the screen's width, but no viewport is set.",
                _in_style(message, style, match.start(), match.end()),
                identity="missing",
            )
            return


def _in_style(message: Message, style: Element, start: int, end: int) -> Place:
    """Characters of a style element's text; lines and columns are the same in the tree and in the source, offsets are not."""
    run = next((child for child in style.children if not isinstance(child, Element)), None)
    document = message.document
    if run is None or run.span is None or document is None:
        return Place.in_html(message, style.start_tag, style.index)
    of_source, of_tree = run.span, style.text
    given, read = message.shared(f"sheet {style.index}", lambda: (SourceText(document.source.slice(of_source)), SourceText(of_tree)))
    first, last = (read.position(offset) for offset in (start, end))
    span = Span(run.span.start + given.offset(first.line, first.column), run.span.start + given.offset(last.line, last.column))
    return Place.in_html(message, span, style.index)


_ACTIVE = frozenset({"script", "form", "iframe", "object", "embed", "applet", "frame", "frameset"})
#: A handler is ``on`` and an event's name (HTML §8.1.8.2); other attributes that start so have no such names.
_HANDLER = re.compile(r"on(?!ly\b)[a-z]{3,}\Z")


@check(
    id="appearance.active-content",
    name="Scripts, forms or frames",
    level=Level.STOP,
    why="Clients strike them out or warn of them, and filters refuse such messages.",
    fix="Take it out; lead to a web page instead.",
    basis=f"{_DATASET}: html-form, html-object, html-video and others",
    samples=[
        clear("<p>x</p><a href='https://b.org/form'>Form</a>"),
        clear("<!-- <script>alert(1)</script> --><p>x</p>"),
        clear("<p only='x' one='y'>x</p>"),
        clear('<script type=\'application/ld+json\'>{"@context": "https://schema.org"}</script><p>x</p>'),
        clear("<!--[if mso]><xml><o:OfficeDocumentSettings/></xml><![endif]--><p>x</p>"),
        finds("<script>x()</script>", at="<script>"),
        finds("<form action='/a'><input name='b'></form>", at="<form action='/a'>"),
        finds("<iframe src='a'></iframe>"),
        finds("<object data='a'></object>"),
        finds("<embed src='a'>"),
        finds("<p onclick='x()'>x</p>", at="onclick='x()'"),
        finds("<body onload=x()>y"),
    ],
)
def find_active(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The HTML has no script, form, iframe, object, embed or event-handler attribute."""
    _, document = need_html(message)
    for element in document.elements():
        if element.tag in _ACTIVE and not _is_data(element):
            yield Hit("<{tag}> does not work in mail.", Place.in_html(message, element.start_tag, element.index), {"tag": element.tag})
        for name in element.names:
            if _HANDLER.match(name) and (attribute := element.attributes.get(name)):
                yield Hit(
                    "The attribute {name} does not work in mail.", Place.in_html(message, attribute.span, element.index), {"name": name}
                )


def _is_data(element: Element) -> bool:
    """A block of JSON for machines is no script (HTML §4.12.1, data blocks)."""
    return element.tag == "script" and (element.get("type") or "").strip().lower() in ("application/ld+json", "application/json")


@check(
    id="appearance.external-css",
    name="Style sheet from outside",
    level=Level.STOP,
    why="Most clients never fetch it: the message arrives without its styles.",
    fix="Put the styles into a style element and into style attributes.",
    basis=f"{_DATASET}: html-link, css-at-import",
    samples=[
        clear("<style>p{color:red}</style><link rel='icon' href='a.ico'><p>x</p>"),
        clear("<link href='https://fonts.kiln.org/css?family=Lora' rel='stylesheet'><p style='font-family:Lora,serif'>x</p>"),
        clear("<style>@import url('https://kiln.org/css2?family=Lora');</style><p style='font-family:Lora,serif'>x</p>"),
        clear("<style>@import 'https://cdn.kiln.org/webfonts/lora.css';</style><p style='font-family:Lora,serif'>x</p>"),
        clear("<!--[if !mso]><!--><style>@font-face{font-family:Lora;src:url(a.woff2)}</style><!--<![endif]--><p>x</p>"),
        clear("<style>/* @import url(a.css); */ p{color:red}</style><p>x</p>"),
        finds("<link rel='stylesheet' href='a.css'>", at="<link rel='stylesheet' href='a.css'>"),
        finds("<LINK REL='alternate StyleSheet' HREF='a.css'>"),
        finds("<style>@import url(a.css);p{color:red}</style>", at="@import"),
        finds("<style>\r\n@import 'a.css';\r\n</style>", at="@import"),
    ],
)
def find_external_css(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No style sheet is linked or imported, save one that holds nothing but web fonts."""
    _, document = need_html(message)
    for link in document.elements("link"):
        if "stylesheet" in (link.get("rel") or "").lower().split():
            address = link.get("href") or "no address"
            if not _is_of_fonts(address):
                yield Hit("A style sheet is linked: {address}", Place.in_html(message, link.start_tag, link.index), {"address": address})
    for style in document.elements("style"):
        text = style.text
        if "@import" not in text.lower():
            continue
        source = SourceText(text)
        for rule in sheet_nodes(text):
            if rule.type == "at-rule" and rule.lower_at_keyword == "import":
                start = source.offset(rule.source_line, rule.source_column)
                address = next((node.value for node in _flat(rule.prelude) if node.type in ("string", "url")), "no address")
                if not _is_of_fonts(address):
                    place = _in_style(message, style, start, start + len("@import"))
                    yield Hit("A style sheet is imported: {address}", place, {"address": address})


def _flat(nodes: list[Any]) -> Iterator[Any]:
    """Nodes, and those inside ``url()``."""
    for node in nodes:
        yield from node.arguments if node.type == "function" else (node,)


#: What holds nothing but web fonts says so by a label of its host or a word of its address (common practice, no published source).
_FONTS = re.compile(r"(?:^|[./-])(?:web-?)?fonts?(?:[./?_-]|$)|[?&]family=", re.IGNORECASE)


def _is_of_fonts(address: str) -> bool:
    """Whether a sheet from elsewhere brings web fonts, which is normal: clients that do not take it show the next family."""
    return _FONTS.search(re.sub(r"^[a-z]+:", "", address.strip())) is not None


@check(
    id="appearance.conditional",
    name="Conditional comments do not close",
    level=Level.STOP,
    why="One client then shows what was meant for another, or hides the rest of the message.",
    fix="Close every <!--[if …]> with its <![endif]--> and never put one inside another.",
    basis="Common practice, no published source",
    samples=[
        clear("<!--[if mso]><table><tr><td><![endif]--><div>x</div><!--[if mso]></td></tr></table><![endif]-->"),
        clear("<!--[if !mso]><!--><p>x</p><!--<![endif]--><!--[if !mso]> --><p>y</p><!-- <![endif]-->"),
        clear("<![if !mso]><p>x</p><![endif]><!--[if gte mso 9]><xml></xml><![endif]-->"),
        clear("<!--[if !mso]><!-- --><p>x</p><!--<![endif]-->"),
        clear("<!-- a plain comment with [if] --><p>arrays[if]</p>"),
        clear("<!--[if (gte mso 9)|(IE)]><table><tr><td><![endif]--><p>x</p><!--[if (gte mso 9)|(IE)]></td></tr></table><![endif]-->"),
        clear("<!--[if !mso]><!--><!--[if lt IE 9]><p>old</p><![endif]--><p>x</p><!--<![endif]-->"),
        finds("<!--[if mso]><table><p>x</p>", at="<!--[if mso]>"),
        finds("<p>x</p><![endif]-->", at="<![endif]-->"),
        finds("<!--[if mso]><p>x</p>--><p>y</p>"),
        finds("<!--[if mso]><!--[if gte mso 12]>x<![endif]--><![endif]-->"),
        finds("<!--[if !mso]><!--><p>x</p>"),
        finds("<!--[if mso]><p>x</p><!--[if mso]><p>y</p><![endif]-->"),
    ],
)
def find_conditional(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every conditional comment is closed in its own form, and none hides another."""
    html, _ = need_html(message)
    for fault in conditionals(html.text)[1]:
        yield Hit("A conditional comment {fault}.", Place.in_html(message, fault.span), {"fault": fault.text})


_VOID = frozenset(
    [
        "area",
        "base",
        "br",
        "col",
        "embed",
        "hr",
        "img",
        "input",
        "link",
        "meta",
        "param",
        "source",
        "track",
        "wbr",
        "basefont",
        "frame",
        "keygen",
        "bgsound",
    ]
)
#: HTML §13.1.2.4: their end tags may be left out.
_OPTIONAL_END = frozenset(
    ["html", "head", "body", "p", "li", "dt", "dd", "rt", "rp", "optgroup", "option", "colgroup", "thead", "tbody", "tfoot", "caption"]
)
_CELLS = frozenset({"td", "th", "tr"})


@check(
    id="appearance.parse-error",
    name="Markup that clients have to mend",
    level=Level.FIX,
    why="Each client mends broken markup in its own way, and the layout breaks in some of them.",
    fix="Close what is open, delete what closes nothing, and give an attribute or an id once.",
    basis="HTML §13.2.2, §13.2.6 (from memory)",
    samples=[
        clear("<!doctype html><table><tr><td>a</td><td>b</td></tr></table><ul><li>x<li>y</ul><p>one<p>two<br><img alt='' src='cid:a'>"),
        clear("<table><tr><td>a<td>b<tr><td>c<td>d</table>"),  # HTML §13.1.2.4: end tags of cells may be left out
        clear("<table>{% for row in rows %}<tr><td>{{ row }}</td></tr>{% endfor %}</table>"),
        clear("<body>{% if a %}<div class='a'>{% else %}<div class='b'>{% endif %}x</div></body>"),
        clear("<!--[if mso]><table><tr><td><![endif]--><div>x</div><!--[if mso]></td></tr></table><![endif]-->"),
        clear("<% if a > b %><table class='a'><% else %><table class='b'><% end %><tr {{#if c}}class='d'{{/if}}><td>x</td></tr></table>"),
        clear("<table>{{#each rows}}<tr><td>[[row]]</td></tr>{{else}}<tr><td>none</td></tr>{{/each}}</table>"),
        clear("<table>{{ rows }}</table><v:roundrect><w:anchorlock/>x</v:roundrect>"),
        clear("<div><br/><hr/></div><p id='a'>x</p><p id='b'>y</p><p id=''>z</p><p id=''>z</p>"),
        finds("<table><tr><td>a</td><td>b</tr><tr><td>c</td></tr><tr><td>d</td><td>e</td></tr></table>", at="<td>"),
        finds("<p>a <b>bold</p><p>b</p>", at="<b>"),
        finds("<a href='a'>one <a href='b'>two</a>", at="<a href='b'>"),
        finds("<div>x</div></div>", at="</div>"),
        finds("<p>x</b>y</p>", at="</b>"),
        finds("<table><div>x</div><tr><td>y</td></tr></table>", at="<div>"),
        finds("<td style='a' style='b'>x</td>"),
        finds("<p id='a'>x</p><p id='a'>y</p>", at="a"),
        finds("<b><i>x</b></i>", at="</i>"),
        finds("<p>{% if a %}<p>x</p></div>{% endif %}", at="</div>"),
        clear(
            "<!--[if mso]><table role='presentation'><tr><td width='300'><![endif]--><div>x</div><!--[if mso]></td><td><![endif]--><div>y</div><!--[if mso]></td></tr></table><![endif]-->"
        ),
        finds("<!--[if mso]><table><tr><td<![endif]--><div>x</div><!--[if mso]></td></tr></table><![endif]-->", at="<td"),
        finds("<!--[if mso]><table><tr><td><![endif]--><div>x</div><!--[if mso]></td></tr><![endif]-->", at="<table>"),
        finds("<div>x</div><!--[if mso]></td></tr></table><![endif]-->", at="</td>"),
        finds("<table><tr><td>x</td></tr>", at="<table>"),
    ],
)
def find_parse_errors(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """The parser builds the tree that was written: nothing unclosed, misnested, stray, moved, or given twice."""
    _html, document = need_html(message)
    alternatives = branches(document.field_tokens)
    told: set[tuple[str, Span | None]] = set()
    for kind, tag, words, span, element in _errors(message, document):
        if span is not None and kind != "twice" and any(span.start in branches for branches in alternatives):
            continue  # each reader gets one of the branches
        told.add((kind, span))
        yield Hit(words, Place.in_html(message, span, element), {"tag": tag}, identity=f"{kind}:{tag}")
    if "[if" in document.source.text.lower():
        yield from _in_conditionals(message, document, told)


def _in_conditionals(message: Message, document: Document, told: set[tuple[str, Span | None]]) -> Iterator[Hit]:
    """What is wrong only in what the word-processor engine reads: tags of its conditional blocks that do not fit the rest."""
    text, shown, _ = revealed(document.masked(Span(0, len(document.source.text))))
    if not shown:
        return
    other = parse(text, message.syntax)
    cut = [
        (element.tag, element.start_tag)
        for element in other.all_elements
        if element.start_tag is not None and any(element.start_tag.start in block and element.start_tag.end > block.end for block in shown)
    ]
    for tag, span in cut:
        place = Place.in_html(message, Span(span.start, span.start + 1 + len(tag)))
        yield Hit("<{tag} in a conditional block lacks its “>”.", place, {"tag": tag}, identity=f"cut:{tag}")
    if cut:
        return
    for kind, tag, words, where, _ in _errors(message, other):
        if where is None or kind in ("id", "twice") or (kind, where) in told or not any(where.start in block for block in shown):
            continue
        yield Hit(words, Place.in_html(message, where), {"tag": tag}, identity=f"conditional {kind}:{tag}")


def _errors(message: Message, document: Document) -> Iterator[tuple[str, str, str, Span | None, int | None]]:
    html = document.source.text
    inside = _links_inside(document)
    closed = {element.end_tag.start for element in document.all_elements if element.end_tag}
    stray: dict[str, list[Span]] = {}
    for name, span in document.end_tags:
        if span.start not in closed and name not in _VOID - {"br"} and ":" not in name:
            stray.setdefault(name, []).append(span)
    unclosed = [
        element
        for element in document.all_elements
        if element.start_tag
        and not element.end_tag
        and element.tag not in _VOID | _OPTIONAL_END
        and ":" not in element.tag
        and not _closes_itself(html, element)
    ]
    cells = [element for element in document.all_elements if element.tag in _CELLS and element.start_tag]
    # Left out throughout is a way of writing; left out here and there is a slip.
    careful = sum(element.end_tag is not None for element in cells) * 5 >= len(cells) * 4
    for element in unclosed:
        if element.start_tag is None or (element.tag in _CELLS and not careful):
            continue
        waiting = stray.get(element.tag, [])
        at = bisect_right(waiting, element.start_tag.start, key=lambda span: span.start)
        partner = waiting.pop(at) if at < len(waiting) else None
        inner = inside.get(element.index)
        if inner is not None:
            yield "nested", "a", "A link starts inside another link.", inner.start_tag, inner.index
        elif partner is not None:
            yield "misnested", element.tag, "<{tag}> and what is around it close in the wrong order.", partner, element.index
        else:
            yield "unclosed", element.tag, "<{tag}> is never closed.", element.start_tag, element.index
    for name, span in sorted(((name, span) for name, spans in stray.items() for span in spans), key=lambda item: item[1]):
        yield "stray", name, "</{tag}> closes nothing.", span, None
    last = -1
    for element in reversed(document.all_elements):
        if element.start_tag is None:
            continue
        if last >= 0 and element.start_tag.start > last and element.tag not in ("html", "head", "body"):
            yield "moved", element.tag, "<{tag}> stands where a table cannot hold it, and is moved out.", element.start_tag, element.index
        else:
            last = element.start_tag.start
    for fault in document.faults:
        if fault.code == "duplicate-attribute":
            yield (
                "twice",
                "attribute",
                "An attribute stands twice in one tag; the second is dropped.",
                Span(max(fault.offset - 1, 0), fault.offset),
                None,
            )
    seen: dict[str, Attribute] = {}
    for element in document.all_elements:
        attribute = element.attributes.get("id") if "id" in element.names else None
        if attribute is not None and (value := attribute.value).strip():
            if value in seen and not message.holds_field(value):
                yield "id", value, "The id {tag} is given to more than one element.", attribute.value_span, element.index
            seen[value] = attribute


def _links_inside(document: Document) -> dict[int, Element]:
    """For each link, by its index, the link that starts next with no end of a link between them."""
    found: dict[int, Element] = {}
    ends = [span.start for name, span in document.end_tags if name == "a"]
    links = [element for element in document.all_elements if element.tag == "a" and element.start_tag is not None]
    for outer, inner in pairwise(links):
        assert outer.start_tag is not None and inner.start_tag is not None
        at = bisect_left(ends, outer.start_tag.end)
        if inner.start_tag.start >= outer.start_tag.end and not (at < len(ends) and ends[at] < inner.start_tag.start):
            found[outer.index] = inner
    return found


def _closes_itself(html: str, element: Element) -> bool:
    """A tag with a stroke at its end: foreign elements close so, and clients of XML descent read others so."""
    return (
        element.start_tag is not None
        and html[element.start_tag.start : element.start_tag.end].endswith("/>")
        and element.tag not in ("a", "div", "span", "td", "table")
    )
