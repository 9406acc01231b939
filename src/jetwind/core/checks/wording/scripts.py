"""Letters of a word belong to one script."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator

from jetwind.core.checking import Context, Finding, Hit, Level, Options, check, clear, finds
from jetwind.core.checking import copy as copies
from jetwind.core.checking.mends import Change, MendKind, leaves_alone, mend, sources, turns
from jetwind.core.message import Envelope, Message

_WORD = re.compile(r"[^\W\d_]{2,60}")
#: Letters of a script that look like letters of another one (UTS #39, confusables.txt, the ones of mail; from memory).
_LIKE_CYRILLIC, _CYRILLIC_LIKE = "aceijopsxyABCEHIJKMOPSTXY", "асеіјорѕхуАВСЕНІЈКМОРЅТХУ"
_LIKE_GREEK, _GREEK_LIKE = "ovABEZHIKMNOPTYX", "ονΑΒΕΖΗΙΚΜΝΟΡΤΥΧ"


@check(
    id="wording.mixed-script",
    name="Letters of two scripts in one word",
    level=Level.FIX,
    why="The word cannot be searched or read aloud, and filters take look-alike letters for an attempt to deceive.",
    fix="Type the word anew in one script.",
    basis="Unicode UTS #39 §5 (from memory)",
    samples=[
        clear("<p>Привет, мир! Γειά σου. Come to the kiln. Τ-shirt, Т-банк</p>"),
        clear("<p>SMSки от друзей, VIPы и IT-отдел, айфон iPhone’ом</p>"),
        clear("<p>5 μm, 10 kΩ, ΔT, β-Carotin, πr, λmax</p>"),
        clear("<p>Tシャツ、IT企業、Kポップ, IT업계, Wi-Fi и Bluetooth, 3D-принтер</p>"),
        clear("<p>{{ имя }}a, o{{ name }}</p>"),
        finds("<p>Скидкa до пятницы</p>", at="Скидкa"),
        finds("<p>The kіln is hot</p>", at="kіln"),
        finds("<p>Καλημέρa vας</p>", at="vας"),
        finds("<p>x</p>", envelope=Envelope(subject="Free dеlivery", sender_address="a@b.org")),
    ],
)
def find_mixed(message: Message, context: Context, options: Options) -> Iterator[Hit]:
    """No word has a letter that only looks like one of its script."""
    told: set[str] = set()
    for copy in copies.all_copy(message):
        if copy.text.isascii():
            continue
        for match in _WORD.finditer(copy.text):
            word = match[0]
            if word.isascii() or word in told or not (strange := _strange_letters(word)):
                continue
            told.add(word)
            yield Hit(
                "“{word}” is written with {letter}.",
                copy.place(match.start(), match.end()),
                {"word": word, "letter": strange},
                identity=word,
            )


def _strange_letters(word: str) -> str:
    """The first letter of a word that is not of its script though it looks so, in words; empty where there is none."""
    latin = [char for char in word if char.isascii()]
    for name, other_like, like_other in (("CYRILLIC", _CYRILLIC_LIKE, _LIKE_CYRILLIC), ("GREEK", _GREEK_LIKE, _LIKE_GREEK)):
        other = [char for char in word if unicodedata.name(char, "").startswith(name)]
        if not other or not latin or len(other) + len(latin) < len(word):
            continue
        if len(other) < len(latin) > 1 and all(char in other_like for char in other):
            return _named(other[0])
        if len(latin) < len(other) > 1 and all(char in like_other for char in latin) and not _is_abbreviation(word):
            return _named(latin[0])
    return ""


def _is_abbreviation(word: str) -> bool:
    """Whether capitals of one script begin a word that ends in small letters of another: an abbreviation with an ending."""
    return re.fullmatch(r"[A-Z]{2,}[^\x00-\x7f]+", word) is not None and not word.isupper()


def _named(letter: str) -> str:
    return f"the letter {letter} (U+{ord(letter):04X}, {unicodedata.name(letter, 'no name').title()})"


@mend(
    "wording.mixed-script",
    kind=MendKind.CONFIRM,
    does="Letters that only look like those of the word's script become those of its script.",
    leaves="A word of a header is left to a person.",
    samples=[
        turns("<p>Скидкa до пятницы</p>", "<p>Скидка до пятницы</p>"),
        turns("<p>The kіln is hot</p>", "<p>The kiln is hot</p>"),
        leaves_alone("<p>x</p>", envelope=Envelope(subject="Free dеlivery", sender_address="a@b.org")),
    ],
)
def mend_mixed(message: Message, context: Context, finding: Finding) -> Iterator[Change]:
    """The script of the word is that of most of its letters."""
    for part, span, word in sources(message, finding):
        if part == "header":
            continue
        latin = sum(char.isascii() for char in word)
        for like, other in ((_LIKE_CYRILLIC, _CYRILLIC_LIKE), (_LIKE_GREEK, _GREEK_LIKE)):
            strange = str.maketrans(other, like) if 2 * latin > len(word) else str.maketrans(like, other)
            right = word.translate(strange)
            if right != word and not _strange_letters(right) and right.isascii() == (2 * latin > len(word)):
                yield Change(part, span, right)
                break
