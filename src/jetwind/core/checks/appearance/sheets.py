"""Style sheets that lie elsewhere."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checks.appearance.places import in_style
from jetwind.core.checks.needs import need_html
from jetwind.core.message import Message
from jetwind.core.source import SourceText
from jetwind.core.styles.reading import sheet_nodes

if TYPE_CHECKING:
    from tinycss2.ast import Value

_DATASET = "the open support dataset, caniemail 1.0.5"


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
                    place = in_style(message, style, start, start + len("@import"))
                    yield Hit("A style sheet is imported: {address}", place, {"address": address})


def _flat(nodes: Sequence[Value]) -> Iterator[Value]:
    """Nodes, and those inside ``url()``."""
    for node in nodes:
        yield from node.arguments if node.type == "function" else (node,)


#: What holds nothing but web fonts says so by a label of its host or a word of its address (common practice, no published source).
_FONTS = re.compile(r"(?:^|[./-])(?:web-?)?fonts?(?:[./?_-]|$)|[?&]family=", re.IGNORECASE)


def _is_of_fonts(address: str) -> bool:
    """Whether a sheet from elsewhere brings web fonts, which is normal: clients that do not take it show the next family."""
    return _FONTS.search(re.sub(r"^[a-z]+:", "", address.strip())) is not None
