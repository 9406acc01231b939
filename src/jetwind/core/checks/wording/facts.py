"""HTML, plain text and subject state the same facts."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checking.stated_facts import facts_of
from jetwind.core.message import Message
from jetwind.core.prose.stated import KINDS, Stated

_MAIL = (
    "From: a@kiln.org\nSubject: {}\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary=b\n\n--b\nContent-Type: text/plain; charset=utf-8\n\n"
    "{}\n--b\nContent-Type: text/html; charset=utf-8\n\n{}\n--b--\n"
)


@check(
    id="wording.facts-differ",
    name="Facts differ between the parts",
    level=Level.FIX,
    why="A reader of the plain text, or of the subject alone, is told another price, date or code.",
    fix="Find out which one is right and write it in every part.",
    basis="Common practice, no published source",
    samples=[
        clear(_MAIL.format("Now £24", "Only £24.00, until 9 March at 9am", "<p>Only £24, until Tuesday 9 March 2027 at 9:00</p>")),
        clear(_MAIL.format("x", "Come by on 9/3/2027", "<p>Come by on 9 March 2027. Glaze: £12, clay: £8</p>")),
        clear(_MAIL.format("20 % off", "A fifth off", "<p>A fifth off</p>")),  # the HTML states no percentage: nothing to differ from
        clear(_MAIL.format("x", "Call 020 7946 0958", "<p>Call +44 (0)20 7946-0958</p>")),
        clear(_MAIL.format("x", "Only £24", "<img src='cid:a' alt='Only £24'><p>or £30</p>")),
        clear("<p>One part alone: £24 and £30</p>"),
        clear(_MAIL.format("x", "Only 49.90 euro, or 12 pounds", "<p>Only €49.90, or £12.00</p>")),
        clear(_MAIL.format("x", "Take 5 pounds of clay", "<p>Take some clay, only £3</p>")),
        finds(_MAIL.format("x", "Only 49.90 euro", "<p>Only €39.90</p>"), at="49.90 euro"),
        finds(_MAIL.format("x", "Only kr 200", "<p>Only 250 kr</p>"), at="kr 200"),
        finds(_MAIL.format("x", "Only 12 pounds", "<p>Only 10 pounds</p>"), at="12 pounds"),
        finds(_MAIL.format("x", "Only £20 today", "<p>Only £24 today</p>"), at="£20"),
        finds(_MAIL.format("30 % off", "20 % off", "<p>20 % off</p>")),
        finds(_MAIL.format("x", "Until 8 March", "<p>Until 9 March</p>"), at="8 March"),
        finds(_MAIL.format("x", "From 9:30", "<p>From 9am</p>"), at="9:30"),
        finds(_MAIL.format("x", "Use code GLAZE10", "<p>Use code <b>GLAZE20</b></p>"), at="GLAZE10"),
        finds(_MAIL.format("x", "Call 020 7946 0958", "<p>Call 020 7946 0959</p>"), at="020 7946 0958"),
    ],
)
def find_differences(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Prices, dates, times, percentages, codes and phone numbers of plain text and subject stand in the HTML too."""
    if message.document is None:
        raise DoesNotApply("the message has no HTML part to compare with")
    if message.text is None and not message.subject:
        raise DoesNotApply("the HTML stands alone")
    facts = facts_of(message)
    in_html = [fact for copy, fact in facts if copy.where in (copies.HTML, copies.ALT, copies.PREVIEW)]
    for kind in KINDS:
        known = [fact for fact in in_html if fact.kind == kind]
        if not known:
            continue
        told: list[Stated] = []
        for copy, fact in facts:
            if fact.kind != kind or copy.where not in (copies.TEXT, copies.SUBJECT) or any(fact.agrees(other) for other in known):
                continue
            if any(fact.agrees(other) for other in told) and copy.where == copies.TEXT:
                continue
            told.append(fact)
            yield Hit(
                "The {where} says {words}; the HTML has {others}.",
                copy.place(fact.span.start, fact.span.end),
                {
                    "where": copy.where,
                    "words": fact.words,
                    "kind": kind,
                    "others": ", ".join(dict.fromkeys(fact.words for fact in known[:4])),
                },
                identity=f"{kind}:{fact.value}",
            )
