"""Reasons in the copy."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

from jetwind.core.checking import Context, Place, clear, finds
from jetwind.core.checking.copy import Copy
from jetwind.core.message import Message
from jetwind.core.spam.copy import spoken
from jetwind.core.spam.declaring import Evidence, reason
from jetwind.core.spam.phrases import disguised, languages_of, need_language, told_in

_HEAD = "From: Kiln Works <hello@kiln.org>\nSubject: Twelve glazes\n\n"
_CLEAN = clear(
    f"{_HEAD}Hello Maeve, the big kiln is fired on Monday. Free testers with every order until Sunday; order today, and save a fifth!\n"
)


def _phrases(message: Message, key: str, *, most: float = 2.5, each: float = 0.5) -> Evidence | None:
    """Every turn of phrase under ``key`` in the copy, at the place of the first; each more adds ``each`` of the weight."""
    found: list[str] = []
    place: Place | None = None
    copies = list(spoken(message))
    for number, match in told_in(key, [copy.text for copy in copies]):
        phrase = " ".join(match[0].lower().split())
        if phrase not in found:
            found.append(phrase)
        if place is None:
            place = copies[number].place(match.start(), match.end())
    if place is None:
        need_language(message, languages_of(key))
        return None
    said = ", ".join(f"“{phrase}”" for phrase in found[:6]) + (f" and {len(found) - 6} more" if len(found) > 6 else "")
    return Evidence(said, place, times=min(1 + each * (len(found) - 1), most))


@dataclass(frozen=True, slots=True)
class _Turns:
    """A reason that only looks for turns of phrase: those under ``key``. ``looks_for`` names some, ``fires`` is copy with one, and the words of it.

    ``innocent`` is copy that sounds alike and says nothing of the kind; empty where the clean message says it all. The rest as in ``Reason``.
    """

    key: str
    name: str
    weight: float
    looks_for: str
    why: str
    fix: str
    fires: tuple[str, str]
    innocent: str = ""
    effort: int = 2
    by_hand: bool = False
    each: float = 0.5


_TURNS = (
    _Turns(
        "pressure",
        "Words of pressure",
        weight=0.5,
        looks_for="“Act now”, “no obligation”, “100% free” and the like.",
        why="Turns of phrase that leave no time to think are met far more often in unwanted mail.",
        fix="Say until when the offer holds, and leave the haste out.",
        fires=("Act now: a risk-free offer.\n", "Act now"),
    ),
    _Turns(
        "earning",
        "Talk of earning money",
        weight=0.9,
        looks_for="“Make money”, “work from home”, “be your own boss” and the like.",
        why="Promises of income from nothing are among the commonest of unwanted mail.",
        fix="Say what the work or the offer is, without the promise.",
        fires=("Work from home and earn extra money.\n", "Work from home"),
        innocent="Members earn a free firing with ten bowls.\n",
    ),
    _Turns(
        "loans",
        "Talk of loans and debts",
        weight=0.9,
        looks_for="“Bad credit”, “refinance”, “eliminate your debt” and the like.",
        why="Swindlers offer cheap credit to people whom they do not know.",
        fix="Say who lends, and link to the terms.",
        fires=("Bad credit? No credit check!\n", "Bad credit"),
        innocent="We give you credit for clay that you bring back.\n",
    ),
    _Turns(
        "health",
        "Talk of cures and bodies",
        weight=0.9,
        looks_for="“Lose weight”, “no prescription” and the like.",
        why="Most unwanted mail sells cures, weight loss, or goods for adults.",
        fix="Say what the goods are in sober words.",
        fires=("Lose weight, with no prescription.\n", "Lose weight"),
        innocent="The clay loses a tenth of its weight as it dries.\n",
    ),
    _Turns(
        "transfers",
        "Talk of money that waits somewhere",
        weight=1.2,
        looks_for="“Next of kin”, “transfer of funds” and the like.",
        why="The letter of the stranger with millions is the oldest of all.",
        fix="Write to customers about their own affairs alone.",
        fires=("I am the next of kin and need your bank account.\n", "next of kin"),
        innocent="Please pay by bank transfer.\n",
        effort=3,
    ),
    _Turns(
        "threats",
        "Threat to an account",
        weight=1.2,
        looks_for="“Your account has been suspended”, “verify your identity” and the like.",
        why="People who fish for passwords threaten to close an account.",
        fix="Say what happened, and let the reader go to your site by themselves.",
        fires=("Your account has been suspended. Verify your identity.\n", "account has been suspended"),
        innocent="Your account with us has twelve firings left.\n",
        by_hand=True,
    ),
    _Turns(
        "assurances",
        "Assurance that it is no spam",
        weight=0.9,
        looks_for="“This is not spam”, “in compliance with” and the like.",
        why="A sender whom the reader asked to write need not say so.",
        fix="Say why this reader gets it: where and when they signed up.",
        fires=("This is not spam. Reply with the word REMOVE to be taken off.\n", "This is not spam"),
        innocent="You get this because you signed up at our open studio.\n\nUnsubscribe: https://kiln.org/u\n",
        effort=1,
    ),
    _Turns(
        "strangers",
        "Greeting of a stranger",
        weight=0.6,
        looks_for="“Dear friend”, “Dear valued customer” and the like.",
        why="A sender who does not know the reader says “Dear friend”.",
        fix="Greet the reader by name, or not at all.",
        fires=("Dear friend, the kiln is hot.\n", "Dear friend"),
        innocent='Dear {{ first_name | default: "potter" }}, the kiln is hot.\n',
        effort=1,
        each=0.0,
    ),
)


def _declare(turns: _Turns) -> None:
    def judge(message: Message, context: Context) -> Evidence | None:
        return _phrases(message, turns.key, each=turns.each)

    judge.__doc__ = turns.looks_for
    copy, at = turns.fires
    reason(
        id=f"wording-{turns.key}",
        name=turns.name,
        group="wording",
        weight=turns.weight,
        why=turns.why,
        fix=turns.fix,
        samples=[_CLEAN, *([clear(f"{_HEAD}{turns.innocent}")] if turns.innocent else []), finds(f"{_HEAD}{copy}", at=at)],
        by_hand=turns.by_hand,
        effort=turns.effort,
    )(judge)


for _turns in _TURNS:
    _declare(_turns)


@reason(
    id="wording-marks",
    name="Many exclamation marks",
    group="wording",
    weight=0.7,
    why="Copy that shouts at every sentence is seldom wanted.",
    fix="End sentences with full stops.",
    samples=[_CLEAN, finds(f"{_HEAD}Buy! Now! Here! Today! Yes!\n")],
)
def wording_marks(message: Message, context: Context) -> Evidence | None:
    """Three and more, and more than one in 400 characters."""
    copies = list(spoken(message))
    count, characters = sum(copy.text.count("!") for copy in copies), sum(len(copy.text) for copy in copies)
    if count < 3 or count * 400 <= characters:
        return None
    first = next(copy for copy in copies if "!" in copy.text)
    at = first.text.index("!")
    return Evidence(f"{count} in {characters:,} characters", first.place(at, at + 1), times=round(min(count * 400 / characters, 1.5), 1))


@reason(
    id="wording-capitals",
    name="Copy in capitals",
    group="wording",
    weight=0.8,
    why="Whole sentences in capitals are how unwanted mail raises its voice.",
    fix="Write sentences as sentences; make what matters bold.",
    effort=2,
    samples=[
        _CLEAN,
        clear(f"{_HEAD}SPRING SALE\n\n{'Twelve glazes are mixed by hand from ash and sea sand. ' * 4}\n"),
        finds(f"{_HEAD}{'GLAZE SALE AT THE QUAY ' * 8}\n"),
    ],
)
def wording_capitals(message: Message, context: Context) -> Evidence | None:
    """More than a quarter of over a hundred letters."""
    letters = capitals = 0
    loudest: Copy | None = None
    for copy in spoken(message):
        own = "".join(filter(str.isalpha, copy.text))
        upper = sum(map(str.isupper, own))
        letters, capitals = letters + len(own), capitals + upper
        if loudest is None and len(own) >= 8 and upper * 2 > len(own):
            loudest = copy
    if letters <= 100 or capitals * 4 <= letters or loudest is None:
        return None
    return Evidence(
        f"{capitals * 100 // letters} % of the letters", loudest.place(0, len(loudest.text)), times=1.5 if capitals * 2 > letters else 1.0
    )


@reason(
    id="wording-disguised",
    name="Disguised words",
    group="wording",
    weight=1.8,
    by_hand=True,
    why="Who parts or swaps letters hides words from filters.",
    fix="Write the words as they are spelt.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}S P R I N G  S A L E, from B12 to K2, w1 and 3D.\n"),
        finds(f"{_HEAD}Get F.R.E.E m0ney today.\n", at="F.R.E.E"),
    ],
)
def wording_disguised(message: Message, context: Context) -> Evidence | None:
    """Words with something between all letters, or with figures and signs in the place of letters."""
    found = [(copy, word) for copy in spoken(message) for word in disguised(copy.text)]
    if not found:
        return None
    copy, word = found[0]
    start = copy.text.index(word)
    said = ", ".join(f"“{word}”" for _, word in found[:5])
    return Evidence(said, copy.place(start, start + len(word)), times=min(0.75 + 0.25 * len(found), 1.5))


_INSIDE_WORD = re.compile(r"[^\W\d_]{2}(?:[\u200b\u2060\ufeff\u180e]|\u00ad\u00ad)[^\W\d_]{2}")
_TWO_SCRIPTS = re.compile(
    r"(?<!\w)(?=\w{0,30}[A-Za-z])(?=\w{0,30}[\u0430\u0435\u043e\u0440\u0441\u0443\u0445\u0456\u0391-\u03a9])[A-Za-z\u0400-\u04ff\u0391-\u03c9]{4,30}(?!\w)"
)


@reason(
    id="wording-invisible",
    name="Invisible or borrowed letters inside words",
    group="wording",
    weight=1.6,
    by_hand=True,
    why="They look like the word and are none, so that filters do not find it.",
    fix="Type the words anew.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}Глазурь and Kiln, side by side. Donau\u00addampf\u00adschiff.\n"),
        clear("<p>Hello</p><div style='display:none'>&#8203;&nbsp;&#8203;&nbsp;</div>"),
        finds(f"{_HEAD}Your p\u0430yment and your \u0430ccount.\n"),
        finds(f"{_HEAD}Free pay\u200bment.\n"),
    ],
)
def wording_invisible(message: Message, context: Context) -> Evidence | None:
    """Zero-width characters between letters, or letters of two scripts in one word."""
    for copy in spoken(message):
        if copy.written.isascii():
            continue
        for pattern, what in ((_INSIDE_WORD, "an invisible character in"), (_TWO_SCRIPTS, "letters of two scripts in")):
            if match := pattern.search(copy.written):
                return Evidence(f"{what} “{match[0]}”", copy.place(match.start(), match.end()))
    source = message.html.text if message.html is not None else ""
    if message.document is not None and (hidden := _INSIDE_WORD.search(source)) is not None:
        from jetwind.core.source import Span

        return Evidence("an invisible character inside a word", Place.in_html(message, Span(hidden.start(), hidden.end())))
    return None


_VOWELS = re.compile(r"[aeiouyäöüàâéèêëíîïóôúûåæøœ]", re.IGNORECASE)
_LETTERS = re.compile(r"(?<![\w@./:=&?%-])[a-z]{7,30}(?![\w@./:=&?%-])")


@reason(
    id="wording-nonsense",
    name="Words without sense",
    group="wording",
    weight=1.2,
    by_hand=True,
    why="Letters drawn by lot make each copy differ, so that filters do not know it again.",
    fix="Take them away.",
    samples=[
        _CLEAN,
        clear(f"{_HEAD}The rhythms of strengths.\n"),
        finds(f"{_HEAD}The kiln is hot. xkqjwvbz pqrtsdfg wqzzkjhh\n", at="xkqjwvbz"),
    ],
)
def wording_nonsense(message: Message, context: Context) -> Evidence | None:
    """Three words of seven and more letters, none of which is a vowel, or one in ten of them."""
    found = [(copy, match) for copy in spoken(message) for match in _senseless(copy.text)]
    if len(found) < 3:
        return None
    copy, match = found[0]
    return Evidence(", ".join(f"“{match[0]}”" for _, match in found[:4]), copy.place(match.start(), match.end()))


def _senseless(text: str) -> Iterator[re.Match[str]]:
    if not text.isascii():
        return
    for match in _LETTERS.finditer(text):
        if len(_VOWELS.findall(match[0])) * 10 <= len(match[0]):
            yield match
