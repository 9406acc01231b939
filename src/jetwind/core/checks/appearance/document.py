"""The HTML is a document that clients lay out as it was meant, and holds nothing that they strike out."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import Context, Finding, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checks.appearance.places import in_style
from jetwind.core.checks.needs import need_html
from jetwind.core.markup import Element
from jetwind.core.message import Message
from jetwind.core.source import Span

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


@mend(
    "appearance.doctype",
    kind=MendKind.CONFIRM,
    reach="message",
    does="The HTML begins with <!doctype html>.",
    leaves="A doctype that stands too late is left to a person: what stands before it may be meant for some clients.",
    samples=[
        turns("<html><body><p>x</p></body></html>", "<!doctype html>\n<html><body><p>x</p></body></html>"),
        turns("<p>x</p>\r\n<p>y</p>", "<!doctype html>\r\n<p>x</p>\r\n<p>y</p>"),
        leaves_alone("<p>x</p><!doctype html>"),
    ],
)
def mend_doctype(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The doctype of HTML §13.1.1, on a line of its own."""
    html, _ = need_html(message)
    if "<!doctype" not in html.seen.lower():
        yield Change("html", Span(0, 0), "<!doctype html>" + ("\r\n" if "\r\n" in html.text else "\n"))


@check(
    id="appearance.viewport",
    name="Media queries without a viewport",
    level=Level.NOTE,
    why="Mail programs on phones take the screen’s width, as the renders do; a browser that shows the message, such as its web version, lays it out as for a wide screen.",
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
                in_style(message, style, match.start(), match.end()),
                identity="missing",
            )
            return


@mend(
    "appearance.viewport",
    kind=MendKind.CONFIRM,
    reach="message",
    does="The head gets a viewport as wide as the screen.",
    leaves="A message without a head, or with a viewport that says nothing, is left to a person.",
    samples=[
        turns(
            "<html><head><style>@media (max-width:600px){td{width:100%}}</style></head><body><p>x</p></body></html>",
            '<html><head><meta name="viewport" content="width=device-width, initial-scale=1">'
            "<style>@media (max-width:600px){td{width:100%}}</style></head><body><p>x</p></body></html>",
        ),
        leaves_alone('<head><meta name="viewport" content=""><style>@media (max-device-width:480px){a{color:red}}</style></head>'),
        leaves_alone("<style>@media (max-width:600px){td{width:100%}}</style><p>x</p>"),
    ],
)
def mend_viewport(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The meta element stands first in the head."""
    _, document = need_html(message)
    head = next((one for one in document.elements("head") if one.start_tag is not None), None)
    has_one = any((meta.get("name") or "").strip().lower() == "viewport" for meta in document.elements("meta"))
    if head is not None and head.start_tag is not None and not has_one:
        at = head.start_tag.end
        yield Change("html", Span(at, at), '<meta name="viewport" content="width=device-width, initial-scale=1">')


_ACTIVE = frozenset({"script", "form", "iframe", "object", "embed", "applet", "frame", "frameset"})
#: A handler is ``on`` and an event's name (HTML §8.1.8.2); other attributes that start so have no such names.
#: Attributes that hold an address (HTML, index of attributes), and addresses that are a program; a browser leaves out tabs and line ends
#: in them (WHATWG URL §4.4).
_ADDRESSES = frozenset({"href", "src", "background", "action", "formaction", "data", "poster", "xlink:href", "dynsrc", "lowsrc", "cite"})
_LEFT_OUT = re.compile(r"[\t\n\r]|\A[\0-\x20]+")
_SCRIPT = re.compile(r"(?:javascript|vbscript|livescript):|data:\s*(?:text/html|application/xhtml\+xml|text/javascript)", re.IGNORECASE)
_NO_SCRIPT = re.compile(r"javascript:\s*(?:void\s*\(?\s*0?\s*\)?|;)?\s*;?\Z", re.IGNORECASE)
_HANDLER = re.compile(r"on(?!ly\b)[a-z]{3,}\Z")


@check(
    id="appearance.active-content",
    name="Scripts, forms or frames",
    level=Level.STOP,
    why="Clients strike them out or warn of them, and filters refuse such messages.",
    fix="Take it out; lead to a web page instead.",
    basis=f"{_DATASET}: html-form, html-object, html-video and others",
    together="{many} scripts, forms, frames and handlers do not work in mail.",
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
        clear("<a href='javascript:void(0)'>told by links.empty</a><a href='#'>x</a><p title='javascript: the language'>x</p>"),
        clear("<a href='https://kiln.org/javascript:alert(1)'>x</a><img src='data:image/gif;base64,R0lGODlhAQABAAAAACw='>"),
        finds("<a href='javascript:alert(1)'>x</a>", at="javascript:alert(1)"),
        finds("<a href=' java\tscript:alert(1)'>x</a>"),
        finds("<img src='javascript:alert(1)'>", at="javascript:alert(1)"),
        finds("<table><tr><td background='vbscript:x'>y</td></tr></table>"),
        finds("<a href='data:text/html,&lt;script&gt;x()&lt;/script&gt;'>x</a>"),
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
            elif name in _ADDRESSES and element.tag != "form" and (attribute := element.attributes.get(name)):
                address = _LEFT_OUT.sub("", attribute.value)
                if _SCRIPT.match(address) and not _NO_SCRIPT.match(address):
                    shown = {"address": attribute.value.strip()[:80]}
                    yield Hit("The address {address} is a script.", Place.in_html(message, attribute.value_span, element.index), shown)


def _is_data(element: Element) -> bool:
    """A block of JSON for machines is no script (HTML §4.12.1, data blocks)."""
    return element.tag == "script" and (element.get("type") or "").strip().lower() in ("application/ld+json", "application/json")
