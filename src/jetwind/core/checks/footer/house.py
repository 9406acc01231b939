"""Words that the house demands by a rulebook of its own."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.core.checking import Context, DoesNotApply, Hit, Level, Options, Place, check, clear, finds, house_rulebook
from jetwind.core.checking.sample_values import Given
from jetwind.core.checks.wording.brief import normal, pattern, text_of
from jetwind.core.links.said import footer_of
from jetwind.core.message import Message

_WORDS = "Glazes are fired at 1,240 °C"
_BOTH = (
    "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/alternative; boundary=b\n\n--b\nContent-Type: text/plain; charset=utf-8\n\n"
    "{}\n--b\nContent-Type: text/html; charset=utf-8\n\n{}\n--b--\n"
)


def _asks(*words: str) -> Given:
    return {"house": (house_rulebook("Saltmarsh", [], words),)}


@check(
    id="footer.house-words",
    name="Wording of the house rulebook missing",
    level=Level.STOP,
    why="The house has decided that every such message says this.",
    fix="Put the wording in, or change the rulebook if it no longer holds.",
    basis="House",
    samples=[
        clear(f"<p>{_WORDS}.</p>", given=_asks(_WORDS)),
        clear("<p>Glazes are <b>fired</b> at&nbsp;1,240\u00a0°C, always.</p>", given=_asks(_WORDS)),
        clear(f"<img src='a.png' alt='{_WORDS}'>", given=_asks(_WORDS)),
        clear(_BOTH.format(_WORDS, f"<p>{_WORDS}</p>"), given=_asks(_WORDS)),
        clear("<p>No house has written any.</p>"),
        clear("<p>{{ house_words }}</p>", given=_asks(_WORDS)),
        finds("<p>Glazes are fired at 1,260 °C.</p>", given=_asks(_WORDS)),
        finds(_BOTH.format("Pots.", f"<p>{_WORDS}</p>"), given=_asks(_WORDS)),
    ],
)
def find_words(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """HTML and plain text hold the words that the rulebooks of the house demand."""
    if not any(book.words for book in context.house):
        raise DoesNotApply("no rulebook of the house demands words")
    brings_it = footer_of(message).has_field("footer", "house", "legal", "imprint", "disclaimer", "terms")
    for book in context.house:
        for words in book.words:
            wanted = pattern(words)
            lacking = []
            for place, part in (("HTML", "html"), ("plain text", "text")):
                copy = text_of(message, place)
                if copy is not None and not wanted.search(copy) and not brings_it:
                    lacking.append((place, part))
            if lacking:
                first, *others = (Place("html" if part == "html" else "text") for _, part in lacking)
                data = {"words": words, "place": " and the ".join(place for place, _ in lacking), "book": book.name}
                yield Hit("“{words}” of “{book}” does not stand in the {place}.", first, data, identity=normal(words), also=tuple(others))
