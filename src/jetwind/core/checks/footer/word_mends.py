"""The mends of what a footer has to say: the words of the house, its postal address, why the reader gets the message."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from html import escape

from jetwind.core.checking import Context, Finding, house_rulebook
from jetwind.core.checking.mends import Change, MendKind, fill, leaves_alone, mend, turns
from jetwind.core.checking.sample_values import Given
from jetwind.core.facts import phrase_pattern
from jetwind.core.fields import tokens
from jetwind.core.links.said import footer_of
from jetwind.core.markup import Element, TextRun
from jetwind.core.message import Message
from jetwind.core.prose.postal import postal_address
from jetwind.core.source import Span

#: Elements whose end takes one more line of a footer, set as the words before it.
_BLOCKS = frozenset(["p", "td", "th", "div", "center", "li", "blockquote", "address", "footer", "section", "body"])
_UNREAD = frozenset(["style", "script", "title", "head", "template", "textarea", "select"])

_ADDRESS = "Saltmarsh Kiln Works, 12 Kiln Quay, Saltmarsh SM4 7KW"
_REASON = "You get this because you signed up at our open studio."
_OUT = "<a href='https://kiln.org/u'>Unsubscribe</a>"
_HOUSE: Given = {"house": (house_rulebook("Saltmarsh", [], (_ADDRESS,)),)}
_BOTH = (
    "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary=b\n\n--b\nContent-Type: text/plain; charset=utf-8\n\n"
    "{}\n--b\nContent-Type: text/html; charset=utf-8\n\n{}\n--b--\n"
)
_DOES = "the last words of the HTML, behind the way out where there is one, and the last line of the plain text."
_LEAVES = "A message whose last words stand between conditions is left to a person, and so is one whose last block is never closed."


def _at_end(message: Message, words: str, parts: Sequence[str] = ("html", "text")) -> Iterator[Change]:
    """The words as one more line of the footer, in each of these parts."""
    if message.html is not None and "html" in parts and (at := _end_of_html(message)) is not None:
        yield Change("html", Span(at, at), f"<br>{escape(words, quote=False)}")
    if message.text is not None and "text" in parts:
        text = message.text.text
        newline, end = "\r\n" if "\r\n" in text else "\n", len(text.rstrip())
        if not _is_conditional(message, "text", end):
            yield Change("text", Span(end, end), f"{newline}{newline}{words}" if end else words)


def _end_of_html(message: Message) -> int | None:
    """Where a line of the footer is put in: before the end tag of the block with the way out, or with the last words; None where there is none."""
    out, document = footer_of(message).said("unsubscribe"), message.document
    element = out.element if out is not None and out.part == "html" else None
    if element is None and document is not None:
        read = (node for node in document.root.walk() if isinstance(node, TextRun) and node.text.strip() and node.parent.tag not in _UNREAD)
        shown = [node for node in read if not message.cascade.is_hidden(node)]
        element = shown[-1].parent if shown else None
    block = _block_of(element) if element is not None else None
    if block is None or block.end_tag is None or message.cascade.is_hidden(block) or _is_conditional(message, "html", block.end_tag.start):
        return None
    return block.end_tag.start


def _block_of(element: Element) -> Element | None:
    return next((one for one in (element, *element.ancestors()) if one.tag in _BLOCKS), None)


def _is_conditional(message: Message, part: str, at: int) -> bool:
    """Whether a place may stand between conditions: a block tag comes before it, and another after it."""
    if part == "html":
        found = message.document.field_tokens if message.document is not None else ()
    else:
        found = tokens(message.text.text if message.text is not None else "", message.syntax)
    blocks = [token.span.start for token in found if token.is_block]
    return any(start < at for start in blocks) and any(start >= at for start in blocks)


def _of_the_house(context: Context) -> list[str]:
    return [words for book in context.house for words in book.words]


@mend(
    "footer.house-words",
    kind=MendKind.CONFIRM,
    does=f"The words that the house demands become {_DOES}",
    leaves=_LEAVES,
    samples=[
        turns(f"<p>Pots. {_OUT}</p>", f"<p>Pots. {_OUT}<br>{_ADDRESS}</p>", given=_HOUSE),
        turns(
            _BOTH.format("Pots.", f"<p>{_ADDRESS}</p>"),
            _BOTH.format(f"Pots.\n\n{_ADDRESS}", f"<p>{_ADDRESS}</p>"),
            given=_HOUSE,
        ),
        leaves_alone("<div>{% if a %}<p>Pots.</p>{% else %}<p>Cups.</p>{% endif %}</div>", given=_HOUSE),
        leaves_alone("<p>Pots.", given=_HOUSE),
    ],
)
def mend_house_words(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """In each part that lacks them."""
    yield from _at_end(message, str(finding.data.get("words", "")), [place.part for place in finding.places])


@mend(
    "footer.address-missing",
    kind=MendKind.CONFIRM,
    does=f"The postal address among the words that the house demands becomes {_DOES}",
    leaves=_LEAVES,
    samples=[
        turns(f"<div>Pots. {_OUT}</div>", f"<div>Pots. {_OUT}<br>{_ADDRESS}</div>", given=_HOUSE),
        leaves_alone(f"<div>Pots. {_OUT}</div>"),
    ],
)
def mend_address(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """Only where one wording of the house holds one."""
    known = [words for words in _of_the_house(context) if postal_address(words)]
    if len(known) == 1:
        yield from _at_end(message, known[0])


@fill(
    "footer.address-missing",
    asks="The sender's name and postal address, with street or box, place and code",
    example=_ADDRESS,
    does=f"The address becomes {_DOES}",
    leaves=_LEAVES,
    suggests=lambda message, context, finding: [words for words in _of_the_house(context) if postal_address(words)],
    samples=[
        turns(
            f"<table><tr><td>Pots &amp; cups. {_OUT}</td></tr></table>",
            f"<table><tr><td>Pots &amp; cups. {_OUT}<br>{_ADDRESS}</td></tr></table>",
            _ADDRESS,
        ),
        leaves_alone(f"<div>Pots. {_OUT}</div>", "Pots and cups"),
    ],
)
def fill_address(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """Words that read as an address, and no others."""
    if postal_address(word):
        yield from _at_end(message, word)


def _reasons(message: Message, context: Context, finding: Finding) -> Sequence[str]:
    return [words for words in _of_the_house(context) if phrase_pattern("phrases", "reason").search(words)]


@fill(
    "footer.reason-missing",
    asks="The sentence that says why the reader gets this message",
    example=_REASON,
    does=f"The sentence becomes {_DOES}",
    leaves=_LEAVES,
    suggests=_reasons,
    samples=[
        turns(f"<p>Pots. {_OUT}</p>", f"<p>Pots. {_OUT}<br>{_REASON}</p>", _REASON),
        leaves_alone(f"<p>Pots. {_OUT}</p>", "Pots"),
    ],
)
def fill_reason(message: Message, context: Context, finding: Finding, word: str) -> Iterator[Change]:
    """Words that read as a reason, and no others."""
    if phrase_pattern("phrases", "reason").search(word):
        yield from _at_end(message, word)
