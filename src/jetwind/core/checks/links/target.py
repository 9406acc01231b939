"""Every link goes somewhere real, over https."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.links import Link, links
from jetwind.core.message import Message, Sample, Shared

_BY_ADDRESS: Shared[list[tuple[Link, list[Link]]]] = Shared("links by address")

#: RFC 2606 §2 and §3, RFC 6761 §6 (from memory): names kept for testing and documentation.
RESERVED_ENDINGS = ("example", "example.com", "example.net", "example.org", "test", "invalid", "localhost")
#: What authors type until the real address is known (common practice, no published source).
_STAND_INS = frozenset(
    [
        "yoursite",
        "your-site",
        "yourdomain",
        "your-domain",
        "yourcompany",
        "your-company",
        "yourwebsite",
        "your-website",
        "yourbrand",
        "your-brand",
        "yourlink",
        "your-link",
    ]
)
_TODO = re.compile(r"(?<![A-Za-z])(?:TODO|TBD|FIXME)(?![A-Za-z])")
#: What mail programs link by themselves: numbers, dates, mail addresses, domains.
_LINKED_BY_ITSELF = re.compile(r"\d|@|\w\.\w{2,}")
_NOTHING = re.compile(r"(?:#|javascript:\s*(?:void\s*\(?\s*0?\s*\)?|;)?\s*;?)\Z", re.IGNORECASE)


@check(
    id="links.empty",
    name="Link without a target",
    level=Level.STOP,
    why="The reader presses it and nothing happens.",
    fix="Give the link its address, or make it plain text.",
    basis="HTML §4.6 (from memory)",
    merged=True,
    together="{many} links have no target.",
    samples=[
        clear('<a href="https://kiln.example/sale">Sale</a>'),
        clear('<a name="top"></a><a id="offers">Offers</a>'),
        clear('<a href="#offers">Offers</a><h2 id="offers">Offers</h2>'),
        clear('<a href="{{ offer_url }}">Offer</a>'),
        clear("<a></a>"),
        clear('<div style="display:none"><a href="#">x</a></div>'),
        clear('<p><a style="color:inherit;text-decoration:none">12 Kiln Quay, Saltmarsh</a> <a>kiln.org</a></p>'),
        finds('<a href="">Sale</a>', at='<a href="">'),
        finds('<a href="#">Sale</a>', at="#"),
        finds("<a>Sale</a>", at="<a>"),
        finds('<a href="javascript:void(0)"><img src="cid:a" alt="Sale"></a>', at="javascript:void(0)"),
        finds('<a href=" # ">Sale</a>'),
        clear(
            '<a href="{{ offer }}">Offer</a>', readers=(Sample("Nil", {"offer": ""}), Sample("Tove", {"offer": "https://kiln.example/a"}))
        ),
        finds('<a href="{{ offer }}">Offer</a>', at="{{ offer }}", readers=(Sample("Tove", {"offer": "#"}),)),
    ],
)
def find_empty(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Everything that looks clickable has an address that leads somewhere."""
    for link in links(message):
        element = link.element
        if element is None or message.cascade.is_hidden(element):
            continue
        if link.address and not _NOTHING.match(link.address):
            continue
        if link.address is None and ("name" in element.attributes or "id" in element.attributes or element.tag == "area"):
            continue
        if link.address is None and _LINKED_BY_ITSELF.search(link.name):
            # The usual way to keep a mail program from turning an address, a number or a date into a link of its own.
            continue
        if not link.name and not any(True for _ in element.elements("img")):
            continue
        yield Hit(
            "The link “{name}” has no target ({address}).",
            Place.in_html(message, link.span, element.index),
            {"name": link.name or "picture", "address": {None: "no href", "": "empty href"}.get(link.address, link.address)},
            identity=f"{link.name}:{link.address}",
        )


@check(
    id="links.placeholder",
    name="Link to a stand-in address",
    level=Level.STOP,
    why="The address was meant to be replaced; the reader lands on nothing or on somebody else's page.",
    fix="Put the real address in.",
    basis="RFC 2606 §2-3, RFC 6761 §6 (from memory)",
    merged=True,
    together="{many} links go to stand-in addresses.",
    samples=[
        clear('<a href="https://www.kiln.org/sale">Sale</a>'),
        clear('<a href="https://examples.org/">Examples</a><a href="https://test.kiln.org/">Test</a>'),
        clear('<a href="https://kiln.org/todos?list=todo">My list</a>'),
        clear('<a href="{{ offer_url }}">Offer</a><a href="https://{{ host }}/x">y</a>'),
        clear('<a href="mailto:studio@kiln.org">Write</a><a href="#example">x</a>'),
        clear("<a href='https://kiln.org/?m={{ number }}'>Go</a>", readers=(Sample("Tove", {"number": "7"}),)),
        finds('<a href="https://example.com/sale">Sale</a>', at="https://example.com/sale"),
        finds('<a href="https://www.shop.example/sale">Sale</a>', at="https://www.shop.example/sale"),
        finds('<a href="http://localhost:8000/">Sale</a>', at="http://localhost:8000/"),
        finds('<a href="https://www.yoursite.com">Sale</a>', at="https://www.yoursite.com"),
        finds('<a href="https://kiln.org/TODO">Sale</a>', at="https://kiln.org/TODO"),
        finds('<a href="mailto:info@example.com">Write</a>', at="mailto:info@example.com"),
        finds("Subject: x\nFrom: a@kiln.org\n\nSee https://example.com/sale.\n", at="https://example.com/sale"),
    ],
)
def find_placeholder(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No address has a host kept for documentation, a stand-in name, or a TODO in it."""
    for link, alike in by_address(message):
        host = link.host.rstrip(".")
        parts = link.parts
        path = f"{parts.path}?{parts.query}" if parts and link.scheme in ("http", "https", "") else ""
        if any(host == domain or host.endswith(f".{domain}") for domain in context.practice_domains):
            reserved = stand_in = None
        else:
            reserved = next((ending for ending in RESERVED_ENDINGS if host == ending or host.endswith(f".{ending}")), None)
            stand_in = next((label for label in host.split(".") if label in _STAND_INS), None)
        why = reserved or stand_in or ("TODO in its path" if _TODO.search(path) else None)
        if why:
            yield hit(message, link, alike, "The link goes to a stand-in address: {address}")


@dataclass(frozen=True)
class InsecureOptions(Options):
    """The options that a house may set."""

    allowed_hosts: Annotated[str, About("hosts, parted by spaces, that have no https and are linked to all the same")] = ""


@check(
    id="links.insecure",
    name="Link without https",
    level=Level.FIX,
    why="Browsers warn before the page opens, and what the reader types there can be read on the way.",
    fix="Write https:// and see that the page opens.",
    basis="Common practice, no published source",
    options=InsecureOptions,
    merged=True,
    together="{many} links lead over http.",
    samples=[
        clear('<a href="https://kiln.org/">Sale</a>'),
        clear('<html xmlns="http://www.w3.org/1999/xhtml"><a href="mailto:a@kiln.org">Write</a><a href="tel:+3512345">Call</a>'),
        clear('<a href="{{ offer_url }}">Offer</a><a href="//kiln.org/x">y</a>'),
        clear('<a href="http://localhost/">reported as a stand-in address</a>'),
        finds('<a href="http://kiln.org/">Sale</a>', at="http://kiln.org/"),
        finds('<a href="HTTP://kiln.org/?a=1&amp;b=2">Sale</a>', at="HTTP://kiln.org/?a=1&amp;b=2"),
        finds('<a href="http://{{ host }}/x">Sale</a>', at="http://{{ host }}/x"),
    ],
)
def find_insecure(message: Message, context: Context, options: InsecureOptions) -> Iterator[Hit]:
    """Web links start with https."""
    allowed = frozenset(options.allowed_hosts.lower().split())
    for link, alike in by_address(message):
        if link.scheme != "http" or link.host in allowed:
            continue
        if is_stand_in(context, link.host):
            continue
        secure = f"https{(link.address or '').strip()[4:]}"
        fix = f"Write {secure[:200]} and see that the page opens."
        yield hit(message, link, alike, "The link is not secure: {address}", fix=fix)


def is_stand_in(context: Context, host: str) -> bool:
    """Whether a host is one that is kept for documentation, which ``links.placeholder`` tells, and none of the practice domains."""
    host = host.rstrip(".").lower()

    def below(domain: str) -> bool:
        return host == domain or host.endswith(f".{domain}")

    return any(map(below, RESERVED_ENDINGS)) and not any(map(below, context.practice_domains))


def by_address(message: Message) -> list[tuple[Link, list[Link]]]:
    """The first link with each address, and all that have it, in their order."""
    return message.shared(_BY_ADDRESS, lambda: _by_address(message))


def _by_address(message: Message) -> list[tuple[Link, list[Link]]]:
    alike: dict[str, list[Link]] = {}
    for link in links(message):
        if link.address:
            alike.setdefault(link.address, []).append(link)
    return [(found[0], found) for found in alike.values()]


def place_of(message: Message, link: Link) -> Place:
    """Where a link stands."""
    if link.part == "html":
        return Place.in_html(message, link.span, link.element.index if link.element else None)
    return Place.in_text(message, link.span)


def hit(
    message: Message, link: Link, alike: Sequence[Link], sentence: str, *, fix: str | None = None, cause: str = "", **data: object
) -> Hit:
    """A hit at a link and at all others with its address; the sentence may name ``address``, ``name``, ``host`` and what is given besides."""
    told = {"address": link.address, "name": link.name, "host": link.host, "count": len(alike), **data}
    others = tuple(place_of(message, other) for other in alike if other is not link)
    return Hit(sentence, place_of(message, link), told, identity=link.address, fix=fix, also=others, cause=cause)
