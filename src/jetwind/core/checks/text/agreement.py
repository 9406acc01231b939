"""The plain text says what the HTML says, and stands where programs expect it."""

from __future__ import annotations

import itertools
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated
from urllib.parse import urlsplit

from jetwind.core.checking import Context, DoesNotApply, Finding, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, turns
from jetwind.core.checking.options import About
from jetwind.core.checks.needs import need_html, need_mail, need_text
from jetwind.core.facts import phrase_pattern
from jetwind.core.links import Link, links, text_links
from jetwind.core.message import Message
from jetwind.core.message.parts import MimePart
from jetwind.core.prose.alignment import LIKE, Shingles, html_sentences, text_sentences
from jetwind.core.prose.plain import plain_from_html
from jetwind.core.source import Span

_HEAD = "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/{}; boundary=b\n\n"
_TEXT = "--b\nContent-Type: text/plain; charset=utf-8\n\n{}\n"
_HTML = "--b\nContent-Type: text/html; charset=utf-8\n\n{}\n"
_BOTH = _HEAD.format("alternative") + _TEXT + _HTML + "--b--\n"
_SWAPPED = _HEAD.format("alternative") + _HTML.format("<p>y</p>") + _TEXT.format("y") + "--b--\n"

_RICHNESS = {"text/plain": 0, "text/enriched": 1, "text/richtext": 1, "text/html": 2}


@check(
    id="text.order",
    name="Alternatives in the wrong order",
    level=Level.FIX,
    why="Programs show the last alternative they can: everybody gets the plain text, and the HTML is never seen.",
    fix="Put the plain text first and the HTML last.",
    basis="RFC 2046 §5.1.4 (from memory)",
    samples=[
        clear(_BOTH.format("y", "<p>y</p>")),
        clear("From: a@b.org\nSubject: x\n\nPlain alone\n"),
        clear(_HEAD.format("mixed") + _HTML.format("<p>y</p>") + _TEXT.format("y") + "--b--\n"),
        clear(
            _HEAD.format("alternative")
            + _TEXT.format("y")
            + _HTML.format("y")
            + "--b\nContent-Type: text/calendar\n\nBEGIN:VCALENDAR\n--b--\n"
        ),
        finds(_SWAPPED),
        finds(
            _HEAD.format("alternative")
            + "--b\nContent-Type: multipart/related; boundary=c\n\n--c\nContent-Type: text/html\n\n<p>y</p>\n--c--\n"
            + _TEXT.format("y")
            + "--b--\n"
        ),
    ],
)
def find_order(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Parts of a multipart/alternative grow richer from first to last."""
    need_mail(message)
    assert message.root is not None
    for part in message.root.walk():
        if part.content_type != "multipart/alternative":
            continue
        known = [
            (rank, child)
            for _, child in part.children
            if (child.is_multipart or child.body.strip()) and (rank := _richness(child)) is not None
        ]
        for (before, _), (after, child) in itertools.pairwise(known):
            if after < before:
                yield Hit(
                    "{type} stands after a richer alternative.",
                    Place.in_message(message, child.body_span),
                    {"type": child.content_type},
                    identity="order",
                )
                return


def _richness(part: MimePart) -> int | None:
    if part.is_multipart:
        return max((rank for child in part.leaves if (rank := _RICHNESS.get(child.content_type)) is not None), default=None)
    return _RICHNESS.get(part.content_type)


@dataclass(frozen=True)
class AgreementOptions(Options):
    """The options that a house may set."""

    least_share: Annotated[float, About("share of the HTML's words in sentences that the plain text has too", most=1)] = 0.6
    long_sentence: Annotated[int, About("from how many words on a single sentence of the body may not be missing", unit="words")] = 8


_LONG = "We fire the big kiln on the first Monday of every month, all year round."


@check(
    id="text.out-of-sync",
    name="Plain text lacks what the HTML says",
    level=Level.FIX,
    why="Readers of the plain text miss part of the message, and filters compare the two.",
    fix="Make the plain text afresh from the HTML.",
    basis="Common practice, no published source",
    options=AgreementOptions,
    samples=[
        clear(
            _BOTH.format(
                f"SPRING SALE\n\n{_LONG}\n\nShop: https://kiln.org/shop?from=text",
                f"<h1>Spring sale</h1><p>{_LONG} <a href='https://kiln.org/shop'>Shop</a></p>",
            )
        ),
        clear(_BOTH.format(f"{_LONG[:40]}\n{_LONG[41:]}\n", f"<a href='https://kiln.org/web'>View in browser</a><p>{_LONG}</p>")),
        clear(_BOTH.format("It's here", "<p>It’s <b>here</b></p>")),
        clear(_BOTH.format(" ", f"<p>{_LONG}</p>")),  # an empty part is text.missing
        finds(_BOTH.format("Please open this message in a browser.", f"<p>{_LONG}</p>")),
        finds(
            _BOTH.format(
                f"{_LONG}\n{_LONG}",
                f"<p>{_LONG}</p><p>{_LONG}</p><p>Bring your own gloves and a friend who can lift the heavy shelves.</p>",
            )
        ),
        finds(
            _BOTH.format(f"{_LONG}", f"<p>{_LONG}</p><p><a href='https://kiln.org/a'>Book</a> <a href='https://kiln.org/b'>Shop</a></p>")
        ),
    ],
)
def find_out_of_sync(message: Message, context: Context, options: AgreementOptions) -> Iterator[Hit]:
    """The plain text has the sentences of the HTML, or ones like them, and the addresses of its links."""
    need_html(message)
    text = need_text(message)
    if not text.text.strip():
        raise DoesNotApply("the plain-text part is empty")
    sides = html_sentences(message), text_sentences(message)
    shingles = Shingles(sides[1])
    lacking = [sentence for sentence in sides[0] if shingles.share(sentence) < LIKE]
    words = sum(len(sentence.words) for sentence in sides[0])
    share = 1 - sum(len(sentence.words) for sentence in lacking) / words if words else 1.0
    long_ones = [sentence for sentence in lacking if len(sentence.words) >= options.long_sentence and not sentence.is_link]
    gone = _lacking_links(message)
    if share >= options.least_share and not long_ones and not gone:
        return
    told = [sentence.text for sentence in (long_ones or lacking)][:20]
    first = (long_ones or lacking)[:1]
    where = (
        Place.in_html(message, first[0].span, first[0].element.index if first[0].element else None)
        if first
        else Place.in_html(message, gone[0].span)
    )
    yield Hit(
        "The plain text lacks {count} of the HTML's {sentences} sentences, such as “{first}”."
        if lacking
        else "The plain text lacks {links} of the HTML's link addresses, such as {first}.",
        where,
        {
            "count": len(lacking),
            "sentences": len(sides[0]),
            "links": len(gone),
            "first": told[0] if told else gone[0].address,
            "share": round(share, 2),
            "lacking": told,
            "lacking_links": [link.address for link in gone[:20]],
        },
        identity="out-of-sync",
    )


def _lacking_links(message: Message) -> list[Link]:
    """Web links of the HTML that the plain text lacks, where it has fewer than six in ten of them."""
    there = {_target(link) for link in text_links(message)}
    ours: dict[tuple[str, str], Link] = {}
    browser = phrase_pattern("phrases", "view_in_browser")
    for link in links(message):
        if link.scheme not in ("http", "https") or not link.name or message.holds_field(link.address or ""):
            continue
        # The logo's way home and the copy in the browser are no part of what is said.
        if _target(link)[1] and not browser.search(link.name):
            ours.setdefault(_target(link), link)
    gone = [link for target, link in ours.items() if target not in there]
    return gone if len(gone) >= 2 and len(there) < LIKE * len(ours) else []


def _target(link: Link) -> tuple[str, str]:
    try:
        parts = urlsplit(link.address or "")
    except ValueError:
        return (link.address or "", "")
    return parts.netloc.lower().removeprefix("www."), parts.path.rstrip("/")


@mend(
    "text.out-of-sync",
    kind=MendKind.CONFIRM,
    does="The plain text is made afresh from the HTML.",
    leaves="A plain text with fields is left to a person, and so is one whose HTML says nothing.",
    samples=[
        turns(
            _BOTH.format("Please open this message in a browser.", f"<p>{_LONG}</p>"),
            _BOTH.format("We fire the big kiln on the first Monday of every month, all year round.", f"<p>{_LONG}</p>"),
        ),
        leaves_alone(_BOTH.format("Dear {{ first_name }}, please open this message in a browser.", f"<p>{_LONG}</p>")),
    ],
)
def mend_out_of_sync(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """Everything but the white space around it is new."""
    text = message.text
    made = plain_from_html(message).strip() if message.html is not None else ""
    if text is None or not made:
        return
    newline = "\r\n" if "\r\n" in text.text else "\n"
    start = len(text.text) - len(text.text.lstrip())
    yield Change("text", Span(start, len(text.text.rstrip())), made.replace("\r\n", "\n").replace("\n", newline))
