"""Reasons in where links lead."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterator
from itertools import islice
from urllib.parse import unquote

from jetwind.core.checking import Context, Place, clear, finds
from jetwind.core.checks.links.address import web_address
from jetwind.core.checks.links.target import place_of
from jetwind.core.links import links
from jetwind.core.links.addresses import WEB, Address, organisational_domain
from jetwind.core.links.collect import Link
from jetwind.core.links.way_out import list_unsubscribe_targets
from jetwind.core.message import Message, Shared
from jetwind.core.spam.declaring import Evidence, found_by, reason

_WEB_LINKS: Shared[tuple[tuple[Link, Address], ...]] = Shared("spam web links")

_HEAD = "From: Kiln Works <hello@kiln.org>\nSubject: x\nContent-Type: text/html\n\n"
_CLEAN = clear(
    f"{_HEAD}<a href='https://www.kiln.org/sale?id=7'>See the glazes</a><a href='mailto:a@kiln.org'>Write</a><a href='{{{{ u }}}}'>Leave</a>"
)


def _web(message: Message) -> Iterator[tuple[Link, Address]]:
    """Links to pages whose whole host is known."""
    return iter(message.shared(_WEB_LINKS, lambda: tuple(_web_links(message))))


def _web_links(message: Message) -> Iterator[tuple[Link, Address]]:
    for link in links(message):
        url = web_address(message, link) if link.address else None
        if url is not None and url.host and url.scheme in WEB:
            yield link, url


def _first(message: Message, found: list[tuple[Link, str]]) -> Evidence | None:
    if not found:
        return None
    link, said = found[0]
    more = len({said for _, said in found}) - 1
    return Evidence(said[:80] + (f" and {more} more" if more else ""), place_of(message, link))


@reason(
    id="link-number",
    name="Link to a bare number address",
    group="links",
    weight=1.8,
    why="Who has no name for a server has something to hide.",
    fix="Link to a host name of your own domain.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}<a href='https://2027.kiln.org/'>x</a>"),
        finds(f"{_HEAD}<a href='http://192.0.2.7/x'>x</a>", at="http://192.0.2.7/x"),
        finds(f"{_HEAD}<a href='http://3221225991/x'>x</a>"),
    ],
)
def link_number(message: Message, context: Context) -> Evidence | None:
    """The host is an IP address, in any spelling that browsers know."""
    return _first(message, [(link, url.host) for link, url in _web(message) if _is_number(url.host)])


def _is_number(host: str) -> bool:
    try:
        ipaddress.ip_address(host.strip("[]"))
    except ValueError:
        return False
    return True


@reason(
    id="link-host-long",
    name="Long host name in a link",
    group="links",
    weight=0.3,
    by_hand=True,
    why="Long names made of many words are bought for one day.",
    fix="Link to your own domain.",
    samples=[_CLEAN, finds(f"{_HEAD}<a href='https://{'long-' * 9}name.kiln.org/'>x</a>")],
)
def link_host_long(message: Message, context: Context) -> Evidence | None:
    """A host of over forty characters."""
    return _first(message, [(link, url.host) for link, url in _web(message) if len(url.host) > 40])


@reason(
    id="link-user",
    name="Name before the host of a link",
    group="links",
    weight=1.8,
    by_hand=True,
    why="What stands before the @ looks like the host and is not.",
    fix="Write the address without it.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}<a href='https://social.kiln.org/@maeve'>x</a>"),
        finds(f"{_HEAD}<a href='https://www.bank.org@192-0-2-7.kiln.org/'>x</a>"),
    ],
)
def link_user(message: Message, context: Context) -> Evidence | None:
    """A user name in a web address."""
    found = []
    for link, url in _web(message):
        user = re.match(r"https?:[/\\]*([^/\\?#@]{1,200})@", link.address or "", re.IGNORECASE)
        if user and not message.holds_field(user[1]):
            found.append((link, f"{user[1]}@{url.host}"))
    return _first(message, found)


@reason(
    id="link-escaped",
    name="Plain letters of an address percent-encoded",
    group="links",
    weight=1.3,
    why="Letters that need no encoding are encoded to hide where a link leads.",
    fix="Write the letters themselves.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}<a href='https://kiln.org/a%20b?to=https%3A%2F%2Fkiln.org%2Fx'>x</a>"),
        finds(f"{_HEAD}<a href='https://kiln.org/%66%72%65%65'>x</a>"),
        finds(f"{_HEAD}<a href='http://%6b%69ln.org/'>x</a>"),
    ],
)
def link_escaped(message: Message, context: Context) -> Evidence | None:
    """Three ASCII letters and figures in a row, or one in the host, as percent signs."""
    found = []
    for link in links(message):
        address = (link.address or "")[:2_000]
        if not address.lower().startswith(("http:", "https:")):
            continue
        host = re.match(r"https?:/*[^/?#]*%[46][0-9a-f]", address, re.IGNORECASE)
        row = re.search(r"(?:%(?:3[0-9]|[46][1-9a-f]|[57][0-9a])){3,}", address, re.IGNORECASE)
        if (host or row) and not message.holds_field(address, in_address=True):
            found.append((link, unquote(address)[:60]))
    return _first(message, found)


@reason(
    id="link-text-mismatch",
    name="Link text names another domain",
    group="links",
    weight=1.5,
    by_hand=True,
    why="The words show one address and the link leads to another: so are passwords stolen.",
    fix="Let words and address name the same domain.",
    samples=[_CLEAN, finds(f"{_HEAD}<a href='https://kiln-offers.org/sale'>www.bank.org</a>")],
)
def link_text_mismatch(message: Message, context: Context) -> Evidence | None:
    """The visible text is a domain, and not the one that the link leads to."""
    return found_by("links.text-mismatch", message, context)


@reason(
    id="link-hosts-many",
    name="Links to many organisations",
    group="links",
    weight=0.4,
    by_hand=True,
    why="Each domain that a message links to is looked up, and one of bad repute is enough.",
    fix="Lead links over your own domain, or leave some out.",
    samples=[_CLEAN, finds(_HEAD + "".join(f"<a href='https://www.{name}-pots.org/'>x</a>" for name in "abcdefghijk"))],
)
def link_hosts_many(message: Message, context: Context) -> Evidence | None:
    """Over ten registrable domains."""
    domains: dict[str, Link] = {}
    for link, url in _web(message):
        domains.setdefault(organisational_domain(url.host), link)
    if len(domains) <= 10:
        return None
    return Evidence(f"{len(domains)}: {', '.join(islice(domains, 4))} …", place_of(message, list(domains.values())[10]))


@reason(
    id="link-opaque",
    name="Shortened link",
    group="links",
    weight=0.7,
    by_hand=True,
    why="Nobody sees where it leads, and filters know the services that unwanted mail uses for it.",
    fix="Link to the page itself, on your own domain.",
    samples=[_CLEAN, finds(f"{_HEAD}<a href='https://sho.rt/aB3dE'>x</a>")],
)
def link_opaque(message: Message, context: Context) -> Evidence | None:
    """A short host of somebody else with a code behind it."""
    return found_by("links.opaque", message, context)


_PROGRAM = re.compile(r"\.(?:exe|scr|pif|msi|bat|cmd|jar|apk|vbs|hta|iso|dmg)\Z", re.IGNORECASE)


@reason(
    id="link-program",
    name="Link to a program",
    group="links",
    weight=1.8,
    by_hand=True,
    why="Scanners first look for a program behind a link.",
    fix="Link to a page from which it can be loaded.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}<a href='https://kiln.org/price-list.pdf'>x</a><a href='https://kiln.com/'>y</a>"),
        finds(f"{_HEAD}<a href='https://kiln.org/kiln.exe'>x</a>"),
    ],
)
def link_program(message: Message, context: Context) -> Evidence | None:
    """The path ends like a program's name."""
    return _first(message, [(link, url.path.rpartition("/")[2]) for link, url in _web(message) if _PROGRAM.search(url.path)])


@reason(
    id="link-dashes",
    name="Host made of many words",
    group="links",
    weight=0.7,
    by_hand=True,
    why="Names like cheap-this-and-that-online are bought for one day.",
    fix="Link to your own domain.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}<a href='https://saltmarsh-kiln-works.org/'>x</a>"),
        finds(f"{_HEAD}<a href='http://buy-all-the-kilns-now.com/'>x</a>"),
    ],
)
def link_dashes(message: Message, context: Context) -> Evidence | None:
    """A registrable domain with three hyphens and more that is no encoded name."""
    found = []
    for link, url in _web(message):
        domain = organisational_domain(url.host)
        if domain.count("-") >= 3 and "xn--" not in domain:
            found.append((link, domain))
    return _first(message, found)


@reason(
    id="link-mail-only",
    name="Answers go to a mailbox alone",
    group="links",
    weight=0.7,
    why="Who offers something and has no page takes answers by mail, until the mailbox is closed.",
    fix="Link to a page about the offer.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}<p>Hello</p>"),
        clear(f"{_HEAD}<a href='mailto:leave@kiln.org?subject=unsubscribe'>Unsubscribe</a>"),
        clear(f"{_HEAD}<a href='mailto:hello@kiln.org'>Write to us</a>"),
        finds(f"{_HEAD}<a href='mailto:x8@elsewhere.net?subject=more'>Send me more</a>"),
    ],
)
def link_mail_only(message: Message, context: Context) -> Evidence | None:
    """Every link but the ways out is a mail address, and one of them of another organisation than the sender's."""
    senders = {organisational_domain(box.address.rpartition("@")[2]) for box in message.mailboxes("From")}
    found = [link for link in links(message) if link.address]
    if not found or any(link.scheme != "mailto" for link in found) or not senders:
        return None
    header = message.header("List-Unsubscribe")
    ways_out = " ".join(list_unsubscribe_targets(header.value)).lower() if header else ""
    strange = [
        (link, link.host)
        for link in found
        if organisational_domain(link.host) not in senders
        and not re.search(r"unsub|remove|opt-?out|leave|stop", f"{link.address} {link.name}", re.IGNORECASE)
        and (link.host or "?") not in ways_out
        and not message.holds_field(link.address or "", in_address=True)
    ]
    return _first(message, strange)


@reason(
    id="link-insecure",
    name="Links without https",
    group="links",
    weight=0.2,
    by_hand=True,
    why="Pages of today have https; what leads elsewhere looks old or careless.",
    fix="Link to the https address.",
    samples=[_CLEAN, finds(f"{_HEAD}<a href='http://www.kiln.org/'>x</a>")],
)
def link_insecure(message: Message, context: Context) -> Evidence | None:
    """Most links to pages are plain http."""
    found = [(link, url) for link, url in _web(message)]
    plain = [(link, url.host) for link, url in found if url.scheme == "http"]
    return _first(message, plain) if len(plain) * 2 > len(found) else None


@reason(
    id="pictures-elsewhere",
    name="Pictures from a bare number address",
    group="links",
    weight=1.2,
    why="Who has no name for a server has something to hide.",
    fix="Serve pictures from a host name of your own domain.",
    samples=[_CLEAN, finds(f"{_HEAD}<img src='http://192.0.2.7/a.png' alt='Pots'>")],
)
def pictures_elsewhere(message: Message, context: Context) -> Evidence | None:
    """A picture is loaded from an IP address."""
    for image in message.document.elements("img") if message.document is not None else ():
        host = re.match(r"https?://([\d.]{7,15}|\d{8,10})(?=[:/]|\Z)", (image.get("src") or "").strip(), re.IGNORECASE)
        if host:
            attribute = image.attributes["src"]
            return Evidence(host[1], Place.in_html(message, attribute.value_span, image.index))
    return None
