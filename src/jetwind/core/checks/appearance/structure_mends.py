"""The mend of tags that do not open and close as they should: what the browser reads is written out, and its tree stays the same."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checking.mends import stretch as stretch_of
from jetwind.core.checks.appearance.structure import markup_faults
from jetwind.core.checks.needs import need_html
from jetwind.core.markup import Document, Element, TextRun, parse
from jetwind.core.message import Message
from jetwind.core.profiles.word_processor import revealed
from jetwind.core.source import Edit, Span, splice

#: Elements that the parser opens again in what follows (HTML §13.2.4.3): where they end is a question of what the author meant.
_OPENED_AGAIN = frozenset(["b", "big", "code", "em", "font", "i", "nobr", "s", "small", "strike", "strong", "tt", "u"])
#: End tags that stay: two make an element where they close none (HTML §13.2.6.4.7); behind those of the page, parsers of XML descent stop.
_STAYS = frozenset(["p", "br", "html", "head", "body"])
#: Source of which a tree is built once more to hold it against the first, in characters.
_MOST = 1_000_000


@mend(
    "appearance.parse-error",
    kind=MendKind.SURE,
    does="An end tag that closes nothing goes, an element that is never closed is closed where browsers close it, and the second of two equal attributes goes.",
    leaves="Elements in the wrong order, those that a table cannot hold, an end of the page in its middle and an id that is given twice are left to a person.",
    samples=[
        turns("<div>x</div></div>", "<div>x</div>"),
        turns("<DIV>x</DIV>\r\n</DIV >\r\n", "<DIV>x</DIV>\r\n\r\n"),
        turns("<table><tr><td>x</td></tr>", "<table><tr><td>x</td></tr></table>"),
        turns(
            "<table><tr><td>a</td><td>b</tr><tr><td>c</td></tr><tr><td>d</td><td>e</td></tr></table>",
            "<table><tr><td>a</td><td>b</td></tr><tr><td>c</td></tr><tr><td>d</td><td>e</td></tr></table>",
        ),
        turns("<a href='a'>one <a href='b'>two</a>", "<a href='a'>one </a><a href='b'>two</a>"),
        turns("<p style='a' STYLE=b>x</p>", "<p style='a'>x</p>"),
        turns("<div><p>{{ name }}</p><div>{% if a %}x{% endif %}</div>", "<div><p>{{ name }}</p><div>{% if a %}x{% endif %}</div></div>"),
        leaves_alone("<p>x</p></p>" + "<b><i>x</b></i>"),
        leaves_alone("<p>x</p></body></html>\n<p>y</p></body></html>"),
        leaves_alone("<p>a <b>bold</p><p>b</p>"),
        leaves_alone("<table><div>x</div><tr><td>y</td></tr></table>"),
        leaves_alone("<p id='a'>x</p><p id='a'>y</p>"),
        leaves_alone("<!--[if mso]><table><tr><td><![endif]--><div>x</div><!--[if mso]></td></tr><![endif]-->"),
        leaves_alone("<table><tr><td>x</td></tr><!--[if mso]></table><![endif]--><p>y</p>"),
    ],
)
def mend_parse_errors(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """Each kind of change is made where the tree with it is the one without it: the same elements, attributes and words in the same places."""
    html, document = need_html(message)
    wanted = {span for place in finding.places if (span := stretch_of(place)) is not None}
    if len(html.text) > _MOST or not wanted:
        return
    by_kind: dict[str, list[Change]] = {}
    for kind, tag, _, span, index in markup_faults(message, document):
        if span is not None and span in wanted:
            element = document.all_elements[index] if index is not None else None
            by_kind.setdefault(kind, []).extend(_of_fault(document, kind, tag=tag, span=span, element=element))
    good: list[Change] = []
    for own in by_kind.values():
        if own and _is_same_tree(message, document, [*good, *own]):
            good += own
    yield from good


def _of_fault(document: Document, kind: str, *, tag: str, span: Span, element: Element | None) -> Iterator[Change]:
    if kind == "stray" and tag not in _STAYS:
        yield Change("html", span, "")
    elif kind == "unclosed" and element is not None and element.tag not in _OPENED_AGAIN:
        name = document.source.slice(span)[1 : 1 + len(element.tag)]
        end = _end_of(document, element)
        yield Change("html", Span(end, end), f"</{name}>")
    elif kind == "nested":
        yield Change("html", Span(span.start, span.start), "</a>")
    elif kind == "twice":
        yield from _second_of_two(document, span.end)


def _end_of(document: Document, element: Element) -> int:
    """Where the parser closed an element that has no end tag, in characters of the source: before what comes next outside of it."""
    here: Element | None = element
    while here is not None and here.parent is not None:
        others = iter(here.parent.children)
        # What comes before the element is gone through and left behind.
        if any(one is here for one in others) and (after := next(_starts(others), None)) is not None:
            return after
        here = here.parent
        if here.end_tag is not None:
            return here.end_tag.start
    return len(document.source.text)


def _starts(nodes: Iterable[Element | TextRun]) -> Iterator[int]:
    for node in nodes:
        span = node.start_tag if isinstance(node, Element) else node.span
        if span is not None:
            yield span.start


def _second_of_two(document: Document, at: int) -> Iterator[Change]:
    """The second of two equal attributes with the blank before it; ``at`` is a place in it or right behind it."""
    index = document.element_before(max(at - 1, 0))
    element = document.all_elements[index] if index is not None else None
    if element is None or element.start_tag is None or not element.start_tag.start < at <= element.start_tag.end:
        return
    text, end = document.source.text, element.start_tag.end
    known = {one.span.start for one in element.attributes.values()}
    seen: set[str] = set()
    for found in _attributes(text, element.start_tag.start + 1 + len(element.tag), end):
        name = text[found.start : found.end].partition("=")[0].strip().lower()
        if name in seen and found.start not in known and found.start <= at <= found.end + 1:
            blank = len(text[: found.start]) - len(text[: found.start].rstrip())
            yield Change("html", Span(found.start - blank, found.end), "")
            return
        seen.add(name)


def _attributes(text: str, at: int, end: int) -> Iterator[Span]:
    """The attributes of a start tag, from behind its name to its end (HTML §13.2.5.32 to 38)."""
    while at < end:
        while at < end and text[at] in " \t\r\n\f/":
            at += 1
        start = at
        while at < end and text[at] not in " \t\r\n\f/>=":
            at += 1
        value = at
        while value < end and text[value] in " \t\r\n\f":
            value += 1
        if value < end and text[value] == "=":
            at = value + 1
            while at < end and text[at] in " \t\r\n\f":
                at += 1
            if at < end and text[at] in "\"'":
                close = text.find(text[at], at + 1, end)
                at = close + 1 if close >= 0 else end
            else:
                while at < end and text[at] not in " \t\r\n\f>":
                    at += 1
        if at == start:
            return
        yield Span(start, at)


def _is_same_tree(message: Message, document: Document, changes: Iterable[Change]) -> bool:
    """Whether the source with the changes has the tree that it has without them: as browsers read it, and as the word processor does."""
    edits = [Edit(one.span, one.text) for one in changes]
    text = document.source.text
    made = parse(splice(text, edits), message.syntax)
    if _shape(made) != _shape(document):
        return False
    if "[if" not in text.lower():
        return True
    before, after = (parse(revealed(one.masked(Span(0, len(one.source.text))))[0], message.syntax) for one in (document, made))
    # An end tag that browsers lack may stand where the word processor alone reads it: a second one would close nothing there.
    return _shape(before) == _shape(after) and _faults(message, after) <= _faults(message, before)


def _faults(message: Message, document: Document) -> int:
    return sum(1 for _ in markup_faults(message, document))


def _shape(document: Document) -> list[object]:
    """Elements with their parents and attributes, and the words between them, in order; text that is parted by a tag alone is one."""
    found: list[object] = []
    for element in document.all_elements:
        parent = element.parent.index if element.parent is not None else -1
        found.append((element.tag, parent, sorted((name, element.get(name)) for name in element.names)))
        words = ""
        for child in element.children:
            if isinstance(child, TextRun):
                words += child.text
            else:
                found.append((words, child.index))
                words = ""
        found.append((words, -1))
    return found
