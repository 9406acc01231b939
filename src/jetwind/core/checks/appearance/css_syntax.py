"""Style sheets and style attributes can be read."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import islice
from typing import TYPE_CHECKING

import tinycss2

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.appearance.places import in_style
from jetwind.core.checks.needs import need_html
from jetwind.core.fields import blanked, source_tokens
from jetwind.core.fields.syntax import FILLER
from jetwind.core.message import Message
from jetwind.core.source import LIMITS, SourceText
from jetwind.core.styles.reading import block_nodes, is_too_deep, sheet_nodes

if TYPE_CHECKING:
    from tinycss2.ast import Part

#: What matters for balance: comments, strings, escapes, brackets, and addresses without quotes (CSS Syntax 3 §4.3).
_TOKEN = re.compile(
    r"/\*(?:.*?(?P<end>\*/)|.*\Z)|\\.|(?P<address>url\(\s*(?![\"'\s])[^)\"']{0,100000}\))"
    r"|(?P<quote>[\"'])(?:[^\"'\\\n\r\f]|\\(?:\r\n|.)|(?!(?P=quote))[\"'])*(?P<closed>(?P=quote))?|(?P<bracket>[{}()\[\]])",
    re.DOTALL | re.IGNORECASE,
)
_OPENS = {"}": "{", ")": "(", "]": "["}


@check(
    id="appearance.css-syntax",
    name="Styles that cannot be read",
    level=Level.FIX,
    why="A brace too many or too few takes the rules around it along, in every client.",
    fix="Close each bracket, string and rule, and write each declaration as name: value.",
    basis="CSS Syntax 3 §5 (from memory)",
    together="Style sheets cannot be read in {many} places.",
    samples=[
        clear("<style>p { color: red } @media (max-width: 600px) { p { color: blue } } a[href='}'] { color: red }</style><p>x</p>"),
        clear(
            "<style><!-- p { color: red; *zoom: 1; _height: 1px; filter: progid:DXImageTransform.Microsoft.x(a='b') } --></style><p>x</p>"
        ),
        clear('<style>p:after { content: "}\\"{" } /* } { */ p { background: url(a{b.png) }</style><p>x</p>'),
        clear("<p style=\"color: red;; font-family: 'Lora', serif; mso-line-height-rule: exactly; --a: { }\">x</p>"),
        clear(
            "<style>{{ styles }} p { color: {{ colour }} } {% if dark %} p { color: white } {% endif %}</style><p style='{{ style }}'>x</p>"
        ),
        clear("<style>@import url(a.css); @charset 'utf-8'; ;</style><p style=''>x</p><p style=';'>y</p>"),
        finds("<style>p { color: red  a { color: blue }</style><p>x</p>", at="{"),
        finds("<style>p { color: red } } a { color: blue }</style><p>x</p>", at="}"),
        finds("<style>p { content: 'x; color: red }\na { color: blue }</style><p>x</p>", at="'"),
        finds("<style>/* p { color: red } a { color: blue }</style><p>x</p>", at="/*"),
        finds("<style>p { color: rgb(1, 2, 3; margin: 0 } a { color: blue }</style><p>x</p>"),
        finds("<style>p { color red; margin: 0 }</style><p>x</p>", at="color red"),
        finds('<p style="width: 100px; height=20px">x</p>', at="width: 100px; height=20px"),
    ],
)
def find_syntax(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Braces, strings and comments of style sheets are closed, and what stands between them is read."""
    _, document = need_html(message)
    for style in document.elements("style"):
        fields = source_tokens(style.text, message.syntax)
        css = blanked(style.text, fields) if fields else style.text
        if len(css) >= LIMITS.sheet_characters or is_too_deep(css):
            continue  # it is not looked at whole, which appearance.limits tells
        fault = _imbalance(css)
        if fault is not None and any(token.is_block for token in fields):
            continue  # each branch of the template may open and close on its own
        if fault is not None:
            rules = css.count("{", fault.at + 1)
            lost = (
                f"{rules:,} rules after it are in doubt"
                if rules > 1
                else "what stands after it is in doubt"
                if css[fault.at + 1 :].strip()
                else "nothing closes it"
            )
            data = {"what": fault.what, "lost": lost}
            yield Hit("{what}: {lost}.", in_style(message, style, fault.at, fault.at + fault.length), data, identity=fault.what)
            continue
        for start, written in islice(_unread(css), _MOST_TOLD):
            place = in_style(message, style, start, start + len(written))
            yield Hit(
                "“{written}” is no declaration, and every client leaves it out.", place, {"written": written[:60]}, identity=written[:100]
            )
    for element in document.all_elements:
        written_style = element.attributes.get("style") if "style" in element.names else None
        if written_style is None or not (css := document.style_of(element)):
            continue
        for _, text in islice(_unread_declarations(block_nodes(css), SourceText(css), []), _MOST_TOLD):
            place = Place.in_html(message, written_style.value_span, element.index)
            yield Hit("“{written}” is no declaration, and every client leaves it out.", place, {"written": text[:60]}, identity=text[:100])


#: Declarations of one sheet or attribute that are told.
_MOST_TOLD = 50


@dataclass(frozen=True)
class _Fault:
    """The bracket, string or rule that does not balance, and its characters in the sheet."""

    what: str
    at: int
    length: int = 1


def _imbalance(css: str) -> _Fault | None:
    """The first thing that is never closed, or that closes nothing."""
    opened: list[tuple[str, int]] = []
    for match in _TOKEN.finditer(css):
        at = match.start()
        if match[0].startswith("/*"):
            if match["end"] is None:
                return _Fault("A comment is never closed", at, 2)
        elif match["quote"]:
            if match["closed"] is None:
                return _Fault("A quotation mark is never closed on its line", at)
        elif (bracket := match["bracket"]) in ("{", "(", "["):
            opened.append((bracket, at))
        elif bracket in _OPENS:
            wanted = _OPENS[bracket]
            if bracket == "}" and opened and opened[-1][0] != "{":
                return _Fault(f"A “{opened[-1][0]}” is never closed", opened[-1][1])
            if not opened or opened[-1][0] != wanted:
                return _Fault(f"A “{bracket}” closes nothing", at)
            opened.pop()
    if opened:
        return _Fault(f"A “{opened[-1][0]}” is never closed", opened[-1][1])
    return None


def _unread(css: str) -> Iterator[tuple[int, str]]:
    """The text in the rules of a sheet that is no declaration, with its place."""
    source = SourceText(css)
    delimiters: list[int] = []
    waiting = sheet_nodes(css)[::-1]
    while waiting:
        node = waiting.pop()
        if node.type == "at-rule" and node.content is not None and node.lower_at_keyword in ("media", "supports", "layer"):
            waiting += tinycss2.parse_rule_list(node.content, skip_comments=True, skip_whitespace=True)[::-1]
        elif node.type == "qualified-rule":
            yield from _unread_declarations(block_nodes(node.content), source, delimiters)


def _unread_declarations(nodes: Sequence[Part], source: SourceText, delimiters: list[int]) -> Iterator[tuple[int, str]]:
    """The text of a block that is no declaration: the library tells where it ends. ``delimiters`` are those of the source, noted at the first fault."""
    css = source.text
    for node in nodes:
        if node.type != "error":
            continue
        if not delimiters:
            delimiters += [-1, *(match.start() for match in _DELIMITER.finditer(css)), len(css)]
        number = bisect_left(delimiters, source.offset(node.source_line, node.source_column))
        start = delimiters[max(0, number - 1)] + 1
        written = css[start : delimiters[min(number, len(delimiters) - 1)]]
        start += len(written) - len(written.lstrip())
        written = written.strip()
        # Old tricks for one browser begin with a sign that makes others pass over the declaration; a field may bring anything.
        if written and not written.startswith(("*", "_", "#", "<!--", "-->")) and FILLER not in written:
            yield start, written


_DELIMITER = re.compile(r"[;{}]")
