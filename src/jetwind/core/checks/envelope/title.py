"""No trace of the work on the message is left in its title, subject or preview text."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, Place, check, clear, finds
from jetwind.core.checking.copy import Copy, preview, subjects
from jetwind.core.message import Envelope, Message

_ADDRESS = "a@kiln.example"
_MARKS = "test|draft|demo|copy|untitled|entwurf|kopie|brouillon|borrador|bozza"
#: A working word counts where it labels the text: alone, set off by brackets or a dash, or as a copy's own prefix.
_RESIDUE = re.compile(
    rf"""
      ^\W*(?P<a>copy\ of(?!\ (?:your|our|the|my|this|a)\b)|kopie\ von|copie\ de|copia\ de)\b
    | ^\W*(?P<b>(?:{_MARKS}|test\ (?:e-?mail|message|send|mail))(?:\ ?(?:[#]?\d+|v\d+))?)\W*$
    | ^\s*(?P<c>(?:{_MARKS})(?:\ ?[#]?\d+)?)\s*[:|/–—]|^\s*(?P<d>(?:{_MARKS})(?:\ ?[#]?\d+)?)\s+-\s
    | (?P<e>[\[({{<](?:{_MARKS}|final|v\d+)(?:\ ?[#]?\d+)?[\])}}>])
    | [\s_](?:[-–—:|/_])\s*(?P<f>(?:{_MARKS})(?:\ ?[#]?\d+)?)\s*$
    | \b(?P<g>untitled)\b
    | \b(?P<h>final[\ _-]*v\d+|v\d+[\ _-]*final|final[\ _-]final)\b
    | (?-i:^(?P<i>TEST|DRAFT|DEMO|COPY)\b(?=\W+\S*[a-z])|(?<=[a-z])\W+(?P<j>TEST|DRAFT|DEMO|COPY)(?:\ \d+)?$)
    """,
    re.IGNORECASE | re.VERBOSE,
)
_IN_TITLE = re.compile(rf"(?<![^\W_])(?P<k>copy of|(?:{_MARKS})|final[ _-]*v?\d+)(?![^\W_])", re.IGNORECASE)


@check(
    id="envelope.title-residue",
    name="Working words left in title or subject",
    level=Level.FIX,
    why="“Copy of” or “test” in an inbox shows that nobody looked; in a title it makes people send the wrong message.",
    fix="Take the working words out.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>x</p>", envelope=Envelope(subject="Test drive our new kiln", sender_address=_ADDRESS)),
        clear("<p>x</p>", envelope=Envelope(subject="Live demo on Friday: raku firing", sender_address=_ADDRESS)),
        clear("<p>x</p>", envelope=Envelope(subject="A copy of your booking", sender_address=_ADDRESS)),
        clear("<p>x</p>", envelope=Envelope(subject="Copy of your receipt", sender_address=_ADDRESS)),
        clear("<p>x</p>", envelope=Envelope(subject="Final 24 hours: glaze sale", sender_address=_ADDRESS)),
        clear("<p>x</p>", envelope=Envelope(subject="How we test every glaze", sender_address=_ADDRESS)),
        clear("<p>x</p>", envelope=Envelope(subject="PUT YOUR GLAZES TO THE TEST", sender_address=_ADDRESS)),
        clear("<p>A test firing</p>", given={"working_title": "Spring glaze sale"}),
        finds("<p>x</p>", envelope=Envelope(subject="Copy of Spring glaze sale", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="[TEST] Spring glaze sale", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="Spring glaze sale (draft)", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="Test: Spring glaze sale", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="TEST Spring glaze sale", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="Spring glaze sale - test", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="Spring glaze sale final v2", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="Untitled", sender_address=_ADDRESS)),
        finds("<p>x</p>", envelope=Envelope(subject="test 2", sender_address=_ADDRESS)),
        finds("<body><div style='display:none'>Draft</div><p>y</p></body>", at="Draft"),
        finds("<p>x</p>", given={"working_title": "Spring glaze sale demo"}),
    ],
)
def find_residue(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """Working title, subject and preview text do not say copy of, demo, test, draft, untitled or final v2."""
    title = Copy(context.working_title, "working title", lambda start, end: Place("message", "Working title"), context.working_title)
    for copy in (title, *subjects(message), *preview(message)):
        text = copy.text.strip()
        match = (_IN_TITLE if copy is title else _RESIDUE).search(text)
        if match is None:
            continue
        words = next(group for group in match.groups() if group)
        at = copy.text.find(words)
        yield Hit(
            "The {where} still says “{words}”: {text}",
            copy.place(at, at + len(words)),
            {"where": copy.where, "words": words, "text": copy.written.strip()},
            identity=text.casefold(),
        )


@check(
    id="envelope.title-taken",
    name="Working title of another message",
    level=Level.FIX,
    why="Two messages of one name get mixed up when one of them is sent.",
    fix="Give this message a title of its own.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>x</p>", given={"working_title": "Spring glaze sale", "taken_titles": frozenset(["Autumn glaze sale"])}),
        finds("<p>x</p>", given={"working_title": "Spring glaze sale", "taken_titles": frozenset(["spring  Glaze sale"])}),
    ],
)
def find_taken(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No other message of the workspace has this working title."""
    if not context.working_title.strip():
        raise CannotTell("the working title is not known")
    taken = {" ".join(title.split()).casefold() for title in context.taken_titles}
    plain = " ".join(context.working_title.split()).casefold()
    if plain in taken:
        yield Hit(
            "Another message is called “{title}” too.", Place("message", "Working title"), {"title": context.working_title}, identity=plain
        )
