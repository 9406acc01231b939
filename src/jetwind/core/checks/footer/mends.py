"""The mends of the headers by which readers unsubscribe."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checks.footer.unsubscribe import ONE_CLICK
from jetwind.core.message import Message
from jetwind.core.source import Span

_HEAD = "Subject: x\nFrom: a@kiln.org\nList-Unsubscribe: <https://kiln.org/u?m=1>\n"


@mend(
    "footer.one-click",
    kind=MendKind.CONFIRM,
    does="List-Unsubscribe-Post stands beside List-Unsubscribe with its one value; the address has to answer a request of that form.",
    leaves="List-Unsubscribe itself is left to a person, who knows the address.",
    samples=[
        turns(f"{_HEAD}\nx\n", f"{_HEAD}List-Unsubscribe-Post: List-Unsubscribe=One-Click\n\nx\n"),
        turns(f"{_HEAD}List-Unsubscribe-Post: one-click\n\nx\n", f"{_HEAD}List-Unsubscribe-Post: List-Unsubscribe=One-Click\n\nx\n"),
        leaves_alone("Subject: x\nFrom: a@kiln.org\nList-Unsubscribe: <mailto:leave@kiln.org>\n\nx\n"),
    ],
)
def mend_one_click(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The header of RFC 8058 §3.1, on a line of its own behind List-Unsubscribe."""
    asked, post = message.header("List-Unsubscribe"), message.header("List-Unsubscribe-Post")
    if asked is None or asked.span is None or finding.template.startswith("List-Unsubscribe holds"):
        return
    source = message.header_source.text
    if post is None:
        newline = "\r\n" if "\r\n" in source else "\n"
        yield Change("header", Span(asked.span.end, asked.span.end), f"{newline}List-Unsubscribe-Post: {ONE_CLICK}")
    elif post.span is not None:
        colon = source.index(":", post.span.start) + 1
        yield Change("header", Span(colon, post.span.end), f" {ONE_CLICK}")
