"""The mend of lines that are too long for mail."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.message import Message
from jetwind.core.message.charsets import encode_octets
from jetwind.core.source import Span

_HEAD = "Subject: x\nFrom: a@kiln.org\nContent-Type: text/html\n"
_ROW = f"<td>{'a' * 400}</td>"
#: Octets of a line that mail can carry, and of what stays of a line that is broken: a little room is left for what servers put in.
_LIMIT, _LONGEST = 998, 900


@mend(
    "sending.line-long",
    kind=MendKind.SURE,
    does="Long lines of the HTML are broken inside of tags, before their last mark, where a line end changes nothing.",
    leaves="A line without a tag in the first 900 octets is left to a person, and so is plain text.",
    samples=[
        turns(f"{_HEAD}\n<table><tr>{_ROW * 3}</tr></table>\n", f"{_HEAD}\n<table><tr>{_ROW * 2}<td\n>{'a' * 400}</td></tr></table>\n"),
        leaves_alone(f"{_HEAD}\n<p>{'a' * 2000}</p>\n"),
        leaves_alone(f"Subject: x\nFrom: a@kiln.org\n\n{'a' * 1200}\n"),
    ],
)
def mend_long_lines(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """White space before the mark that ends a tag belongs to no element (HTML §13.1.2)."""
    html, document = message.html, message.document
    if html is None or document is None or html.part is None or html.part.transfer_encoding not in ("", "7bit", "8bit"):
        return
    tags = (tag for element in document.elements() for tag in (element.start_tag, element.end_tag) if tag is not None)
    ends = sorted(tag.end - 1 for tag in tags if html.text[tag.end - 2 : tag.end] != "/>")
    newline = "\r\n" if "\r\n" in html.text else "\n"
    start = 0
    changes: list[Change] = []
    for line in html.text.split("\n"):
        begins, end = start, start + len(line)
        start = end + 1
        # A character has an octet at least: so many characters are too many, and no place beyond so many is near enough.
        while end - begins > _LIMIT or len(encode_octets(html.text[begins:end], html.charset)) > _LIMIT:
            near = [at for at in ends[bisect_left(ends, begins + 1) : bisect_left(ends, begins + _LONGEST)] if at < end]
            while near and len(encode_octets(html.text[begins : near[-1]], html.charset)) > _LONGEST:
                near.pop()
            if not near:
                return
            changes.append(Change("html", Span(near[-1], near[-1]), newline))
            begins = near[-1]
    yield from changes
