"""The mends of addresses: blanks in them are written as clients and phones read them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import unquote

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, sources, turns
from jetwind.core.checks.links.address import TEL
from jetwind.core.message import Message

#: Scheme and host of a web address, and what follows them.
_WEB = re.compile(r"(?P<host>https?://[^\s/?#\\]+)(?P<rest>[/?#].*)\Z", re.IGNORECASE | re.DOTALL)


@mend(
    "links.malformed",
    kind=MendKind.SURE,
    does="Each blank inside an address is percent-encoded.",
    leaves="Addresses without a scheme or a host, or with a blank in the host, are left to a person, and so are those with fields.",
    samples=[
        turns("<a href='https://kiln.org/a b?x=1&amp;y=c d#e'>Go</a>", "<a href='https://kiln.org/a%20b?x=1&amp;y=c%20d#e'>Go</a>"),
        turns(
            "<a href='https://kiln.org/a b'>Go</a><a href=\" https://kiln.org/a b \">Again</a>",
            "<a href='https://kiln.org/a%20b'>Go</a><a href=\" https://kiln.org/a%20b \">Again</a>",
        ),
        leaves_alone("<a href='https://ki ln.org/'>Go</a>"),
        leaves_alone("<a href='www.kiln.org/a b'>Go</a>"),
        leaves_alone("<a href='https://kiln.org/{{ a }} b'>Go</a>"),
    ],
)
def mend_blanks(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """A blank as %20 (RFC 3986 §2.1); blanks around an address are left, as every client takes them off."""
    for part, span, written in sources(message, finding):
        address = written.strip()
        web = _WEB.match(address)
        if web is None or message.holds_field(written, in_address=True) or not re.search(r"[ \u00a0]", address):
            continue
        rest = web["rest"].replace("\u00a0", " ").replace(" ", "%20")
        yield Change(part, span, written.replace(address, web["host"] + rest))


@mend(
    "links.tel-invalid",
    kind=MendKind.SURE,
    does="Blanks and slashes in a number to dial are taken out.",
    leaves="A number of letters, without digits or with two plus signs is left to a person.",
    samples=[
        turns("<a href='tel:+351 234 5678'>a</a>", "<a href='tel:+3512345678'>a</a>"),
        turns("<a href='tel:+351%20234%205678'>a</a>", "<a href='tel:+3512345678'>a</a>"),
        turns("<a href='tel://+3512345'>a</a>", "<a href='tel:+3512345'>a</a>"),
        leaves_alone("<a href='tel:CALL-KILN'>a</a>"),
        leaves_alone("<a href='tel:'>a</a>"),
    ],
)
def mend_number(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The digits as RFC 3966 §3 has them."""
    for part, span, written in sources(message, finding):
        number = re.sub(r"[\s/]", "", unquote(written.strip()[len("tel:") :]))
        if written.strip().lower().startswith("tel:") and TEL.match(number):
            yield Change(part, span, f"tel:{number}")
