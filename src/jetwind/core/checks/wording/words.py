"""No word stands twice."""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.checking import Context, Finding, Hit, Level, Options, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checking.copy import Copy
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, sources, turns
from jetwind.core.facts import phrase_set
from jetwind.core.message import Envelope, Message
from jetwind.core.source import Span

_TWICE = re.compile(r"(?<![\w’'@/.#-])(?P<word>[^\W\d_]{2,})(?P<gap>\s+)(?P<again>(?P=word))(?![\w’'@/-]|\.\w)", re.IGNORECASE)
#: A shorter line of plain text ends where its author broke it, so words on both sides belong to two things.
_FULL_LINE = 50


@check(
    id="wording.repeated-word",
    name="Same word twice in a row",
    level=Level.FIX,
    why="A slip like the the makes a careful message look careless.",
    fix="Delete one of the two words.",
    basis="Common practice, no published source",
    samples=[
        clear("<p>All that that glaze had had was luster. No no, very very good.</p>"),
        clear("<p>Clay, glaze, brushes etc etc are here.</p>"),
        clear("<p>Duran Duran played at Baden Baden.</p>"),
        clear("<p>The kiln. The kiln is hot. Go, go! 10 10 pots</p>"),
        clear("<p>{{ name }} {{ name }}, hello</p>"),
        clear("<a href='a'>Shop</a> <a href='b'>Shop</a>"),
        clear("<table><tr><td>raku</td><td>raku</td></tr></table><p>glaze</p><p>glaze</p>"),
        clear("<html lang='de'><p>Die Schalen, die die Schule brennt.</p></html>"),
        clear("Subject: x\nFrom: a@b.org\n\nglaze\nglaze\n"),
        finds("<p>Come to the the kiln</p>", at="the the"),
        finds("<p>Come to <b>the</b> the kiln</p>", at="the</b> the"),
        finds("<p>The the kiln is hot</p>", at="The the"),
        finds("<p>x</p>", envelope=Envelope(subject="Our spring spring sale", sender_address="a@b.org")),
        finds("Subject: x\nFrom: a@b.org\n\nCome to the\tthe kiln\n", at="the\tthe"),
    ],
)
def find_repeated(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No word is followed by itself, save words and names that do so rightly."""
    exempt = phrase_set("phrases", "doubled_words")
    told: set[tuple[str, int]] = set()
    for copy in copies.all_copy(message):
        text = copy.text
        for match in _TWICE.finditer(text):
            word = match["word"].lower()
            is_name = match["word"][0].isupper() and match["again"][0].isupper()
            if word in exempt or is_name or word in context.word_list or _is_broken(message, copy, match):
                continue
            place = copy.place(match.start(), match.end())
            key = (copy.where + word, place.start.offset if place.start else match.start())
            if key in told:
                continue
            told.add(key)
            yield Hit(
                "“{words}” stands twice in the {where}.",
                place,
                {"words": match["word"], "where": copy.where},
                identity=_around(text, match),
            )


@mend(
    "wording.repeated-word",
    kind=MendKind.CONFIRM,
    does="The second of the two words is taken out, with the blank before it.",
    leaves="Two words with markup between them are left to a person: one of the two is meant to look different.",
    samples=[
        turns("<p>Come to the the kiln</p>", "<p>Come to the kiln</p>"),
        turns("Subject: x\nFrom: a@b.org\n\nCome to the\tthe kiln\n", "Subject: x\nFrom: a@b.org\n\nCome to the kiln\n"),
        leaves_alone("<p>Come to <b>the</b> the kiln</p>"),
    ],
)
def mend_repeated(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The first word stays as it is written, so that a sentence keeps its capital."""
    for part, span, written in sources(message, finding):
        if part != "header" and (twice := _TWICE.fullmatch(written)) is not None:
            yield Change(part, Span(span.start + twice.end("word"), span.end), "")


def _around(text: str, match: re.Match[str]) -> str:
    return text[max(0, match.start() - 20) : match.end() + 20].casefold()


def _is_broken(message: Message, copy: Copy, match: re.Match[str]) -> bool:
    """Whether the two words belong to two things: two links, or two lines of a list."""
    first, second = copy.place(match.start("word"), match.end("word")), copy.place(match.start("again"), match.end("again"))
    if copy.where == copies.HTML and message.document is not None and first.element != second.element:
        elements = message.document.all_elements
        holders = [elements[place.element] if place.element is not None else None for place in (first, second)]
        links = [
            next((one.index for one in (holder, *holder.ancestors()) if one.tag == "a"), None) if holder else None for holder in holders
        ]
        return links[0] != links[1]
    if copy.where == copies.TEXT and message.text is not None and first.start and second.start:
        between = message.text.text[first.start.offset : second.start.offset]
        if "\n" in between or "\r" in between:
            line_start = max(message.text.text.rfind("\n", 0, first.start.offset), message.text.text.rfind("\r", 0, first.start.offset)) + 1
            return first.start.offset - line_start < _FULL_LINE
    return False
