"""The way out of a list: the visible link, and the addresses of the List-Unsubscribe header."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import unquote

from jetwind.core.facts import Phrases, phrase_pattern, phrase_set
from jetwind.core.links.collect import Link, bare_name, links, text_links
from jetwind.core.markup import Element, TextRun
from jetwind.core.message import Message, Shared
from jetwind.core.prose.reading import reading_of, tidy
from jetwind.core.source import Span

_WAYS_OUT: Shared[tuple[Link, ...]] = Shared("ways out")

#: Words inside an address, where words run together: unsubscribe, opt-out, abmelden …
ADDRESS_WORDS = re.compile(
    r"unsub|opt[-_]?out|abmeld|abbestell|desinscri|desabonn|disiscri|baja\b|afmeld|uitschrijv|list[-_]?remove|remove[-_]?me", re.IGNORECASE
)
#: Further names than those of ``vague_links`` that say nothing by themselves: then the sentence around them speaks.
_VAGUE = re.compile(
    r"(?:please )?(?:click |tap |press |go )?(?:here|this link|link|this way|this|hier|diesen link|remove|leave|stop|let us know|tell us|ici|aquí|aqui|qui|klik hier|här|her|tutaj)\W*\Z",
    re.IGNORECASE,
)


#: A link whose text is an address.
_ADDRESS = re.compile(r"://|www\.|@")
_INLINE = frozenset({"span", "font", "small"})
#: Ends of a sentence, and the strokes and dots between the links of a footer.
_SENTENCE_END = re.compile(r"[.?!:;](?:\s|\Z)|[|•·–—]")
_MAIL_ADDRESS = re.compile(r"[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63}){1,5}")
#: The sentence around a link is read for so many of the last links: the way out stands at the end.
_LAST = 200
_CLOSE_TAGS = frozenset({"p", "td", "th", "div", "li", "center", "span", "font", "small"})


def unsubscribe_link(message: Message) -> Link | None:
    """The first visible link by which a reader leaves the list, told by its words, its address, or the sentence around it."""
    return next(ways_out(message), None)


def ways_out(message: Message) -> Iterator[Link]:
    """Every visible link by which a reader leaves the list, in their order; see :func:`unsubscribe_link`."""
    return iter(message.shared(_WAYS_OUT, lambda: tuple(_ways_out(message))))


def likely_ways_out(message: Message) -> Iterator[Link]:
    """Links that may lead out of the list, told without working out what a reader sees: by their words, their address or their block.

    This is for messages whose styles take too long. It tells more links than :func:`ways_out` does, such as a hidden one, or a neighbour.
    """
    words = phrase_pattern("phrases", "unsubscribe")
    candidates = list(links(message) if message.html else text_links(message))
    for number, link in enumerate(candidates):
        if not link.address or link.address == "#" or link.scheme == "javascript":
            continue
        is_told = bool(words.search(link.name) or ADDRESS_WORDS.search(unquote(link.address)))
        if not is_told and link.element is not None and number >= len(candidates) - _LAST:
            is_told = _is_vague(link.name) and bool(words.search(_sentence(link.element)))
        elif not is_told and link.element is None and message.text is not None and link.span is not None:
            is_told = bool(words.search(message.text.text[max(0, link.span.start - 200) : link.span.end + 80]))
        if is_told:
            yield link


def _ways_out(message: Message) -> Iterator[Link]:
    words, chooses = phrase_pattern("phrases", "unsubscribe"), phrase_pattern("phrases", "preferences")
    candidates = list(links(message) if message.html else text_links(message))
    # What the header leads out by leads out in the copy, too, whatever it is called there.
    listed = {
        uri for header in message.header_fields("List-Unsubscribe") for uri in list_unsubscribe_targets(header.value) if _PAGE.match(uri)
    }
    told = bool(words.search(reading_of(message).visible_text))
    if not told and not any(
        link.address in listed or ADDRESS_WORDS.search(unquote(link.address or "")) or words.search(link.name) for link in candidates
    ):
        return
    # The words of a way out speak for itself alone, and not for the links beside it in the footer.
    spoken: set[int] = set()
    for number, link in enumerate(candidates):
        if link.element is not None and message.cascade.is_hidden(link.element):
            continue
        if not link.address or link.address == "#" or link.scheme == "javascript":
            continue
        is_told = link.address in listed or bool(words.search(link.name) or ADDRESS_WORDS.search(unquote(link.address)))
        if not is_told and link.element is not None and number >= len(candidates) - _LAST:
            before = _before(link.element, spoken)
            ends = "?:" if _is_vague(link.name) or _ADDRESS.search(link.name) else "?"
            asked = "" if chooses.search(link.name) else _SENTENCE_END.split(before.rstrip(" |").rstrip(ends))[-1]
            led_to = f"{_SENTENCE_END.split(before)[-1]} {link.name}"
            # A question is answered by the link behind it, on the same line or the next, whatever it says itself; what a colon ends, by an address.
            is_told = bool(words.search(led_to) or words.search(asked) or (_is_vague(link.name) and words.search(_sentence(link.element))))
        elif not is_told and link.element is None and message.text is not None and link.span is not None:
            is_told = bool(words.search(message.text.text[max(0, link.span.start - 200) : link.span.end + 80]))
        if is_told:
            if link.element is not None:
                spoken.update(id(node) for node in link.element.walk() if isinstance(node, TextRun))
            yield link
    if message.html is not None:
        yield from _written_out(message, words)
    if message.html is None and message.text is not None:
        # In plain text "send a mail to leave@…" is as much of a link as a reader gets.
        for match in _MAIL_ADDRESS.finditer(message.text.seen):
            if words.search(message.text.text[max(0, match.start() - 200) : match.end() + 80]):
                yield Link("text", None, f"mailto:{match[0]}", match[0], Span(match.start(), match.end()))


def _written_out(message: Message, words: Phrases) -> Iterator[Link]:
    """Mail addresses that stand as text in a sentence that says they lead out of the list: clients make links of them."""
    assert message.document is not None
    for passage in reading_of(message).passages[-_LAST:]:
        if "@" not in passage.text or not words.search(passage.text):
            continue
        for match in _MAIL_ADDRESS.finditer(passage.text):
            if words.search(passage.text[max(0, match.start() - 200) : match.end() + 80]):
                span, element = passage.span(message.document.source, match.start(), match.end())
                if not any(parent.tag == "a" for parent in (element, *element.ancestors())):
                    yield Link("html", None, f"mailto:{match[0]}", match[0], span)


def _is_vague(name: str) -> bool:
    return len(name) < 60 and (_VAGUE.match(name) is not None or bare_name(name) in phrase_set("phrases", "vague_links"))


def _before(element: Element, spoken: set[int]) -> str:
    """The words that lead to a link in its own block, but for runs of text in ``spoken``: "To unsubscribe or change your address, visit the …"."""
    block = next((parent for parent in element.ancestors() if parent.tag in _CLOSE_TAGS and parent.tag not in _INLINE), None)
    words: list[str] = []
    for node in block.walk() if block is not None else ():
        if node is element:
            break
        if isinstance(node, TextRun):
            words.append("| " if id(node) in spoken else node.text)
        elif node.tag in ("br", "p", "td", "li", "div"):
            words.append("| ")
        if len(words) > 400:
            del words[:200]
    return tidy("".join(words))[-300:]


def _sentence(element: Element) -> str:
    """Text of the small block around a link: "To unsubscribe, click here"."""
    block = next((parent for parent in element.ancestors() if parent.tag in _CLOSE_TAGS), None)
    text = tidy(block.text) if block is not None else ""
    if block is not None and len(text) <= len(tidy(element.text)) + 2 and block.parent is not None:
        text = tidy(block.parent.text)
    return text if len(text) <= 600 else ""


_URI = re.compile(r"<([^<>]*)>")
#: A page of its own, and not the home page or a mailbox that people write to for anything.
_PAGE = re.compile(r"https?://[^/?#]+[/?#]+[^/?#\s]", re.IGNORECASE)
_COMMENT = re.compile(r"\([^()]*\)")


def list_unsubscribe_targets(value: str) -> list[str]:
    """The URIs of a List-Unsubscribe header in order of preference; comments are ignored (RFC 2369 §2, §3.2)."""
    outside = "".join(piece if number % 2 else _COMMENT.sub("", piece) for number, piece in enumerate(re.split(r"(<[^<>]*>)", value)))
    return [uri.strip() for uri in _URI.findall(outside)]
