"""Every address of a message in one list: where each stands, what it is called, what it is for; and which of them may be opened."""

from __future__ import annotations

import hashlib
import html
import re
from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import islice
from typing import Literal
from urllib.parse import unquote

from jetwind.core.facts import phrase_pattern, table
from jetwind.core.facts.tables import SocialHosts
from jetwind.core.fields import fill
from jetwind.core.links.addresses import WEB, Address, organisational_domain, parsed
from jetwind.core.links.collect import Link, accessible_name, links, text_links
from jetwind.core.links.way_out import ADDRESS_WORDS, list_unsubscribe_targets, ways_out
from jetwind.core.markup import Element, TextRun
from jetwind.core.markup.conditional import conditionals
from jetwind.core.message import Message, Sample, Shared
from jetwind.core.prose.outline import outline_of
from jetwind.core.prose.reading import tidy
from jetwind.core.source import LIMITS, Span

_EVERYTHING: Shared[tuple[Found, ...]] = Shared("every address")
_BOXES: Shared[dict[int, tuple[str, frozenset[str | None]] | None]] = Shared("boxes of offers")
_TARGETS: Shared[tuple[Target, ...]] = Shared("targets")

Where = Literal["link", "area", "form", "drawing", "conditional", "text", "header"]
Role = Literal["action", "navigation", "social", "unsubscribe", "view-online", "preference", "legal", "contact", "logo"]
ROLES: tuple[Role, ...] = ("action", "navigation", "social", "unsubscribe", "view-online", "preference", "legal", "contact", "logo")
#: Links by which a reader leaves or says what they get: opening one may do it.
CLOSED: frozenset[Role] = frozenset({"unsubscribe", "preference"})

_HREF = re.compile(r"<(?P<tag>[a-zA-Z][\w:-]{0,30})\b[^<>]{0,4000}?\bhref\s*=\s*(?P<quote>[\"'])(?P<value>.*?)(?P=quote)", re.DOTALL)
_LIST_HEADERS = ("List-Unsubscribe", "List-Subscribe", "List-Help", "List-Archive", "List-Owner", "List-Post")
_PREFERENCE_ADDRESS = re.compile(r"preferenc|subscription[s]?[-_/]?(?:settings|manage)|manage[-_]?subscription", re.IGNORECASE)
#: A path in which a page stands for leaving: nothing may be pressed there by a program.
_LEAVES = re.compile(r"[/?&=_-](?:leave|remove|unlist|stop)(?:[/?&=_-]|\Z)", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Found:
    """One place of an address. ``link`` holds its element, its address as written, its name and its span; ``header`` names the header field."""

    link: Link
    where: Where
    role: Role
    header: str = ""

    @property
    def address(self) -> str:
        """As written, references resolved; empty where there is none."""
        return self.link.address or ""

    @property
    def name(self) -> str:
        """The name that a screen reader gives it, or the header field."""
        return self.link.name or self.header


@dataclass(frozen=True, slots=True)
class Target:
    """One web address that a reader may come to, with every place that leads to it.

    ``readers`` are those for whom a field makes it this address; empty where it is the same for all.
    """

    address: str
    found: tuple[Found, ...]
    readers: tuple[str, ...] = ()

    @property
    def role(self) -> Role:
        """Its role; one that must not be opened prevails over the others."""
        roles = [one.role for one in self.found]
        return next((role for role in roles if role in CLOSED), roles[0])

    @property
    def is_closed(self) -> bool:
        """Whether opening it may unsubscribe or change somebody."""
        return self.role in CLOSED or any(one.header.startswith("List-") for one in self.found)


def everything(message: Message) -> tuple[Found, ...]:
    """Every address: of links, areas, forms and drawings of the HTML, of conditional comments, plain text and headers, in this order."""
    return message.shared(_EVERYTHING, lambda: tuple(islice(_everything(message), LIMITS.links)))


def _everything(message: Message) -> Iterator[Found]:
    roles = _Roles(message)
    if message.document is not None:
        for link in links(message):
            if link.element is not None and link.address is not None:
                yield Found(link, "area" if link.element.tag == "area" else "link", roles.of(link))
        yield from _forms_and_drawings(message, roles)
        yield from _in_conditionals(message, roles)
    for link in text_links(message):
        yield Found(link, "text", roles.of_text(link))
    for name in _LIST_HEADERS:
        for header in message.header_fields(name):
            for address in list_unsubscribe_targets(header.value):
                role: Role = "unsubscribe" if name == "List-Unsubscribe" else "preference" if name == "List-Subscribe" else "contact"
                yield Found(Link("text", None, address, "", header.span), "header", role, header.name)


def _forms_and_drawings(message: Message, roles: _Roles) -> Iterator[Found]:
    assert message.document is not None
    for element in message.document.all_elements:
        attribute = {"form": "action", "button": "formaction", "input": "formaction"}.get(element.tag, "href" if ":" in element.tag else "")
        if (
            attribute
            and (value := element.attributes.get(attribute) if attribute in element.names else None) is not None
            and value.value.strip()
        ):
            link = Link("html", element, value.value.strip()[: LIMITS.value_characters], accessible_name(element), value.value_span)
            yield Found(link, "drawing" if ":" in element.tag else "form", roles.of(link))


def _in_conditionals(message: Message, roles: _Roles) -> Iterator[Found]:
    """The links and drawn buttons inside conditional comments, which only some desktop programs read."""
    assert message.html is not None
    text = message.html.text[: LIMITS.html_characters]
    for block in conditionals(text)[0]:
        if block.form != "hidden":
            continue
        for match in _HREF.finditer(text, block.content.start, block.content.end):
            value = html.unescape(match["value"]).strip()[: LIMITS.value_characters]
            if value and match["tag"].lower() not in ("link", "base"):
                after = text[match.end() : min(block.content.end, match.end() + 600)]
                name = tidy(html.unescape(re.sub(r"<[^<>]*>", " ", after.partition(">")[2].partition("</a")[0])))[:120]
                link = Link("html", None, value, name, Span(match.start("value"), match.end("value")))
                yield Found(link, "conditional", roles.of_words(link))


class _Roles:
    """Tells what links are for. Common practice, no published source: by words, by hosts, by where they stand."""

    def __init__(self, message: Message) -> None:
        self._message = message
        self._buttons = {element.index for element in outline_of(message).buttons} if message.document is not None else set()
        self._has_logo = False
        # Told by the sentence around it, too: “To leave the list, click here”. Opening it may unsubscribe somebody.
        # Of plain text only the first: there the words of one line would speak for the lines beside it.
        out = ways_out(message)
        addresses = [link.address for link in (out if message.html else islice(out, 1))]
        self._way_out, self._further_ways = addresses[0] if addresses else None, frozenset(addresses[1:])

    def of(self, link: Link) -> Role:
        """The role of a link of the HTML."""
        if (role := self._told(link)) is not None:
            return role
        element = link.element
        if element is None or element.index in self._buttons:
            return "action"
        if self._is_logo(link, element):
            self._has_logo = True
            return "logo"
        if (link.address or "").startswith("#"):
            return "navigation"
        section = outline_of(self._message).section_of(element)
        return "action" if section == "body" else "navigation"

    def of_words(self, link: Link) -> Role:
        """The role by words and address alone."""
        return self._told(link) or "action"

    def of_text(self, link: Link) -> Role:
        """The role of an address in plain text: the line before it speaks."""
        text, span = self._message.text, link.span
        assert text is not None
        assert span is not None
        # An address that stands on a line of its own is led to by the line above.
        before = text.text[max(0, span.start - 200) : span.start].rstrip().rpartition("\n")[2]
        return self._told(Link("text", None, link.address, before or link.name, span)) or "action"

    def _told(self, link: Link) -> Role | None:
        name, address = link.name, unquote(link.address or "")
        if self._way_out and link.address == self._way_out:
            return "unsubscribe"
        if phrase_pattern("phrases", "preferences").search(name) or _PREFERENCE_ADDRESS.search(address):
            return "preference"
        if (
            phrase_pattern("phrases", "unsubscribe").search(name)
            or ADDRESS_WORDS.search(address)
            or _LEAVES.search(link.parts.path if link.parts else "")
        ):
            return "unsubscribe"
        if phrase_pattern("phrases", "view_in_browser").search(name):
            return "view-online"
        if link.scheme in ("mailto", "tel", "sms"):
            return "contact"
        if link.host and organisational_domain(link.host) in table("social_hosts", SocialHosts)["hosts"]:
            return "social"
        for role, key in (("legal", "legal"), ("contact", "contact")):
            if len(name.split()) <= 5 and phrase_pattern("phrases", key).search(name):
                return role  # type: ignore[return-value]
        # The sentence around a first way out may go on to links that say themselves what they are.
        is_anchor = (link.address or "").startswith("#")
        return "unsubscribe" if link.address in self._further_ways and not is_anchor else None

    def _is_logo(self, link: Link, element: Element) -> bool:
        """The first picture that leads to a home page, with no words beside it."""
        parts = link.parts
        is_home = parts is not None and parts.path in ("", "/")
        return not self._has_logo and is_home and not element.text.strip() and any(True for _ in element.elements("img"))


#: Boxes that hold an offer together with its button, and how many around a link are looked at.
_OFFER_BOXES = frozenset({"td", "th", "li", "p", "div", "article", "section"})
_MOST_BOXES = 30
#: A box with more characters, or more nodes, than this is no offer but a whole message.
_MOST_OF_AN_OFFER, _MOST_NODES = 400, 300


def offer_words(message: Message, element: Element) -> str:
    """The words around a link that say what it leads to: those of the largest box around it that leads nowhere else and is an offer's size."""
    boxes: dict[int, tuple[str, frozenset[str | None]] | None] = message.shared(_BOXES, dict)
    words = tidy(element.text[: LIMITS.passage_characters])
    for box in islice(element.ancestors(), _MOST_BOXES):
        if box.tag not in _OFFER_BOXES:
            continue
        if box.index not in boxes:
            boxes[box.index] = _offer_in(box)
        offer = boxes[box.index]
        if offer is None or offer[1] - {element.get("href")}:
            break
        words = offer[0]
    return words


def _offer_in(box: Element) -> tuple[str, frozenset[str | None]] | None:
    """The words of a box and where its links lead; None for one that is larger than an offer."""
    nodes = list(islice(box.walk(), _MOST_NODES + 1))
    text = tidy(" ".join(node.text[:1_000] for node in nodes if isinstance(node, TextRun)))
    if len(nodes) > _MOST_NODES or len(text) > _MOST_OF_AN_OFFER:
        return None
    return text, frozenset(node.get("href") for node in nodes if isinstance(node, Element) and node.tag == "a")


def targets(message: Message, readers: Sequence[Sample] = ()) -> tuple[Target, ...]:
    """The distinct web addresses of a message, as its sample readers get them; in the order of their first place.

    An address with a field in it is filled for each reader: no real one is ever asked for. Without readers, and where it holds a field
    that is none of the message's syntax, nobody knows where it leads, and it is left out.
    """
    key = hashlib.sha256(repr([(one.name, sorted(one.values.items())) for one in readers]).encode("utf-8", "surrogatepass")).hexdigest()
    return message.shared(_TARGETS.of(key), lambda: _targets(message, readers))


#: Times that an address with a field is filled; of a message with thousands of them only the first readers are looked at.
_MOST_FILLED = 20_000


def _targets(message: Message, readers: Sequence[Sample]) -> tuple[Target, ...]:
    written = {found.address for found in everything(message)}
    with_field = sum(message.holds_field(address, in_address=True) for address in written)
    readers = readers[: max(MOST_OF_ONE, _MOST_FILLED // max(with_field, 1))]
    asked = {address: asked_addresses(message, address, readers) for address in written}
    places: dict[str, list[Found]] = defaultdict(list)
    whose: dict[str, dict[str, None]] = defaultdict(dict)
    everybody: set[str] = set()
    for found in everything(message):
        for address, names in asked[found.address].items():
            places[address].append(found)
            whose[address].update(dict.fromkeys(names))
            if not names:
                everybody.add(address)
    return tuple(Target(address, tuple(found), () if address in everybody else tuple(whose[address])) for address, found in places.items())


def asked_addresses(message: Message, written: str, readers: Sequence[Sample]) -> dict[str, list[str]]:
    """The web addresses that one as written stands for, with the readers for whom; nobody where it holds no field."""
    if not message.holds_field(written, in_address=True):
        address = web(written)
        return {address.href: []} if address is not None else {}
    found: dict[str, list[str]] = {}
    for reader in readers:
        made = fill(written, reader.values, escape=False, syntax=message.syntax)
        address = None if message.holds_field(made, in_address=True) else web(made)
        if address is not None and (address.href in found or len(found) < MOST_OF_ONE):
            found.setdefault(address.href, []).append(reader.name)
    return found


#: Addresses that one link with a field in it is opened at: those of the first readers for whom they differ.
MOST_OF_ONE = 3


def web(written: str) -> Address | None:
    """A whole http or https address, as a browser takes what is written; None for any other. An address without a scheme is https."""
    written = written.strip()
    if written.startswith("//"):
        written = f"https:{written}"
    if not re.match(r"https?:", written, re.IGNORECASE):
        return None
    address = parsed(written)
    return address if address is not None and address.scheme in WEB and address.host else None
