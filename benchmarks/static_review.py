"""Parsing and the whole static review of a generated message, against lxml's and html5lib's parse of the same HTML.

PYTHONPATH=src .jetwind/venv/bin/python -m benchmarks.static_review
"""

from __future__ import annotations

import math

import html5lib
import lxml.html

from benchmarks.common import compare, milliseconds
from jetwind.core.checking import Context, registry
from jetwind.core.markup import TextRun
from jetwind.core.message import Message, read_bytes
from jetwind.core.reports import review
from jetwind.engines.dictionaries import Installed
from tests.factories import GOOD_HTML, mail

_ROW = (
    '<tr><td class="half" width="50%" valign="top" style="padding:0 10px 14px 0;font:15px/1.45 Georgia, serif;color:#1b2430">'
    '<a href="https://www.kiln.org/glaze/{0}"><img src="https://www.kiln.org/g/{0}.jpg" width="258" height="193" alt="Bowl number {0}" style="display:block"></a>'
    '<h2 style="font:bold 18px/1.3 Georgia, serif;margin:10px 0 4px">Glaze {0}</h2>Breaks to pale green over texture &amp; pools where thick.</td></tr>'
)
_STYLES = "<style>" + "".join(f".s{n} td.half {{ padding: {n % 20}px; color: #1b2430 }} " for n in range(100)) + "</style>"


def message_of(kilobytes: int) -> bytes:
    """A mail whose HTML has about that many KB."""
    rows = "".join(_ROW.format(number) for number in range(kilobytes * 1024 // len(_ROW)))
    return mail(GOOD_HTML.replace("</head>", f"{_STYLES}</head>").replace("</body>", f'<table role="presentation">{rows}</table></body>'))


def parsed(raw: bytes) -> Message:
    """MIME and tree; spans are read when they are asked for."""
    message = read_bytes(raw, "a.eml")
    assert message.document is not None
    return message


def every_span(raw: bytes) -> Message:
    """MIME, tree, and every span of tags, attributes, text and comments read."""
    message = parsed(raw)
    document = message.document
    assert document is not None
    for element in document.all_elements:
        assert element.start_tag is None or element.start_tag.end > element.start_tag.start
        for attribute in element.attributes.values():
            assert attribute.span
        for child in element.children:
            assert not isinstance(child, TextRun) or child.span is None or child.span.end >= child.span.start
    assert document.comments is not None
    return message


def main() -> None:
    """Print the tables."""
    registry()
    raw = message_of(60)
    html = parsed(raw).html
    assert html is not None
    print(f"HTML of {html.octets / 1024:.0f} KB, {len(registry())} checks")
    compare("parse, spans on demand", "lxml.html", lambda: lxml.html.document_fromstring(html.text), lambda: parsed(raw), 3)
    compare("parse and read every span", "lxml.html", lambda: lxml.html.document_fromstring(html.text), lambda: every_span(raw), 3)
    compare(
        "whole static review",
        "html5lib",
        lambda: html5lib.parse(html.text),
        lambda: review(read_bytes(raw, "a.eml"), Context(dictionaries=Installed())),
        4,
    )
    last, before = 0.0, 1
    print("   KB   parse    check   floor (html5lib)   ratio   growth for each doubling")
    for kilobytes in (20, 50, 100, 200, 400):
        data = message_of(kilobytes)
        text = parsed(data).html
        assert text is not None
        parse = min(milliseconds(lambda data=data: parsed(data)) for _ in range(3))
        check = min(milliseconds(lambda data=data: review(read_bytes(data, "a.eml"), Context(dictionaries=Installed()))) for _ in range(3))
        floor = min(milliseconds(lambda text=text: html5lib.parse(text.text)) for _ in range(3))
        growth = f"{(check / last) ** (1 / math.log2(kilobytes / before)):.2f} (goal 2.2)" if last else ""
        print(f"{kilobytes:5} {parse:6.1f} ms {check:6.0f} ms {floor:13.0f} ms {check / floor:9.2f}   {growth}")
        last, before = check, kilobytes


if __name__ == "__main__":
    main()
