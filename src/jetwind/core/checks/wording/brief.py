"""The copy says what the brief asks for, and nothing that it forbids."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator
from urllib.parse import unquote

from jetwind.core.checking import PLACES, Brief, Context, DoesNotApply, Hit, Level, Options, Place, RequiredItem, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checking.copy import Copy
from jetwind.core.checking.sample_values import Given
from jetwind.core.links import links
from jetwind.core.message import Envelope, Message
from jetwind.core.prose.reading import reading_of

_VARIANTS = str.maketrans(
    {"‘": "'", "’": "'", "‚": "'", "ʼ": "'", "“": '"', "”": '"', "„": '"', "«": '"', "»": '"', "‐": "-", "‑": "-", "–": "-", "—": "-"}
    | {"−": "-", "…": "...", "\u00ad": None, "\u200b": None, "\u200c": None, "\u200d": None, "\ufeff": None, "⁠": None}
)
_SPACE = re.compile(r"\s+")


def normal(text: str) -> str:
    """Spaces, case and typographic variants made alike (Unicode NFKC)."""
    plain = unicodedata.normalize("NFKC", text.translate(_VARIANTS))
    return _SPACE.sub(" ", plain.translate(_VARIANTS)).casefold().strip()


def pattern(item: str) -> re.Pattern[str]:
    """Finds the item in normal text, but not as part of a longer word or number: £24 is not in £240 or £24.50."""
    words = re.escape(normal(item))
    before = r"(?<!\w)(?<!\d[.,])" if re.match(r"\w", normal(item)) else ""
    after = r"(?!\w)(?![.,]\d)" if re.search(r"\w\Z", normal(item)) else ""
    return re.compile(f"{before}{words}{after}")


def text_of(message: Message, place: str) -> str | None:
    """All copy of one place of the brief in normal form, or None where the message has no such place."""
    if place == "HTML":
        if message.document is None:
            return None
        return normal(" ".join(copy.written for source in (copies.html, copies.alternative_texts) for copy in source(message)))
    if place == "plain text":
        return None if message.text is None else normal(message.text.seen)
    if not message.envelope_known and not (place == "preview text" and message.document is not None):
        return None
    if place == "subject":
        return normal(message.subject)
    return normal(reading_of(message).preview_text)


def places_of(message: Message, item: RequiredItem) -> dict[str, bool | None]:
    """For each place, whether it holds the item; None where the item is not asked for there or the place does not exist."""
    wanted = pattern(item.text)
    found: dict[str, bool | None] = {}
    for place in PLACES:
        text = text_of(message, place) if place in item.places else None
        found[place] = None if text is None else bool(wanted.search(text))
    return found


_BOTH = (
    "From: a@kiln.org\nSubject: {}\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary=b\n\n--b\nContent-Type: text/plain; charset=utf-8\n\n"
    "{}\n--b\nContent-Type: text/html; charset=utf-8\n\n{}\n--b--\n"
)


def _asks(*items: RequiredItem) -> Given:
    return {"brief": Brief(required=items)}


def _forbids(*items: str) -> Given:
    return {"brief": Brief(forbidden=items)}


@check(
    id="wording.required-missing",
    name="Required wording missing",
    level=Level.STOP,
    why="The brief says that the reader must be told this.",
    fix="Put the wording in, or change the brief if it is no longer true.",
    basis="House",
    samples=[
        clear("<p>Twelve glazes for £24</p>", given=_asks(RequiredItem("£24", ("HTML",)))),
        clear("<p>It’s a <b>fifth</b>&nbsp;off</p>", given=_asks(RequiredItem("it's A fifth off", ("HTML",)))),
        clear("<img src='cid:a' alt='Only £24'><p>x</p>", given=_asks(RequiredItem("£24", ("HTML",)))),
        clear(
            "<p>HTML alone has no plain text and no subject: £24</p>", given=_asks(RequiredItem("£24", ("HTML", "plain text", "subject")))
        ),
        finds("<p>Twelve glazes for £240</p>", given=_asks(RequiredItem("£24", ("HTML",)))),
        finds("<p>x</p><div style='display:none'>£24</div>", given=_asks(RequiredItem("£24", ("HTML",)))),
        finds(_BOTH.format("x", "Only £25", "<p>Only £24</p>"), given=_asks(RequiredItem("£24"))),
        finds(_BOTH.format("Spring", "£24", "<p>£24</p>"), given=_asks(RequiredItem("£24", ("subject",)))),
    ],
)
def find_missing(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Every required item stands in each place that the brief names."""
    if not context.brief.required:
        raise DoesNotApply("the brief requires no wording")
    for item in context.brief.required:
        lacking = [place for place, held in places_of(message, item).items() if held is False]
        if lacking:
            first, *others = (_whole(message, place) for place in lacking)
            yield Hit(
                "“{item}” is required in the {place} and does not stand there.",
                first,
                {"item": item.text, "place": " and the ".join(lacking)},
                identity=normal(item.text),
                also=tuple(others),
            )


def _whole(message: Message, place: str) -> Place:
    if place == "HTML":
        return Place("html")
    if place == "plain text":
        return Place("text")
    header = message.header("Subject")
    return Place.in_header(message, "Subject", header) if place == "subject" else Place("header", "Preview text")


@check(
    id="wording.forbidden-present",
    name="Forbidden wording left in",
    level=Level.STOP,
    why="An old price, code or address that the brief rules out reaches the reader.",
    fix="Replace it by words that are true now.",
    basis="House",
    samples=[
        clear("<p>Twelve glazes for £240, or £24.50 each</p>", given=_forbids("£24")),
        clear("<p>Our new shop</p><!-- old shop -->", given=_forbids("old shop")),
        clear("<a href='https://kiln.org/new'>Shop</a>", given=_forbids("kiln.org/old")),
        finds("<p>Only <b>£</b>24 today</p>", given=_forbids("£24")),
        finds("<img src='cid:a' alt='Old Quay 3'>", at="Old Quay 3", given=_forbids("old quay 3")),
        finds("<a href='https://kiln.org/old%20shop?x=1'>Shop</a>", at="https://kiln.org/old%20shop?x=1", given=_forbids("old shop")),
        finds("<p>x</p>", envelope=Envelope(subject="Use GLAZE10", sender_address="a@b.org"), given=_forbids("GLAZE10")),
        finds(
            "<p>x</p>",
            envelope=Envelope(subject="x", subject_variants=("Use GLAZE10",), sender_address="a@b.org"),
            given=_forbids("GLAZE10"),
        ),
        finds("Subject: x\nFrom: a@b.org\n\nUse GLAZE10\nnow\n", at="GLAZE10", given=_forbids("glaze10")),
    ],
)
def find_present(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No forbidden item stands in copy, alternative text, subject, preview text or a link address."""
    if not context.brief.forbidden:
        raise DoesNotApply("the brief forbids no wording")
    for item in context.brief.forbidden:
        wanted = pattern(item)
        for copy in copies.all_copy(message):
            if wanted.search(normal(copy.written)):
                yield Hit(
                    "“{item}” is forbidden and stands in the {where}.",
                    _place(copy, item),
                    {"item": item, "where": copy.where},
                    identity=normal(item),
                )
        for link in links(message):
            address = normal(unquote(link.address or ""))
            if wanted.search(address):
                place = Place.in_html if link.part == "html" else Place.in_text
                yield Hit(
                    "“{item}” is forbidden and stands in the address {address}.",
                    place(message, link.span),
                    {"item": item, "address": link.address},
                    identity=normal(item),
                )


def _place(copy: Copy, item: str) -> Place:
    """The words themselves where they can be told apart in the copy; else the whole piece."""
    loose = r"\s+".join(re.escape(word) for word in item.split())
    match = re.search(loose, copy.written, re.IGNORECASE)
    return copy.place(match.start(), match.end()) if match else copy.place(0, len(copy.text))
