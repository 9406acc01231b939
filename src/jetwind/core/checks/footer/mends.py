"""The mends of the headers by which readers unsubscribe."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, fill, leaves_alone, mend, of_header, turns
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


_ADDRESS = re.compile(r"https://[!-;=?-~]{4,900}\Z", re.IGNORECASE)


@fill(
    "footer.list-unsubscribe",
    asks="The https address that takes a reader off the list by one request",
    example="https://www.saltmarsh-kiln.example/leave",
    does="List-Unsubscribe holds the address in angle brackets, and List-Unsubscribe-Post with its one value stands behind it.",
    leaves="A message whose List-Unsubscribe stands twice, or whose headers a person gives, is left to a person.",
    samples=[
        turns(
            "Subject: x\nFrom: a@kiln.org\n\nx\n",
            f"{_HEAD}List-Unsubscribe-Post: List-Unsubscribe=One-Click\n\nx\n",
            "https://kiln.org/u?m=1",
        ),
        turns(
            "Subject: x\r\nFrom: a@kiln.org\r\nList-Unsubscribe: https://kiln.org/u\r\n\r\nx\r\n",
            "Subject: x\r\nFrom: a@kiln.org\r\nList-Unsubscribe: <https://kiln.org/u>\r\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\r\n\r\nx\r\n",
            "https://kiln.org/u",
        ),
        leaves_alone("Subject: x\nFrom: a@kiln.org\n\nx\n", "mailto:leave@kiln.org"),
    ],
)
def fill_list_unsubscribe(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The header of RFC 2369 §3.2 and that of RFC 8058 §3.1, which says that one request is enough."""
    there, sender = of_header(message, "List-Unsubscribe"), of_header(message, "From")
    if not _ADDRESS.match(word):
        return
    post = "" if message.header("List-Unsubscribe-Post") is not None else f"List-Unsubscribe-Post: {ONE_CLICK}"
    if there is not None:
        span, newline = there
        yield Change("header", span, f" <{word}>{newline}{post}" if post else f" <{word}>")
    elif sender is not None and message.header("List-Unsubscribe") is None:
        span, newline = sender
        yield Change(
            "header",
            Span(span.end, span.end),
            f"{newline}List-Unsubscribe: <{word}>{newline}{post}" if post else f"{newline}List-Unsubscribe: <{word}>",
        )
