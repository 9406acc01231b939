"""The mends of addresses: they are written as browsers, mail programs and phones read them, and have the parameters that were asked for."""

from __future__ import annotations

import re
from collections.abc import Iterator
from html import escape
from urllib.parse import quote, unquote

from jetwind.core.checking import Brief, Context, Finding
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, source_at, sources, turns, with_value
from jetwind.core.checks.links.address import TEL
from jetwind.core.message import Envelope, Message

#: An envelope by which addresses at kiln.org are the sender's own.
_OURS = Envelope(subject="x", sender_address="a@kiln.org")
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


@mend(
    "links.mailto-invalid",
    kind=MendKind.SURE,
    does="Slashes before the address are taken out, semicolons between addresses become commas, and a second question mark becomes an ampersand.",
    leaves="An address that is none, or that nobody wrote, is left to a person.",
    samples=[
        turns("<a href='mailto://studio@kiln.org'>a</a>", "<a href='mailto:studio@kiln.org'>a</a>"),
        turns("<a href='mailto:a@kiln.org;b@kiln.org'>a</a>", "<a href='mailto:a@kiln.org,b@kiln.org'>a</a>"),
        turns("<a href='mailto:a@kiln.org?subject=x?body=y'>a</a>", "<a href='mailto:a@kiln.org?subject=x&amp;body=y'>a</a>"),
        leaves_alone("<a href='mailto:studio@kiln'>a</a>"),
        leaves_alone("<a href='mailto:'>a</a>"),
    ],
)
def mend_mail_link(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The form of RFC 6068 §2."""
    for part, span, written in sources(message, finding):
        address = re.sub(r"\A(\s*mailto:)/+", r"\1", written, flags=re.IGNORECASE)
        to, mark, headers = address.partition("?")
        headers = re.sub(r"\?(?=(?:subject|body|cc|bcc|to)=)", "&amp;" if part == "html" else "&", headers, flags=re.IGNORECASE)
        # A semicolon may end a reference such as &amp; in HTML.
        right = (to.replace(";", ",") if "&" not in to else to) + mark + headers
        if right != written and re.fullmatch(
            r"\s*mailto:[^@\s]+@[^@\s]+\.[^@\s]+", right.partition("?")[0].partition(",")[0], re.IGNORECASE
        ):
            yield Change(part, span, right)


@mend(
    "links.parameters-missing",
    kind=MendKind.CONFIRM,
    does="The campaign parameters of the brief are put behind the others, or get the value of the brief.",
    leaves="A parameter for which the brief gives no value is left to a person, and so is an address with a field.",
    samples=[
        turns(
            "<a href='https://kiln.org/a#x'>a</a><a href='https://kiln.org/b?y=1&amp;campaign=autumn'>b</a>",
            "<a href='https://kiln.org/a?campaign=spring#x'>a</a><a href='https://kiln.org/b?y=1&amp;campaign=spring'>b</a>",
            given={"brief": Brief(parameters={"campaign": "spring"})},
            envelope=_OURS,
        ),
        turns(
            "<a href='https://kiln.org/a?y=1'>a</a>",
            "<a href='https://kiln.org/a?y=1&amp;campaign=spring%20sale&amp;medium=mail'>a</a>",
            given={"brief": Brief(parameters={"campaign": "spring sale", "medium": "mail"})},
            envelope=_OURS,
        ),
        leaves_alone("<a href='https://kiln.org/a'>a</a>", given={"brief": Brief(parameters={"campaign": ""})}, envelope=_OURS),
    ],
)
def mend_parameters(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """Names and values are percent-encoded (WHATWG URL §5.2), before the fragment."""
    asked = {name: value for name, value in context.brief.parameters.items() if value}
    for place, lacking in with_value(finding, "parameters"):
        if (found := source_at(message, place)) is None:
            continue
        part, span, written = found
        # Where none lacks, one of them has another value.
        wanted = {name: value for name, value in asked.items() if not lacking or name in lacking.split(", ")}
        right = _with_parameters(written, wanted, part == "html")
        if right != written and not message.holds_field(written, in_address=True):
            yield Change(part, span, right)


def _with_parameters(written: str, wanted: dict[str, str], is_html: bool) -> str:
    """An address as it is written, with each parameter once and with its value."""
    address, mark, fragment = written.partition("#")
    between = "&amp;" if is_html else "&"
    for name, value in wanted.items():
        pair = f"{quote(name, safe='')}={quote(value, safe='')}"
        there = re.compile(rf"(?<=[?&;]){re.escape(quote(name, safe=''))}=[^&#]*")
        if there.search(address):
            address = there.sub(pair, address)
        else:
            address += ("?" if "?" not in address else "" if address.endswith(("?", "&", "&amp;")) else between) + pair
    return address + mark + fragment


@mend(
    "links.anchor-missing",
    kind=MendKind.CONFIRM,
    does="A link inside the message is written like the place that has its name in other letters, large or small.",
    leaves="A link to a place that no element has, or that two have, is left to a person.",
    samples=[
        turns("<a href='#Offers'>Offers</a><h2 id=offers>Offers</h2>", "<a href='#offers'>Offers</a><h2 id=offers>Offers</h2>"),
        leaves_alone("<a href='#Offers'>Offers</a><h2 id=offers>Offers</h2><h2 id=OFFERS>Offers</h2>"),
        leaves_alone("<a href='#offers'>Offers</a><h2 id=offer>Offers</h2>"),
    ],
)
def mend_anchor(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The name as its element has it (HTML §7.4.6: names are compared letter by letter)."""
    names: dict[str, set[str]] = {}
    for element in message.document.all_elements if message.document is not None else ():
        for name in (element.get("id"), element.get("name")):
            if name:
                names.setdefault(name.casefold(), set()).add(name)
    for part, span, written in sources(message, finding):
        alike = names.get(written.strip()[1:].casefold(), set())
        if written.startswith("#") and len(alike) == 1:
            yield Change(part, span, f"#{escape(alike.pop())}")
