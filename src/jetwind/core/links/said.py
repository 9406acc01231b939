"""The sayings of a footer: the way out, the postal address, who sends it, why, and where a reader chooses, reads on or writes.

Told by words (facts/phrases.toml) and by structure, in HTML, alternative text and plain text. Common practice, no published source.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

from jetwind.core.facts import phrase_pattern, phrase_set
from jetwind.core.fields import tokens
from jetwind.core.links.addresses import organisational_domain
from jetwind.core.links.collect import Link, links, text_links
from jetwind.core.links.way_out import ways_out
from jetwind.core.markup import Element
from jetwind.core.message import Message, Shared
from jetwind.core.prose.passages import Passage, paragraphs
from jetwind.core.prose.postal import postal_address
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Span

_SAID: Shared[Said | None] = Shared("said")

Demand = Literal["unsubscribe", "address", "identity", "reason", "preferences", "view", "contact"]
DEMANDS: tuple[Demand, ...] = ("unsubscribe", "address", "identity", "reason", "preferences", "view", "contact")

#: Passages at the end and at the beginning that are looked at: what is said of the sender stands there.
_LAST, _FIRST = 80, 20
#: A field that will hold an address, and those that only sound like it.
_ADDRESS_FIELD = re.compile(r"postal|address|street|anschrift|adresse|direcci|indirizzo|endere|adres\b|адрес", re.IGNORECASE)
_NOT_POSTAL_FIELD = re.compile(r"e-?mail|url|ip_", re.IGNORECASE)
#: Letters of a company's form at the end of its name.
_FORM = (
    r"Ltd|Limited|plc|LLP|LLC|L\.L\.C|Inc|Incorporated|Corp|Corporation|Co|CIC|gGmbH|GmbH|UG|AG|KG|OHG|e\. ?V|eG|SARL|SAS|SA|S\.A|S\.L|SL|S\.R\.L|S\.r\.l|srl|S\.p\.A|"
    r"B\.V|BV|N\.V|NV|Lda|Ltda|AB|ApS|A/S|AS|Oy|Oyj|Sp\. z o\.o|S\.A|Stiftung|Foundation|Fundacja|Stichting"
)
_NAMED = re.compile(
    rf"(?:©|\(c\)|copyright)\s*(?:(?:19|20)\d\d(?:\s*[-–]\s*(?:19|20)\d\d)?)?,?\s*(?:by\s+)?[^\W\d_][\w&.'’ -]{{2,60}}|\b[A-ZÀ-ÞĀ-Ž][\w&.,'’ -]{{1,60}}?\s(?:{_FORM})\b\.?"
    r"|(?<!\w)(?:ООО|ОАО|ЗАО|АО|ИП|ПАО)\s+[«\"„]?[\w -]{2,60}"
)
_LEADS_OUT = re.compile(r"unsub|remove|leave|opt-?out|abmeld|baja", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Said:
    """Words that meet a demand, and where they stand: in which part, their span there, the element, and the link where they are one."""

    demand: Demand
    words: str
    part: Literal["html", "text"]
    span: Span | None
    element: Element | None = None
    link: Link | None = None


class Footer:
    """The sayings of a message about its sender and ways out, each found when it is first asked for."""

    def __init__(self, message: Message) -> None:
        self._message = message

    def said(self, demand: Demand) -> Said | None:
        """The first words that meet a demand; None where nothing does."""
        message = self._message
        found: Said | None = message.shared(_SAID.of(demand), lambda: next(self._find(demand), None))
        return found

    def has_field(self, *words: str) -> bool:
        """Whether the copy holds a field whose name has one of these words: what it brings may meet a demand."""
        text = reading_of(self._message).visible_text
        return any(word in token.source.lower() for token in tokens(text, self._message.syntax) for word in words)

    def _find(self, demand: Demand) -> Iterator[Said]:
        if demand == "unsubscribe":
            yield from (self._of_link(demand, link) for link in ways_out(self._message))
        elif demand == "address":
            yield from self._addresses()
        elif demand == "identity":
            yield from self._identities()
        elif demand == "reason":
            yield from self._told("reason", demand)
        elif demand == "preferences":
            yield from self._linked(
                demand,
                "preferences",
                re.compile(r"prefer|settings|profile|subscription[-_/]?(?:manage|cent)|manage[-_/]?subscri", re.IGNORECASE),
            )
        elif demand == "view":
            yield from self._linked(
                demand, "view_in_browser", re.compile(r"view[-_]?(?:online|in[-_]?browser)|web[-_]?version|browser[-_]?view", re.IGNORECASE)
            )
        else:
            yield from self._contacts()

    def _of_link(self, demand: Demand, link: Link) -> Said:
        element = link.element
        span = (
            Span(element.start_tag.start, (element.end_tag or element.start_tag).end)
            if element is not None and element.start_tag
            else link.span
        )
        return Said(demand, link.name or link.address or "", part=link.part, span=span, element=element, link=link)

    def _candidates(self) -> list[Link]:
        message = self._message
        return [
            link
            for link in (links(message) if message.html is not None else text_links(message))
            if link.address and link.address != "#" and (link.element is None or not message.cascade.is_hidden(link.element))
        ]

    def _linked(self, demand: Demand, key: str, address: re.Pattern[str]) -> Iterator[Said]:
        words = phrase_pattern("phrases", key)
        text = self._message.text.text if self._message.text is not None else ""
        for link in self._candidates():
            name = link.name
            if link.element is None and link.span is not None:
                name = text[max(0, link.span.start - 120) : link.span.end]
            elif link.element is not None and len(name) < 12:
                block = next((parent for parent in link.element.ancestors() if parent.tag in ("p", "td", "div", "li", "th")), None)
                name = f"{name} {block.text[:300]}" if block is not None and len(block.text) < 300 else name
            if words.search(name) or address.search(link.address or ""):
                yield self._of_link(demand, link)

    def _contacts(self) -> Iterator[Said]:
        words = phrase_pattern("phrases", "contact")
        for link in self._candidates():
            leads_out = link.scheme == "mailto" and _LEADS_OUT.search(link.address or "")
            if (link.scheme in ("tel", "mailto") and not leads_out) or words.search(link.name):
                yield self._of_link("contact", link)
        for passage, part in self._passages():
            match = re.search(r"[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63}){1,4}", passage.text)
            if match:
                yield self._at("contact", passage, part, match.start(), match.end())

    def _told(self, key: str, demand: Demand) -> Iterator[Said]:
        words = phrase_pattern("phrases", key)
        # Most messages hold none of the phrases, or one: looking through the whole copy once costs least.
        there = words.search(reading_of(self._message).visible_text)
        for passage, part in self._passages() if there is not None else ():
            if match := words.search(passage.text):
                yield self._at(demand, passage, part, match.start(), match.end())
        for image, alt in self._alternatives():
            if words.search(alt):
                yield Said(demand, alt, "html", image.start_tag, image)

    def _addresses(self) -> Iterator[Said]:
        message = self._message
        near = list(self._passages())
        for passage, part in near:
            for token in tokens(passage.text, message.syntax):
                if _ADDRESS_FIELD.search(token.source) and not _NOT_POSTAL_FIELD.search(token.source):
                    yield self._at("address", passage, part, token.span.start, token.span.end)
        whole = reading_of(message).visible_text
        found_at = postal_address(whole)
        if found_at is None:
            for image, alt in self._alternatives():
                if postal_address(alt):
                    yield Said("address", alt, "html", image.start_tag, image)
            return
        # Its first words give the passage that it begins in: an address is often set in lines of its own.
        begins = " ".join(found_at.split())[:24].split("\0")[0].strip()
        for passage, part in near:
            at = " ".join(passage.text.split()).find(begins[:12])
            if at >= 0 and begins:
                yield self._at("address", passage, part, 0, len(passage.text))
        yield Said("address", found_at, "html" if message.html is not None else "text", None)

    def _identities(self) -> Iterator[Said]:
        names = names_of_sender(self._message)
        words = _words_of_names(self._message)
        for passage, part in self._passages():
            plain = _plain(passage.text)
            for name in names:
                if name in plain:
                    shown = re.search(r"[\W_]*".join(map(re.escape, name.replace(" ", ""))), passage.text, re.IGNORECASE)
                    start, end = shown.span() if shown else (0, len(passage.text))
                    if (
                        name in words
                        and (written := passage.text[start : start + 1]).isalpha()
                        and written == written.lower() != written.upper()
                    ):
                        continue  # one word of a longer name, in small letters, is the ordinary word: "fire with us at the works"
                    yield self._at("identity", passage, part, start, end)
            if match := _NAMED.search(passage.text):
                yield self._at("identity", passage, part, match.start(), match.end())
        for image, alt in self._alternatives():
            if any(name in _plain(alt) for name in names):
                yield Said("identity", alt, "html", image.start_tag, image)

    def _alternatives(self) -> Iterator[tuple[Element, str]]:
        message = self._message
        for image in message.document.elements("img") if message.document is not None else ():
            alt = (image.get("alt") or "").strip()
            if alt and not message.cascade.is_hidden(image):
                yield image, alt[:400]

    def _passages(self) -> Iterator[tuple[Passage, Literal["html", "text"]]]:
        """The last passages from the end, then the first ones: of the HTML, or of the plain text where there is none."""
        message = self._message
        if message.document is not None:
            all_passages = reading_of(message).passages
            yield from ((passage, "html") for passage in (*all_passages[-_LAST:][::-1], *all_passages[:-_LAST][:_FIRST]))
            return
        text = message.text.seen if message.text is not None else ""
        spans = list(paragraphs(text))
        for span in (*spans[-_LAST:][::-1], *spans[:-_LAST][:_FIRST]):
            yield _TextPassage(re.sub(r"[\r\n\t]", " ", text[span.start : span.end]), span), "text"

    def _at(self, demand: Demand, passage: Passage, part: Literal["html", "text"], start: int, end: int) -> Said:
        words = " ".join(passage.text[start:end].split())
        if isinstance(passage, _TextPassage):
            return Said(demand, words, part, Span(passage.at.start + start, passage.at.start + end))
        assert self._message.document is not None
        span, element = passage.span(self._message.document.source, start, end)
        return Said(demand, words, part, span, element)


class _TextPassage(Passage):
    """A paragraph of plain text, with its place."""

    def __init__(self, text: str, at: Span) -> None:
        super().__init__(text)
        self.at = at


def footer_of(message: Message) -> Footer:
    """The sayings of a message about its sender and ways out."""
    return Footer(message)


def _plain(text: str) -> str:
    return " ".join(re.sub(r"[^\w]+", " ", text.casefold().replace("ß", "ss")).split())


def names_of_sender(message: Message) -> tuple[str, ...]:
    """The names that the sender may have, in small letters: the display name, its words that name somebody, and the words of the domain.

    Empty where nobody knows who sends it: there is no From, or a field stands in its place.
    """
    names: list[str] = []
    for box in message.mailboxes("From"):
        if not message.holds_field(box.name):
            whole = _plain(box.name)
            nobody = phrase_set("phrases", "names_nobody")
            telling = [word for word in whole.split() if word not in nobody and len(word) > 2]
            if telling:
                names += [whole, " ".join(telling)] + [word for word in telling if len(word) > 3]
        domain = box.address.rpartition("@")[2].lower()
        if domain and not message.holds_field(box.address):
            label = organisational_domain(domain).partition(".")[0]
            if len(label) > 2:
                names += [" ".join(label.split("-")), label.replace("-", "")]
    return tuple(dict.fromkeys(name for name in names if len(name) > 2))


def _words_of_names(message: Message) -> frozenset[str]:
    """Single words of display names that have several."""
    wholes = [_plain(box.name).split() for box in message.mailboxes("From") if not message.holds_field(box.name)]
    return frozenset(word for whole in wholes if len(whole) > 1 for word in whole)


def is_sender_known(message: Message) -> bool:
    """Whether the message says in its envelope who sends it."""
    return bool(names_of_sender(message))
