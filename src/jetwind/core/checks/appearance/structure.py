"""Tags that open and close as they should, inside conditional comments too."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from itertools import pairwise

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.needs import need_html
from jetwind.core.fields import branches
from jetwind.core.markup import Document, Element, parse
from jetwind.core.markup.conditional import conditionals
from jetwind.core.message import Message
from jetwind.core.profiles.word_processor import revealed
from jetwind.core.source import Span, Spans


@check(
    id="appearance.conditional",
    name="Conditional comments do not close",
    level=Level.STOP,
    why="One client then shows a part that was meant for another, or hides the rest of the message.",
    fix="Close every <!--[if …]> with its <![endif]--> and never put one inside another.",
    basis="Common practice, no published source",
    together="{many} conditional comments do not close as they should.",
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
    fix="Close each open element, delete each end tag that closes nothing, and give an attribute or an id once.",
    basis="HTML §13.2.2, §13.2.6 (from memory)",
    together={
        "tags": "Clients have to mend {many} tags that do not open and close as they should.",
        "twice": "{many} tags have an attribute twice; the second is dropped.",
        "id": "{many} elements have an id that another has.",
    },
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
    alternatives = Spans(branches(document.field_tokens))
    told: set[tuple[str, Span | None]] = set()
    for kind, tag, words, span, element in markup_faults(message, document):
        if span is not None and kind != "twice" and span.start in alternatives:
            continue  # each reader gets one of the branches
        told.add((kind, span))
        cause = kind if kind in ("twice", "id") else "tags"
        yield Hit(words, Place.in_html(message, span, element), {"tag": tag}, identity=f"{kind}:{tag}", cause=cause)
    if "[if" in document.source.text.lower():
        yield from _in_conditionals(message, document, told)


def _in_conditionals(message: Message, document: Document, told: set[tuple[str, Span | None]]) -> Iterator[Hit]:
    """The word-processor engine alone reads some tags of conditional blocks, and these fit the rest."""
    text, shown, _ = revealed(document.masked(Span(0, len(document.source.text))))
    if not shown:
        return
    other = parse(text, message.syntax)
    blocks = Spans(shown)
    cut = [
        (element.tag, element.start_tag)
        for element in other.all_elements
        if element.start_tag is not None and blocks.cuts(element.start_tag)
    ]
    for tag, span in cut:
        place = Place.in_html(message, Span(span.start, span.start + 1 + len(tag)))
        yield Hit("<{tag} in a conditional block lacks its “>”.", place, {"tag": tag}, identity=f"cut:{tag}", cause="tags")
    if cut:
        return
    for kind, tag, words, where, _ in markup_faults(message, other):
        if where is None or kind in ("id", "twice") or (kind, where) in told or where.start not in blocks:
            continue
        yield Hit(words, Place.in_html(message, where), {"tag": tag}, identity=f"conditional {kind}:{tag}", cause="tags")


_Fault = tuple[str, str, str, Span | None, int | None]


def markup_faults(message: Message, document: Document) -> Iterator[_Fault]:
    """Each with its kind, its tag or name, its sentence, its place and its element."""
    stray = _stray_end_tags(document)
    # An end tag in the wrong order answers for one that is missing: what is left over after those closes nothing.
    yield from _unclosed(document, stray)
    for name, span in sorted(((name, span) for name, spans in stray.items() for span in spans), key=lambda item: item[1]):
        yield "stray", name, "</{tag}> closes nothing.", span, None
    yield from _moved(document)
    for fault in document.faults:
        if fault.code == "duplicate-attribute":
            place = Span(max(fault.offset - 1, 0), fault.offset)
            yield "twice", "attribute", "An attribute stands twice in one tag; the second is dropped.", place, None
    yield from _same_ids(message, document)


def _stray_end_tags(document: Document) -> dict[str, list[Span]]:
    closed = {element.end_tag.start for element in document.all_elements if element.end_tag}
    stray: dict[str, list[Span]] = {}
    for name, span in document.end_tags:
        if span.start not in closed and name not in _VOID - {"br"} and ":" not in name:
            stray.setdefault(name, []).append(span)
    return stray


def _unclosed(document: Document, stray: dict[str, list[Span]]) -> Iterator[_Fault]:
    """Elements without an end tag of theirs; an end tag further on that may be meant for one is taken out of ``stray``."""
    html = document.source.text
    inside = _links_inside(document)
    cells = [element for element in document.all_elements if element.tag in _CELLS and element.start_tag]
    # Left out throughout is a way of writing; left out here and there is a slip.
    careful = sum(element.end_tag is not None for element in cells) * 5 >= len(cells) * 4
    for element in document.all_elements:
        if element.start_tag is None or element.end_tag or element.tag in _VOID | _OPTIONAL_END or ":" in element.tag:
            continue
        if _closes_itself(html, element) or (element.tag in _CELLS and not careful):
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


def _moved(document: Document) -> Iterator[_Fault]:
    """Elements that the parser put before the table in which they stand (HTML §13.2.6.1)."""
    last = -1
    for element in reversed(document.all_elements):
        if element.start_tag is None:
            continue
        if last >= 0 and element.start_tag.start > last and element.tag not in ("html", "head", "body"):
            yield "moved", element.tag, "<{tag}> stands where a table cannot hold it, and is moved out.", element.start_tag, element.index
        else:
            last = element.start_tag.start


def _same_ids(message: Message, document: Document) -> Iterator[_Fault]:
    seen: set[str] = set()
    for element in document.all_elements:
        attribute = element.attributes.get("id") if "id" in element.names else None
        if attribute is not None and (value := attribute.value).strip():
            if value in seen and not message.holds_field(value):
                yield "id", value, "The id {tag} is given to more than one element.", attribute.value_span, element.index
            seen.add(value)


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
