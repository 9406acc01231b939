"""The page at the end of a link is the one that the words promised, and can be read."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Annotated

from jetwind.core.checking import CannotTell, Context, Hit, Level, Options, check, clear, finds
from jetwind.core.checking.options import About
from jetwind.core.checking.samples import answered, landed, opened
from jetwind.core.checks.links.answered import each, told
from jetwind.core.facts import phrase_pattern
from jetwind.core.links.addresses import Address, parsed
from jetwind.core.links.answers import Answer, Page
from jetwind.core.links.collection import Target, offer_words
from jetwind.core.message import Message
from jetwind.core.prose.language import languages_of
from jetwind.core.prose.reading import tidy
from jetwind.core.prose.stated import Stated, stated

_A = "https://kiln.org/sale/glazes"
_LINK = f"<a href='{_A}'>Glazes</a>"
_HOME = re.compile(r"/(?:[a-z]{2}(?:[-_][a-z]{2})?/?)?(?:(?:index|home|default)(?:\.\w{2,5})?)?/?\Z", re.IGNORECASE)
#: Words of a title after these marks name the house.
_PARTS = re.compile(r"\s+[|·•–—-]\s+|\s*[|•]\s*")
#: Words beside the phrase that a title may have and still be of a page that is not there.
_MOST_OTHER_WORDS = 6


@check(
    id="links.landing-error",
    name="Page that says it is not there",
    level=Level.FIX,
    why="The server says all is well while the reader reads “not found”, or stands on the home page and has to search.",
    fix="Correct the address, or have the page put back.",
    basis="Common practice, no published source",
    together="{many} links land on pages that are not the ones that were meant.",
    samples=[
        clear(_LINK, given=opened(answered(_A, 200, page="Twelve glazes", heading="Twelve glazes, a fifth off"))),
        clear(
            _LINK, given=opened(answered(_A, 200, page="What to do when a kiln element is not found to be glowing after firing at night"))
        ),
        clear(
            _LINK,
            given=opened(
                answered(_A, 200, page="Glaze sale", heading="Twelve glazes", text="Sold out: Ember. Page not found? Write to us.")
            ),
        ),
        clear(_LINK, given=opened(answered(_A, 404, page="Page not found"))),
        clear(
            "<a href='https://kiln.org/'>x</a>",
            given=opened(answered("https://kiln.org/", 301, ("https://kiln.org/en/", 200), page="Kiln")),
        ),
        clear(
            "<a href='https://go.kiln.org/x7'>x</a>",
            given=opened(answered("https://go.kiln.org/x7", 302, ("https://www.kiln.org/", 200), page="Kiln")),
        ),
        clear(
            "<a href='https://kiln.org/en/'>x</a>",
            given=opened(answered("https://kiln.org/en/", 301, ("https://kiln.org/", 200), page="Kiln")),
        ),
        finds(_LINK, at=_A, given=opened(answered(_A, 200, page="Page not found | Kiln", heading="Oh dear"))),
        finds(_LINK, at=_A, given=opened(answered(_A, 200, content_type="text/html", format="PNG"))),
        clear(_LINK, given=opened(answered(_A, 200, content_type="image/png", format="PNG"))),
        finds(_LINK, at=_A, given=opened(answered(_A, 200, page="Glaze sale · Kiln", heading="This offer has expired"))),
        finds(_LINK, at=_A, given=opened(answered(_A, 302, ("https://www.kiln.org/", 200), page="Kiln"))),
        finds(_LINK, at=_A, given=opened(answered(_A, 302, ("https://kiln.org/de/index.html", 200), page="Kiln"))),
    ],
)
def find_landing_error(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No page says by its title or main heading that it is not there, or is a picture; no deep link ends at the home page of its own host."""

    def hit(target: Target, answer: Answer) -> Hit | None:
        if not answer.is_opened or answer.status != 200:
            return None
        if answer.format and answer.content_type in ("text/html", "application/xhtml+xml"):
            return told(message, target, answer, "{address} sends a picture ({format}) as if it were a page.", format=answer.format)
        if answer.page is None:
            return None
        for words in (answer.page.heading, answer.page.title):
            if _says_not_there(words):
                return told(message, target, answer, "{address} is there, but says “{words}”.", words=words[:120])
        if _ends_at_home(answer):
            return told(message, target, answer, "{address} ends at the home page {final}.")
        return None

    return each(message, context, hit)


def _says_not_there(words: str) -> bool:
    for part in (words, *_PARTS.split(words)):
        found = phrase_pattern("phrases", "not_there").search(part)
        if found is not None and len(part.split()) - len(found[0].split()) <= _MOST_OTHER_WORDS:
            return True
    return False


def _ends_at_home(answer: Answer) -> bool:
    """A deep address of the very host that it was led to the home page of; a counting address of another host may mean the home page."""
    end = parsed(answer.final)
    if end is None or not answer.redirects or not _HOME.match(end.path) or end.query:
        return False
    ways = [address for hop in answer.redirects if (address := parsed(hop.address)) is not None]
    return any(_is_deep(way) and _bare(way) == _bare(end) for way in ways)


def _is_deep(address: Address) -> bool:
    return not _HOME.match(address.path)


def _bare(address: Address) -> str:
    return address.host.removeprefix("www.")


@dataclass(frozen=True)
class PromiseOptions(Options):
    """The options that a house may set."""

    least_words: Annotated[
        int, About("a page with fewer words is one that a program fills in later, and says nothing about its promise", unit="words")
    ] = 25


_WORDS = (
    "Tidepool and Ember, Shelf and Quay, glazes of the spring, for oxidation and reduction, by the litre at the works on the quay, " * 3
)
_CARD = "<table><tr><td><p>Tidepool, £16 a litre until 14 March with code KILN20</p><a href='{}'>See the glazes</a></td></tr></table>"
_COURSE = "<p><a href='{}'>Book “Throwing off the hump” now</a></p>"


@check(
    id="links.promise-missing",
    name="Promise that the page does not keep",
    level=Level.NOTE,
    why="The reader comes for the price, the date, the code or the name in the message and does not find it.",
    fix="See which of the two is right, and have the other mended.",
    basis="Common practice, no published source",
    options=PromiseOptions,
    samples=[
        clear(_CARD.format(_A), given=opened(answered(_A, 200, text=f"{_WORDS} £16.00 until Sunday 14 March, code KILN20"))),
        clear(_CARD.format(_A), given=opened(answered(_A, 200, text="Loading"))),
        clear(_CARD.format(_A), given=opened(answered(_A, 404, text=_WORDS))),
        clear(f"<p>£5</p><p>Glazes</p><p>{_LINK}</p>", given=opened(answered(_A, 200, text=_WORDS))),
        clear(f"<p>£16 a litre, see our <a href='{_A}'>privacy policy</a></p>", given=opened(answered(_A, 200, text=_WORDS))),
        finds(_CARD.format(_A), at=_A, given=opened(answered(_A, 200, text=f"{_WORDS} £18.00 until Sunday 14 March, code KILN20"))),
        finds(_CARD.format(_A), at=_A, given=opened(answered(_A, 200, text=f"{_WORDS} £16 until 14 March"))),
        clear(_COURSE.format(_A), given=opened(answered(_A, 200, text=f"{_WORDS} THROWING OFF-THE-HUMP, two days"))),
        clear(_COURSE.format(_A), given=opened(answered(_A, 200, page="Throwing off the Hump | Kiln", text=_WORDS))),
        clear(f"<p>“Throwing off the hump”</p>{_LINK}", given=opened(answered(_A, 200, text=_WORDS))),
        clear(f"<a href='{_A}'>“What a fine weekend that was!” says Bo</a>", given=opened(answered(_A, 200, text=_WORDS))),
        clear(f"<a href='{_A}'>Read “[course_title]” here</a>", given=opened(answered(_A, 200, text=_WORDS))),
        clear(f"<a href='{_A}'>A bowl of 6\" or 8\"</a>", given=opened(answered(_A, 200, text=_WORDS))),
        finds(_COURSE.format(_A), at=_A, given=opened(answered(_A, 200, text=f"{_WORDS} Throwing from the hump"))),
    ],
)
def find_promise(message: Message, context: Context, options: PromiseOptions) -> Iterator[Hit]:
    """Prices, dates and codes in the words around a link stand on its page, and so do names that the link itself puts in quotation marks."""
    languages = languages_of(message)

    def hit(target: Target, answer: Answer) -> Hit | None:
        page = answer.page
        if not answer.is_opened or answer.status != 200 or page is None or target.role != "action":
            return None
        if len(page.text.split()) < options.least_words:
            return None
        lacking = [fact.words for fact in not_kept(page, promised(message, target, languages), languages)]
        lacking += [f"“{name}”" for name in names_promised(message, target) if not _names(page, name)]
        if not lacking:
            return None
        words = ", ".join(dict.fromkeys(lacking))
        return told(message, target, answer, "The page of {address} does not say {words}.", words=words)

    return each(message, context, hit)


def promised(message: Message, target: Target, languages: Sequence[str]) -> list[Stated]:
    """Prices, dates and codes that the words around a link state: in the largest box around it that has no other link and is an offer's size."""
    element = next((found.link.element for found in target.found if found.link.element is not None), None)
    if element is None:
        return []
    facts = stated(offer_words(message, element), languages)
    return [fact for fact in facts if fact.kind in ("price", "date", "code") and not message.holds_field(fact.words)]


_QUOTED = re.compile(r"[“„«‹]\s*([^“”„«»‹›\"]{3,80}?)\s*[”“»›]|(?<![\w\"])\"(?=\w)([^“”„«»\"]{3,80}?)\"(?!\w)")
#: Words of a name; a longer quotation is a sentence that somebody said.
_MOST_OF_A_NAME = 8


def names_promised(message: Message, target: Target) -> list[str]:
    """Names that the words of a link put in quotation marks, as of a course; sentences that are quoted are none."""
    found: dict[str, None] = {}
    for link in target.found:
        if link.where not in ("header", "text"):
            found.update((match[1] or match[2], None) for match in _QUOTED.finditer(link.name))
    return [
        name
        for name in found
        if name[0].isalnum()
        and not name[0].islower()
        and name[-1] not in ".!?…,"
        and len(name.split()) <= _MOST_OF_A_NAME
        and not message.holds_field(name)
    ]


def _names(page: Page, name: str) -> bool:
    """Whether a page has a name, whatever its capitals, hyphens and signs."""
    return any(f" {_plain_words(name)} " in f" {_plain_words(text)} " for text in (page.text, page.title, page.heading))


def _plain_words(text: str) -> str:
    return " ".join(re.findall(r"\w+", text.casefold()))


def not_kept(page: Page, facts: Sequence[Stated], languages: Sequence[str]) -> list[Stated]:
    """The promises that a page does not keep, in these words or in its own way of writing them."""
    text = page.text.lower()
    lacking = [fact for fact in facts if not re.search(rf"(?<!\w){re.escape(tidy(fact.words.lower()))}(?!\w|[.,]\d)", text)]
    if not lacking:
        return []
    own = page.language.partition("-")[0].lower()
    said = stated(page.text, tuple(dict.fromkeys((*languages, *([own] if own else [])))))
    codes = {fact.value.lower() for fact in lacking if fact.kind == "code"} & set(re.findall(r"[\w-]+", text))
    return [fact for fact in lacking if fact.value.lower() not in codes and not any(fact.agrees(other) for other in said)]


@dataclass(frozen=True)
class NarrowOptions(Options):
    """The options that a house may set."""

    smallest_px: Annotated[float, About("the smallest type that passes", unit="px")] = 12
    small_share: Annotated[float, About("the share of small copy from which it is told", most=1)] = 0.2


@check(
    id="links.page-narrow",
    name="Page that a phone cannot show",
    level=Level.NOTE,
    why="Half of all readers open the page on a phone, and have to move it sideways or enlarge it to read.",
    fix="Have the page laid out for phones, or link to one that is.",
    basis="Common practice, no published source",
    options=NarrowOptions,
    together="{many} links lead to pages that do not fit a phone.",
    samples=[
        clear(_LINK, given=opened(answered(_A, 200, landed=landed(390, 390, 15)))),
        clear(_LINK, given=opened(answered(_A, 200, landed=landed(390, 395, 15)))),
        clear(_LINK, given=opened(answered(_A, 200, landed=landed(390, 390, 9, 0.02)))),
        clear(_LINK, given=opened(answered(_A, 404, landed=landed(390, 1200, 9)))),
        clear(_LINK, given=opened(answered(_A, 200))),
        finds(_LINK, at=_A, given=opened(answered(_A, 200, landed=landed(390, 1180, 16)))),
        finds(_LINK, at=_A, given=opened(answered(_A, 200, landed=landed(390, 390, 9)))),
    ],
)
def find_narrow(message: Message, context: Context, options: NarrowOptions) -> Iterator[Hit]:
    """At phone width a page does not go sideways, and its copy is not smaller than 12 px."""
    seen = False

    def hit(target: Target, answer: Answer) -> Hit | None:
        nonlocal seen
        page = answer.landed
        if page is None or answer.status != 200:
            return None
        seen = True
        if page.content_width > page.width * 1.03:
            return told(
                message,
                target,
                answer,
                "The page of {address} is {content} px wide on a phone of {width} px.",
                content=page.content_width,
                width=page.width,
            )
        if page.smallest_text < options.smallest_px and page.small_share >= options.small_share:
            size, share = f"{page.smallest_text:g}", round(page.small_share * 100)
            return told(
                message,
                target,
                answer,
                "{share} % of the copy on the page of {address} is smaller than {least} px.",
                size=size,
                share=share,
                least=options.smallest_px,
            )
        return None

    yield from each(message, context, hit)
    if not seen:
        raise CannotTell("no page was laid out at phone width")
