"""Nothing that changes from message to message was carried over from the one this was copied from."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Annotated
from urllib.parse import parse_qsl, urlsplit

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checking.options import About
from jetwind.core.checking.stated_facts import facts_of
from jetwind.core.links import links
from jetwind.core.message import Message

_MAIL = "From: a@b.org\nSubject: {}\nContent-Type: text/html; charset=utf-8\n\n{}\n"
_HIDDEN = "<div style='display:none'>{}</div>"


@dataclass(frozen=True)
class CarriedOptions(Options):
    """The options that a house may set."""

    parameters: Annotated[str, About("names, or parts of names, of link parameters that belong to one message, parted by spaces")] = (
        "campaign"
    )


def campaign_values(message: Message, names: str) -> dict[tuple[str, str], Place]:
    """Link parameters that belong to one message, name and value, with the place of the first link that has them."""
    wanted = names.lower().split()
    found: dict[tuple[str, str], Place] = {}
    for link in links(message):
        try:
            pairs = parse_qsl(urlsplit(link.address or "").query)
        except ValueError:
            continue
        for name, value in pairs:
            if any(part in name.lower() for part in wanted):
                make = Place.in_html if link.part == "html" else Place.in_text
                found.setdefault((name, value), make(message, link.span))
    return found


@check(
    id="wording.carried-over",
    name="Carried over from the earlier message",
    level=Level.FIX,
    why="What was right in the last message stands in this one because nobody changed it.",
    fix="Check it against this message's brief; change it, or excuse it if it is still true.",
    basis="Common practice, no published source",
    options=CarriedOptions,
    samples=[
        clear(
            _MAIL.format("Autumn sale", "<p>Only £30 until 9 October</p>"),
            previous=_MAIL.format("Spring sale", "<p>Only £24 until 9 March</p>"),
        ),
        clear("<p>No earlier message: £24</p>"),
        clear(
            _MAIL.format("A", "<a href='https://b.org/?campaign=autumn'>x</a>"),
            previous=_MAIL.format("B", "<a href='https://b.org/?campaign=spring'>x</a>"),
        ),
        clear(_MAIL.format("A", "<p>Open 9:00 to 17:00</p>"), previous=_MAIL.format("B", "<p>Open 9:00 to 17:00</p>")),  # hours stay
        clear(_MAIL.format("", "<p>A</p>"), previous=_MAIL.format("", "<p>B</p>")),
        finds(_MAIL.format("Spring sale", "<p>A</p>"), at="Subject: Spring sale", previous=_MAIL.format("Spring  sale", "<p>B</p>")),
        finds(
            _MAIL.format("A", _HIDDEN.format("Twelve glazes")),
            at="Twelve glazes",
            previous=_MAIL.format("B", _HIDDEN.format("Twelve glazes")),
        ),
        finds(_MAIL.format("A", "<p>Until 9 March</p>"), at="9 March", previous=_MAIL.format("B", "<p>Tuesday 9 March 2026</p>")),
        finds(_MAIL.format("A", "<p>Only £24</p>"), at="£24", previous=_MAIL.format("B", "<p>For £24.00</p>")),
        finds(_MAIL.format("A", "<p>Code GLAZE10</p>"), at="GLAZE10", previous=_MAIL.format("B", "<p>code: GLAZE10</p>")),
        finds(
            _MAIL.format("A", "<a href='https://b.org/a?my_campaign=spring'>x</a>"),
            at="https://b.org/a?my_campaign=spring",
            previous=_MAIL.format("B", "<a href='https://b.org/b?my_campaign=spring'>x</a>"),
        ),
    ],
)
def find_carried(message: Message, context: Context, options: CarriedOptions) -> Iterator[Hit]:
    """Subject, preview text, dates, prices, codes and campaign parameters differ from those of the message it was copied from."""
    previous = context.previous
    if previous is None:
        raise DoesNotApply("no earlier message is named")
    if (
        message.envelope_known
        and previous.envelope_known
        and _plain(message.subject)
        and _plain(message.subject) == _plain(previous.subject)
    ):
        place = Place.in_header(message, "Subject", message.header("Subject"))
        yield Hit(
            "The subject is that of the earlier message: {words}",
            place,
            {"words": message.subject},
            identity=f"subject:{_plain(message.subject)}",
        )
    before = {_plain(copy.written) for copy in copies.preview(previous)}
    for copy in copies.preview(message):
        if _plain(copy.written) and _plain(copy.written) in before:
            yield Hit(
                "The preview text is that of the earlier message: {words}",
                copy.place(0, len(copy.text)),
                {"words": copy.written},
                identity="preview text",
            )
    earlier = [fact for _, fact in facts_of(previous)]
    told: set[tuple[str, str]] = set()
    for copy, fact in facts_of(message):
        if fact.kind not in ("date", "price", "code") or (fact.kind, fact.value) in told:
            continue
        if any(fact.agrees(other) for other in earlier):
            told.add((fact.kind, fact.value))
            yield Hit(
                "The {kind} {words} stood in the earlier message too.",
                copy.place(fact.span.start, fact.span.end),
                {"kind": fact.kind, "words": fact.words},
                identity=f"{fact.kind}:{fact.value}",
            )
    then = campaign_values(previous, options.parameters)
    for (name, value), place in campaign_values(message, options.parameters).items():
        if (name, value) in then and value:
            yield Hit(
                "Links say {name}={value}, as in the earlier message.", place, {"name": name, "value": value}, identity=f"{name}={value}"
            )


def _plain(text: str) -> str:
    return " ".join(text.split()).casefold()
