"""An address is one that a client can follow: it parses, its scheme is known, its host is of the public internet."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated
from urllib.parse import unquote

from jetwind.core.checking import Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checks.links.target import RESERVED_ENDINGS, by_address, hit
from jetwind.core.fields import opaque
from jetwind.core.fields.syntax import FILLER
from jetwind.core.links import Link
from jetwind.core.links.addresses import WEB, Address, inward_ip, organisational_domain, parsed, same_organisation, written
from jetwind.core.message import Message, Sample, Shared

_ADDRESSES: Shared[dict[str, Address | None]] = Shared("web addresses")

_SCHEME_LESS = re.compile(r"[a-z][a-z0-9+.-]*:", re.IGNORECASE)
_MARKS = tuple("[{<%|*$~^")
_DOUBLED = re.compile(r"https?:/{0,2}https?(?::|//)", re.IGNORECASE)
_SLASHES = re.compile(r"https?:(?P<slashes>[/\\]*)", re.IGNORECASE)
#: Schemes that mail programs and phones open. Common practice, no published source.
_KNOWN = WEB | frozenset(
    [
        "mailto",
        "tel",
        "sms",
        "ftp",
        "geo",
        "webcal",
        "facetime",
        "maps",
        "market",
        "itms-apps",
        "intent",
        "sip",
        "xmpp",
        "callto",
        "news",
        "cid",
        "about",
    ]
)


@check(
    id="links.malformed",
    name="Address that cannot be followed",
    level=Level.STOP,
    why="Clients read a broken address in different ways or not at all: the reader lands nowhere.",
    fix="Write the whole address, with its scheme and host, and percent-encode blanks.",
    basis="WHATWG URL §4.4; RFC 3986; HTML §4.6",
    merged=True,
    together="{many} links have addresses that cannot be followed.",
    samples=[
        clear("<a href='https://kiln.org/a%20b?x=1&amp;y=2#z'>Go</a><a href='//kiln.org/x'>y</a><a href='#top'>z</a>"),
        clear("<a href=' https://kiln.org/a '>Go</a><a href=''>x</a><a href='mailto:a@kiln.org?subject=a b'>y</a>"),
        clear("<a href='{{ offer_url }}'>Go</a><a href='https://{{ host }}/a b'>y</a><a href='https://kiln.org/{{ first name }}'>z</a>"),
        clear("<a href='[LeaveURL]'>a</a><a href='%%page%%'>b</a><a href='*|PAGE|*'>c</a>"),
        clear("<a href='https://r.kiln.org/?to=https://kiln.org/?a=1'>Go</a><a href='https://r.kiln.org/https://kiln.org/'>x</a>"),
        clear("<a href='https://kiln.org/?q=what?'>Go</a><a href='https://müller-kiln.org/ä'>y</a><a href='https://kiln.org:8443/'>z</a>"),
        clear("<a href='https://kiln.org/\na'>wrapped by a mail program, and put together again by browsers</a>"),
        clear("<a href='https://kiln.org/?c={{ c }}'>Go</a>", readers=(Sample("Tove", {"c": "a b"}),)),
        finds("<a href='https://kiln.org/a b'>Go</a>", at="https://kiln.org/a b"),
        finds("<a href='http://https://kiln.org/'>Go</a>", at="http://https://kiln.org/"),
        finds("<a href='https//kiln.org/'>Go</a>", at="https//kiln.org/"),
        finds("<a href='www.kiln.org/sale'>Go</a>", at="www.kiln.org/sale"),
        finds("<a href='/sale'>Go</a>", at="/sale"),
        finds("<a href='https:///sale'>Go</a>", at="https:///sale"),
        finds("<a href='https://'>Go</a>", at="https://"),
        finds("<a href='https:/kiln.org/'>Go</a>", at="https:/kiln.org/"),
        finds("<a href='https://kiln.org/?a=1?b=2'>Go</a>", at="https://kiln.org/?a=1?b=2"),
        finds("<a href='https://kiln.org:99999/'>Go</a>", at="https://kiln.org:99999/"),
        finds("<a href='https://ki ln.org/'>Go</a>", at="https://ki ln.org/"),
        finds("<a href='https://kiln.org/{{ a }} b'>Go</a>", at="https://kiln.org/{{ a }} b"),
        finds("<a href='{{ u }}'>Go</a>", at="{{ u }}", readers=(Sample("Tove", {"u": "www.kiln.org"}),)),
        finds("Subject: x\nFrom: a@kiln.org\n\nSee http://https://kiln.org/\n", at="http://https://kiln.org/"),
    ],
)
def find_malformed(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each web address parses, has a host, one question mark and no blank, and begins with one scheme.

    A question mark inside a value, as a redirector has it, is one of the value's own. Line breaks inside an address are taken out by
    browsers (WHATWG URL §4.4, step 3).
    """
    for link, alike in by_address(message):
        why = _malformed(message, link)
        if why:
            yield hit(message, link, alike, "The address {address} cannot be followed: {why}.", why=why)


def _malformed(message: Message, link: Link) -> str:
    address = re.sub(r"[\t\r\n]", "", link.address or "").strip()
    if not address or address.startswith(("#", "//")) or FILLER in opaque(address[:1], message.syntax):
        return ""
    masked = opaque(address, message.syntax, in_address=True)
    if masked.startswith((FILLER, *_MARKS)):
        return ""  # a mark of some sending system, told by fields.foreign where its shape is known
    if link.scheme not in ("", *WEB) and "." not in link.scheme:
        return ""
    if _DOUBLED.match(masked):
        return "it has two schemes"
    if link.scheme not in WEB:
        if masked.lower().startswith(("http//", "https//", "http;", "https;")):
            return "the colon of its scheme lacks"
        return "it has no scheme and host, and in a mail there is no page that it could belong to"
    slashes = _SLASHES.match(masked)
    if slashes is not None and slashes["slashes"] != "//":
        return "it has no host" if len(slashes["slashes"]) > 2 else "two slashes stand before a host"
    plain = written(message, address)
    if plain is None:
        return ""
    if re.search(r"[ \u00a0]", plain):
        # A value that brings it is told once, by fields.address-unescaped.
        return "" if message.copy_for else "it has a blank in it"
    url = parsed(plain)
    if url is None or not url.host:
        return "it has no host" if re.fullmatch(r"https?://[/?#]?.{0,1}", plain) else "it is no address that a browser can read"
    return "it has two question marks" if _asks_twice(plain) else ""


def _asks_twice(address: str) -> bool:
    query = address.partition("#")[0].partition("?")[2]
    before, mark, after = query.partition("?")
    # Behind it stands another parameter, and before it no address as a value.
    return bool(mark) and re.match(r"[\w.\[\]-]+=", after) is not None and "://" not in before and "%3a%2f%2f" not in before.lower()


@check(
    id="links.scheme",
    name="Link that mail programs do not open",
    level=Level.STOP,
    why="Mail programs open web, mail and phone addresses and take out the others, or warn of them.",
    fix="Link to a page with https, or take the link out.",
    basis="Common practice, no published source",
    together="{many} links have schemes that mail programs do not open.",
    samples=[
        clear("<a href='https://kiln.org/'>a</a><a href='mailto:a@kiln.org'>b</a><a href='tel:+3512345'>c</a><a href='sms:+3512345'>d</a>"),
        clear("<a href='{{ u }}'>a</a><a href='#x'>b</a><a href=''>c</a><a href='/page'>d</a><a href='kiln.org:80/'>e</a>"),
        clear("<a href='javascript:void(0)'>told once, by links.empty</a>"),
        finds("<a href='file:///home/kiln/sale.html'>a</a>", at="file:///home/kiln/sale.html"),
        finds("<a href='C:\\sale.html'>a</a>", at="C:\\sale.html"),
        finds("<a href='data:text/html,x'>a</a>", at="data:text/html,x"),
        finds("<a href='javascript:alert(1)'>a</a>", at="javascript:alert(1)"),
        finds("<a href='htpps://kiln.org/'>a</a>", at="htpps://kiln.org/"),
    ],
)
def find_scheme(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each address has a scheme that mail programs open."""
    for link, alike in by_address(message):
        scheme = link.scheme
        if not scheme or scheme in _KNOWN or "." in scheme or message.holds_field(link.address or "", in_address=True):
            continue
        if scheme == "javascript" and re.fullmatch(r"(?i)javascript:\s*(?:void\s*\(?\s*0?\s*\)?|;)?\s*;?", link.address or ""):
            continue
        yield hit(message, link, alike, "Mail programs do not open {address}: its scheme is “{scheme}”.", scheme=scheme)


#: Labels of hosts that are set up for the work itself. Common practice, no published source.
_STAGING = frozenset(["staging", "stg", "uat", "preprod", "pre-prod", "qa", "intranet", "internal", "local"])
#: These are so of the sender's own hosts alone: a dev.other.org may well be a public page for developers.
_STAGING_OF_OURS = frozenset(["dev", "devel", "develop", "test", "testing", "stage"])


@check(
    id="links.private-host",
    name="Link that only the house can open",
    level=Level.STOP,
    why="It opens for the author, on the house's own network, and for no reader.",
    fix="Put the address of the public page in.",
    basis="RFC 6890; names: common practice, no published source",
    merged=True,
    together="Readers cannot open {many} links: their hosts are the house’s own.",
    samples=[
        clear("<a href='https://www.kiln.org/'>a</a><a href='https://8.8.8.8/'>b</a><a href='https://dev.other.org/docs'>c</a>"),
        clear("<a href='https://localhost/'>told once, by links.placeholder</a><a href='https://{{ host }}/'>b</a>"),
        clear("<a href='https://stage-lights.org/'>a</a><a href='https://protest.org/'>b</a><a href='https://latest.kiln.org/'>c</a>"),
        clear("<a href='https://staging.org/'>a</a><a href='mailto:a@intranet'>b</a><a href='https://test.co.uk/'>c</a>"),
        finds("<a href='http://192.168.1.20/sale'>a</a>", at="http://192.168.1.20/sale"),
        finds("<a href='http://0x7f.1/sale'>a</a>", at="http://0x7f.1/sale"),
        finds("<a href='http://[fd00::1]/sale'>a</a>", at="http://[fd00::1]/sale"),
        finds("<a href='https://intranet/sale'>a</a>", at="https://intranet/sale"),
        finds("<a href='https://staging.kiln.org/sale'>a</a>", at="https://staging.kiln.org/sale"),
        finds("<a href='https://www-staging.kiln.org/sale'>a</a>", at="https://www-staging.kiln.org/sale"),
        finds("From: a@kiln.org\nSubject: x\n\nhttps://dev.kiln.org/sale\n", at="https://dev.kiln.org/sale"),
    ],
)
def find_private_host(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No address has a host of a private network, of one label, or one that calls itself a staging host.

    Hosts such as ``dev.`` and ``test.`` count where they are the sender's own.
    """
    for link, alike in by_address(message):
        url = web_address(message, link)
        if url is None:
            continue
        host = url.host.rstrip(".")
        if any(host == ending or host.endswith(f".{ending}") for ending in (*RESERVED_ENDINGS, *context.practice_domains)):
            continue
        why = _inward(message, context, host)
        if why:
            yield hit(message, link, alike, "Readers cannot open {address}: {why}.", why=why)


def _inward(message: Message, context: Context, host: str) -> str:
    if inward_ip(host):
        return "its host is an address of a private network"
    if host.startswith("[") or re.fullmatch(r"[\d.]+", host):
        return ""
    if "." not in host:
        return f"“{host}” is no name of the public internet"
    if not _labels(host) & (_STAGING | _STAGING_OF_OURS):
        return ""
    domain = organisational_domain(host)
    staging = _labels(host.removesuffix(domain)) & (_STAGING | _STAGING_OF_OURS if is_ours(message, context, host) else _STAGING)
    return f"“{min(staging)}” names a host for the work itself" if staging else ""


def _labels(host: str) -> frozenset[str]:
    return frozenset(label for part in host.split(".") for label in (part, *part.split("-")) if label)


def is_ours(message: Message, context: Context, host: str) -> bool:
    """Whether a host is of the sender's own organisation, by From, or of a practice domain."""
    senders = [box.address.rpartition("@")[2] for box in message.mailboxes("From") if "@" in box.address]
    return any(same_organisation(host, own) for own in (*senders, *sorted(context.practice_domains)) if own)


def web_address(message: Message, link: Link) -> Address | None:
    """The web address of a link as a browser reads it; None for others, and where a field stands in its host."""
    if link.scheme not in WEB and not (link.address or "").startswith("//"):
        return None
    # Eight checks ask of every link.
    known: dict[str, Address | None] = message.shared(_ADDRESSES, dict)
    address = (link.address or "").strip()
    if address not in known:
        plain = written(message, address)
        known[address] = parsed(plain, "https://base.invalid/") if plain is not None else None
    return known[address]


@dataclass(frozen=True)
class HostOptions(Options):
    """The options that a house may set."""

    most_characters: Annotated[int, About("the longest host that passes", unit="characters")] = 40


@check(
    id="links.host-long",
    name="Very long host",
    level=Level.NOTE,
    why="Phishing hides the real host in a long one, and plain text breaks long hosts.",
    fix="Link to a shorter host of your own.",
    basis="Common practice, no published source",
    options=HostOptions,
    together="{many} links have very long hosts.",
    samples=[
        clear(f"<a href='https://{'a' * 36}.org/'>a</a>"),
        clear(f"<a href='https://kiln.org/{'a' * 90}'>a</a><a href='https://{{{{ host }}}}{'a' * 60}.org/'>b</a>"),
        finds(f"<a href='https://{'a' * 37}.org/'>a</a>", at=f"https://{'a' * 37}.org/"),
    ],
)
def find_host_long(message: Message, context: Context, options: HostOptions) -> Iterator[Hit]:
    """No host has more than 40 characters."""
    for link, alike in by_address(message):
        url = web_address(message, link)
        if url is not None and len(url.host) > options.most_characters:
            yield hit(
                message,
                link,
                alike,
                "The host of {address} has {length} characters; the limit is {limit}.",
                length=len(url.host),
                limit=options.most_characters,
            )


_MAIL = re.compile(r"(?P<local>[^\s@,;<>()\[\]\\\"]{1,64}|\"(?:[^\"\\]|\\.){1,62}\")@(?P<host>[^\s@,;<>()\[\]\\\"]{1,253})\Z")
_HOST = re.compile(r"(?:[\w](?:[\w-]{0,61}[\w])?\.)+[^\W\d_][\w-]{0,61}\Z")


@check(
    id="links.mailto-invalid",
    name="Mail link that cannot be used",
    level=Level.STOP,
    why="The mail program opens an empty window or none: an unsubscribe by mail then fails without a word.",
    fix="Write mailto: and the address; percent-encode what stands behind the question mark.",
    basis="RFC 6068 §2",
    merged=True,
    together="{many} mail links cannot be used.",
    samples=[
        clear("<a href='mailto:studio@kiln.org'>a</a><a href='MAILTO:a@kiln.org,b@kiln.org?subject=x%20y&amp;body=z'>b</a>"),
        clear("<a href='mailto:?subject=See%20this&amp;body=https://kiln.org/?a'>Tell a friend</a><a href='mailto:{{ email }}'>c</a>"),
        clear(
            "<a href='mailto:a%2Bb@kiln.org'>a</a><a href='mailto:a@müller-kiln.org'>b</a><a href='mailto:leave+{{ id }}@kiln.org'>c</a>"
        ),
        clear("<a href='mailto:a@kiln.org?subject=a b'>a blank in a subject opens everywhere</a>"),
        finds("<a href='mailto:'>a</a>", at="mailto:"),
        finds("<a href='mailto:studio'>a</a>", at="mailto:studio"),
        finds("<a href='mailto:studio@kiln'>a</a>", at="mailto:studio@kiln"),
        finds("<a href='mailto:studio@@kiln.org'>a</a>", at="mailto:studio@@kiln.org"),
        finds("<a href='mailto://studio@kiln.org'>a</a>", at="mailto://studio@kiln.org"),
        finds("<a href='mailto:a@kiln.org;b@kiln.org'>a</a>", at="mailto:a@kiln.org;b@kiln.org"),
        finds("<a href='mailto:a@kiln.org?subject=x?body=y'>a</a>", at="mailto:a@kiln.org?subject=x?body=y"),
    ],
)
def find_mailto(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each mailto: names addresses that mail can go to, parted by commas, and its headers follow one question mark."""
    for link, alike in by_address(message):
        if link.scheme != "mailto" or message.holds_field(link.address or "", in_address=True):
            continue
        to, mark, headers = (link.address or "")[len("mailto:") :].partition("?")
        why = ""
        if to.startswith("//"):
            why = "slashes stand before the address"
        elif not to.strip() and not re.search(r"(?i)(?:subject|body|to|cc)=", headers):
            why = "it names nobody"
        elif bad := next((part for part in to.split(",") if to.strip() and not _is_mailbox(unquote(part.strip()))), None):
            why = f"“{bad}” is no address"
        elif mark and re.search(r"\?(?i:subject|body|cc|bcc|to)=", headers):
            why = "it has two question marks"
        if why:
            yield hit(message, link, alike, "The mail link {address} cannot be used: {why}.", why=why)


def _is_mailbox(text: str) -> bool:
    found = _MAIL.match(text)
    return found is not None and _HOST.match(found["host"]) is not None


TEL = re.compile(r"(?:\+[\d().-]*\d[\d().-]*|[\d*#().-]*\d[\d*#().-]*)(?:;[\w.-]+(?:=[^;\s]*)?)*\Z")


@check(
    id="links.tel-invalid",
    name="Phone link that cannot be dialled",
    level=Level.FIX,
    why="A phone dials what it can read of it, or nothing.",
    fix="Write tel: and the number with its country, such as tel:+3512345678, without blanks.",
    basis="RFC 3966 §3; a number without its country is left alone: common practice, no published source",
    merged=True,
    together="{many} phone links cannot be dialled as they are written.",
    samples=[
        clear(
            "<a href='tel:+351-234-5678'>a</a><a href='tel:+1(800)5550100;ext=12'>b</a><a href='tel:112'>c</a><a href='tel:{{ phone }}'>d</a>"
        ),
        clear("<a href='sms:+351 234'>a</a>"),
        finds("<a href='tel:+351 234 5678'>a</a>", at="tel:+351 234 5678"),
        finds("<a href='tel:'>a</a>", at="tel:"),
        finds("<a href='tel:CALL-KILN'>a</a>", at="tel:CALL-KILN"),
        finds("<a href='tel:++3512345'>a</a>", at="tel:++3512345"),
        finds("<a href='tel://+3512345'>a</a>", at="tel://+3512345"),
    ],
)
def find_tel(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each tel: has a number of digits and visual separators."""
    for link, alike in by_address(message):
        if link.scheme == "tel" and not message.holds_field(link.address or "", in_address=True):
            number = unquote((link.address or "")[len("tel:") :])
            if not TEL.match(number):
                yield hit(message, link, alike, "The phone link {address} cannot be dialled as it is written.")


@check(
    id="links.anchor-missing",
    name="Link to a place that is not there",
    level=Level.STOP,
    why="The reader presses it and nothing happens.",
    fix="Give the place an id of that name, or link to a page.",
    basis="HTML §7.4.6",
    together="{many} links lead to places that are not in the message.",
    samples=[
        clear("<a href='#offers'>Offers</a><h2 id=offers>Offers</h2>"),
        clear("<a href='#offers'>Offers</a><a name=offers>Offers</a>"),
        clear("<a href='#top'>Up</a><a href='#TOP'>Up</a><a href='#'>told once, by links.empty</a><a href='#{{ x }}'>y</a>"),
        clear("<a href='#%C3%A9t%C3%A9'>Offers</a><p id='été'>x</p><a href='https://kiln.org/#x'>y</a>"),
        finds("<a href='#offers'>Offers</a><h2 id=offer>Offers</h2>", at="#offers"),
        finds("<a href='#Offers'>Offers</a><h2 id=offers>Offers</h2>", at="#Offers"),
    ],
)
def find_anchor(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Each #name is the id of an element or the name of an anchor; #top is the top (HTML §7.4.6)."""
    document = message.document
    if document is None:
        return
    names: set[str] | None = None
    for link, alike in by_address(message):
        address = link.address or ""
        if not address.startswith("#") or len(address) < 2 or address.lower() == "#top" or message.holds_field(address):
            continue
        if names is None:
            names = {name for element in document.all_elements for name in (element.get("id"), element.get("name")) if name}
        if address[1:] not in names and unquote(address[1:]) not in names:
            yield hit(message, link, alike, "The link {address} leads to a place that is not in the message.")
