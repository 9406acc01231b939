"""Every link with its address as written, its name, and where it stands."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from functools import lru_cache
from itertools import islice
from typing import TYPE_CHECKING, Literal
from urllib.parse import SplitResult, urlsplit

from jetwind.core.fields import blanked, tokens
from jetwind.core.markup import Element, TextRun
from jetwind.core.message import Shared
from jetwind.core.prose.reading import tidy
from jetwind.core.source import LIMITS, Span

_LINKS: Shared[tuple[Link, ...]] = Shared("links")

if TYPE_CHECKING:
    from jetwind.core.message import Message

_SCHEME = re.compile(r"([a-zA-Z][a-zA-Z0-9+.-]*):")
_IN_TEXT = re.compile(r"(?<![\w@])(?:https?://|mailto:)[^\s<>\"\u00a0]+", re.IGNORECASE)
_TRAILING = ".,;:!?)]}'\u2019\u201d"


@dataclass(frozen=True, slots=True)
class Link:
    """One ``a`` or ``area`` element, or an address in plain text.

    ``address`` is the href without surrounding white space, None where there is none; ``span`` is that of the address
    as written, or of the start tag where it has no address.
    """

    part: Literal["html", "text"]
    element: Element | None
    address: str | None
    name: str
    span: Span | None

    @property
    def scheme(self) -> str:
        """Lower-case scheme, or empty for a relative address and for one that starts with a field."""
        match = _SCHEME.match(self.address or "")
        return match[1].lower() if match else ""

    @property
    def parts(self) -> SplitResult | None:
        """The address in its parts, or None where it cannot be read as a URL."""
        try:
            return _split(self.address or "")
        except ValueError:
            return None

    @property
    def host(self) -> str:
        """Lower-case host without port (of a ``mailto:`` address, its domain), or empty."""
        if self.scheme == "mailto":
            return (self.address or "").split("?", 1)[0].rpartition("@")[2].lower()
        parts = self.parts
        try:
            return (parts.hostname or "") if parts else ""
        except ValueError:
            return ""


@lru_cache(maxsize=500)
def _split(address: str) -> SplitResult:
    return urlsplit(address)


def links(message: Message) -> Iterator[Link]:
    """Links of the HTML part in document order, of the plain text where there is no HTML; as many as are looked at."""
    return iter(_some_links(message)[: LIMITS.links])


def has_more_links(message: Message) -> bool:
    """Whether there are links beyond those that are looked at."""
    return len(_some_links(message)) > LIMITS.links


def _some_links(message: Message) -> tuple[Link, ...]:
    return message.shared(_LINKS, lambda: tuple(islice(_links(message), LIMITS.links + 1)))


def _links(message: Message) -> Iterator[Link]:
    document = message.document
    if document is None:
        yield from _in_text(message)
        return
    for element in document.elements("a", "area"):
        href = element.attributes.get("href")
        span = href.value_span if href and href.value.strip() else element.start_tag
        address = None if href is None else href.value.strip()[: LIMITS.value_characters]
        yield Link("html", element, address, accessible_name(element), span)


def text_links(message: Message) -> Iterator[Link]:
    """Addresses in the plain-text part, without the punctuation that follows them (RFC 3986 appendix C); as many as are looked at."""
    return islice(_in_text(message), LIMITS.links)


def _in_text(message: Message) -> Iterator[Link]:
    if message.text is None:
        return
    seen = message.text.seen
    # A field may hold white space: it is one piece of the address that it stands in.
    fields = [token for token in tokens(seen, message.syntax) if not token.is_block]
    whole = blanked(seen, fields) if fields else seen
    for match in _IN_TEXT.finditer(whole):
        end = match.start() + len(match[0].rstrip(_TRAILING))
        address = seen[match.start() : end]
        yield Link("text", None, address, address, Span(match.start(), end))


def bare_name(name: str) -> str:
    """A link's name without the arrows and stops around its words, in small letters."""
    return " ".join(re.sub(r"[^\w\s'’]+", " ", name).split()).casefold()


def accessible_name(element: Element) -> str:
    """The name that a screen reader gives a link: its label, or its text and the alternative texts in it (accname 1.2 §4.3)."""
    if label := tidy((element.get("aria-label") or "")[: LIMITS.value_characters]):
        return label
    words: list[str] = []
    left = LIMITS.passage_characters
    for node in element.walk():
        if isinstance(node, TextRun):
            words.append(node.text[:left])
        elif node.tag == "img":
            words.append(f" {(node.get('alt') or '')[:left]} ")
        else:
            continue
        if (left := left - len(words[-1])) <= 0:
            break
    return tidy("".join(words)) or tidy((element.get("title") or element.get("alt") or "")[: LIMITS.value_characters])
