"""The mends of links by what was found behind them, and those for which a person gives the address."""

from __future__ import annotations

import re
from collections.abc import Iterator
from html import escape, unescape

from jetwind.core.checking import Context, Finding
from jetwind.core.checking.mends import Change, MendKind, fill, leaves_alone, mend, one_place, source_at, sources, turns
from jetwind.core.checking.samples import answered, opened
from jetwind.core.links.addresses import parsed
from jetwind.core.links.answers import Answer
from jetwind.core.links.collection import web
from jetwind.core.message import Message
from jetwind.core.source import Span

_PLAIN, _SECURE = "http://kiln.org/a?b=1", "https://kiln.org/a?b=1"
_A = "https://kiln.org/sale"
_WAY = opened(answered(_A, 301, ("https://kiln.org/b", 302), ("https://kiln.org/c", 302), ("https://kiln.org/d?x=1&y=2", 200)))
_SHORT = "https://sho.rt/aB3dE"
#: A place that is written as an address that the checks take: with a scheme that leads somewhere.
_ADDRESS = re.compile(
    r"(?:https?://[^\s/?#\"'<>]+\.[^\s\"'<>]+|mailto:[^\s@\"'<>]+@[^\s@\"'<>]+|tel:\+?[\d().-]+|#[\w-]+)\Z", re.IGNORECASE
)
_ASKS = "The address that the link leads to, with https://"


def _answer(message: Message, context: Context, written: str) -> Answer | None:
    """The answer of an address as it is written; None where it was not opened, has a field, or ended in a fault."""
    address = web(unescape(written))
    known = context.answers.links if context.answers is not None and address is not None else {}
    answer = known.get(address.href) if address is not None else None
    if answer is None or message.holds_field(written, in_address=True) or answer.problem or not 200 <= answer.status < 300:
        return None
    return answer


@mend(
    "links.insecure",
    kind=MendKind.SURE,
    does="Each address that the server itself leads on to https is written so.",
    leaves="A link that was not opened, or that is not led on to the same address over https, is left to a person.",
    samples=[
        turns(
            f"<a href='{_PLAIN}'>Go</a><a href='{_PLAIN}'>Again</a>",
            f"<a href='{_SECURE}'>Go</a><a href='{_SECURE}'>Again</a>",
            given=opened(answered(_PLAIN, 301, (_SECURE, 200))),
        ),
        leaves_alone(f"<a href='{_PLAIN}'>Go</a>"),
        leaves_alone(f"<a href='{_PLAIN}'>Go</a>", given=opened(answered(_PLAIN, 200))),
        leaves_alone(f"<a href='{_PLAIN}'>Go</a>", given=opened(answered(_PLAIN, 301, ("https://kiln.org/", 200)))),
    ],
)
def mend_insecure(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The scheme, where the same address answers over https."""
    for part, span, written in sources(message, finding):
        answer = _answer(message, context, written)
        if answer is not None and answer.leads_to_https and written.strip()[:5].lower() == "http:":
            start = span.start + written.index(written.strip())
            yield Change(part, Span(start, start + 4), "https")


def _led_to(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    for part, span, written in sources(message, finding):
        answer = _answer(message, context, written)
        if answer is not None and answer.redirects and answer.final.lower().startswith("https://") and parsed(answer.final) is not None:
            final = escape(answer.final) if part == "html" else answer.final
            yield Change(part, span, written.replace(written.strip(), final))


@mend(
    "links.redirect-long",
    kind=MendKind.CONFIRM,
    does="The link leads to where it ends.",
    leaves="A way that counts who passes by is lost then; an end without https is left to a person.",
    samples=[
        turns(f"<a href='{_A}'>Go</a>", "<a href='https://kiln.org/d?x=1&amp;y=2'>Go</a>", given=_WAY),
        leaves_alone(
            f"<a href='{_A}'>Go</a>",
            given=opened(answered(_A, 301, ("https://kiln.org/b", 302), ("https://kiln.org/c", 302), ("http://kiln.org/d", 200))),
        ),
    ],
)
def mend_redirects(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The address that answered at the end."""
    yield from _led_to(message, context, finding)


@mend(
    "links.opaque",
    kind=MendKind.CONFIRM,
    does="The shortened address becomes the one that it leads to.",
    leaves="A link that was not opened is left to a person.",
    samples=[
        turns(f"<a href='{_SHORT}'>a</a>", "<a href='https://kiln.org/sale'>a</a>", given=opened(answered(_SHORT, 301, (_A, 200)))),
        turns(
            f"From: a@kiln.org\nSubject: x\n\n{_SHORT}\n",
            f"From: a@kiln.org\nSubject: x\n\n{_A}\n",
            given=opened(answered(_SHORT, 301, (_A, 200))),
        ),
        leaves_alone(f"<a href='{_SHORT}'>a</a>"),
    ],
)
def mend_opaque(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The address that answered at the end."""
    yield from _led_to(message, context, finding)


@mend(
    "links.plain-address",
    kind=MendKind.CONFIRM,
    does="Each address in the copy becomes a link to itself.",
    leaves="An address with markup inside it is left to a person.",
    samples=[
        turns("<p>Write to hello@kiln.org.</p>", '<p>Write to <a href="mailto:hello@kiln.org">hello@kiln.org</a>.</p>'),
        turns(
            "<p>See www.kiln.org/a?b=1&amp;c=2</p>",
            '<p>See <a href="https://www.kiln.org/a?b=1&amp;c=2">www.kiln.org/a?b=1&amp;c=2</a></p>',
        ),
        leaves_alone("<p>See https://kiln.org/<b>sale</b></p>"),
    ],
)
def mend_plain(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The words stay as they are written, inside of a link."""
    for place in finding.places:
        if (found := source_at(message, place)) is None or found[0] != "html":
            continue
        part, span, written = found
        if re.search(r"[<>\s\"']", written):
            continue
        scheme = "" if "://" in written else "mailto:" if "@" in written else "https://"
        yield Change(part, span, f'<a href="{scheme}{written}">{written}</a>')


@fill(
    "links.placeholder",
    asks=_ASKS,
    example="https://kiln.org/sale",
    does="The link leads to this address.",
    leaves="Where several links have stand-in addresses, a person gives them one by one at the source.",
    samples=[
        turns(
            '<a href="https://example.com/sale">Sale</a>', '<a href="https://kiln.org/?a=1&amp;b=2">Sale</a>', "https://kiln.org/?a=1&b=2"
        ),
        turns("Subject: x\nFrom: a@kiln.org\n\nSee https://example.com/sale.\n", f"Subject: x\nFrom: a@kiln.org\n\nSee {_A}.\n", _A),
        leaves_alone('<a href="https://example.com/sale">Sale</a>', "kiln sale"),
        leaves_alone('<a href="https://example.com/a">A</a><a href="https://example.com/b">B</a>', _A),
    ],
)
def fill_placeholder(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The value of href, or the address in the plain text."""
    if one_place(finding) and _ADDRESS.match(word):
        for part, span, _ in sources(message, finding):
            yield Change(part, span, escape(word) if part == "html" else word)


@fill(
    "links.empty",
    asks=_ASKS,
    example="https://kiln.org/sale",
    does="The link leads to this address.",
    leaves="Where several links have no target, a person gives them one by one at the source.",
    samples=[
        turns('<a href="#">Sale</a>', f'<a href="{_A}">Sale</a>', _A),
        turns("<a href=''>Sale</a>", f"<a href='{_A}'>Sale</a>", _A),
        turns("<a class=x>Sale</a>", f'<a href="{_A}" class=x>Sale</a>', _A),
        leaves_alone('<a href="#">Sale</a>', "kiln sale"),
        leaves_alone('<a href="#">Sale</a><a href="#">Shop</a>', _A),
    ],
)
def fill_empty(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """The value of href, or the attribute right behind the tag's name."""
    elements = message.document.all_elements if message.document is not None else ()
    place = finding.place
    if not one_place(finding) or not _ADDRESS.match(word) or place.element is None or place.element >= len(elements):
        return
    element = elements[place.element]
    href = element.attributes.get("href")
    if href is not None:
        yield Change("html", href.value_span, escape(word))
    elif element.start_tag is not None and element.tag == "a":
        at = element.start_tag.start + len("<a")
        yield Change("html", Span(at, at), f' href="{escape(word)}"')
