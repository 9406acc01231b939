"""The word model: which words of subject and copy were met more in wanted mail, and which in unwanted.

Trained by ``python -m calibration`` on open labelled mail of 2002 (docs/spam-calibration.md has source, licence and figures). What ships is a table of
words with one number each and no text of anybody. Words that everybody needs (“the”, “you”, “please”), addresses, names of hosts and what
rulebooks demand are left out of it.
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from importlib import resources

from jetwind.core.checking import Context, Place, clear, finds
from jetwind.core.checking.copy import subjects
from jetwind.core.message import Message, Shared
from jetwind.core.prose.language import detected
from jetwind.core.spam.copy import spoken
from jetwind.core.spam.declaring import Evidence, reason
from jetwind.core.spam.phrases import need_language

_WORDS: Shared[set[str]] = Shared("spam words")

_WORD = re.compile(r"[^\W\d_]{3,20}")
_ADDRESS = re.compile(r"(?<!\S)\S*(?:@|://|www\.)\S*", re.IGNORECASE)
#: What stands before a subject and says nothing: marks of replies, names of lists in brackets.
_PREFIX = re.compile(r"^(?:\s*(?:re|fw|fwd|aw|wg)\s*:|\s*\[[^\]]{1,40}\])+", re.IGNORECASE)
#: Words that are looked at; a long newsletter has about 3,000.
_MOST = 20_000
#: What the weights of all words together must outweigh before the model says much: a text of few known words says little.
_DOUBT = 4.0
#: Points that words alone may add or take: by themselves they bring no message out of the low band, and they excuse no other reason for good.
LEAST, MOST = -2.0, 2.5


@dataclass(frozen=True, slots=True)
class WordModel:
    """Words with their weights, and ``points``, which one unit of the whole is worth in the sum."""

    weights: dict[str, float]
    points: float

    def pull(self, words: Iterable[str]) -> float:
        """How the words pull, from about -8 (wanted) to about 8 (unwanted).

        A word that pulls left never raises it, one that pulls right never lowers it, an unknown one changes nothing.
        """
        known = [self.weights[word] for word in words if word in self.weights]
        # An exact sum: words come in any order, and an order must not show in the last digit.
        right, left = math.fsum(weight for weight in known if weight > 0), -math.fsum(weight for weight in known if weight < 0)
        return (right - left) / math.sqrt(right + left + _DOUBT)

    def strongest(self, words: Iterable[str], most: int = 24) -> list[tuple[str, float]]:
        """The words that pull hardest, with their weights, heaviest first."""
        known = [(word, self.weights[word]) for word in words if word in self.weights]
        return sorted(known, key=lambda pair: (-abs(pair[1]), pair[0]))[:most]


@lru_cache(maxsize=1)
def word_model() -> WordModel:
    """The model that ships."""
    read = json.loads(resources.files("jetwind.core.facts").joinpath("spam_words.json").read_text("utf-8"))
    return WordModel({word: tenths / 10 for word, tenths in read["words"].items()}, read["points"])


def words_of(message: Message) -> frozenset[str]:
    """The words of subject and copy, in small letters; each counts once, however often it stands there.

    None of a message in another language than the one that the model was trained on: there the same letters are other words.
    """
    return frozenset(message.shared(_WORDS, lambda: _words(message)))


def _words(message: Message) -> set[str]:
    found: set[str] = set()
    # Of a short copy nobody can tell the language; it pulls little.
    if detected(message) not in (None, "en"):
        return found
    left = _MOST
    subject = next(subjects(message), None)
    texts = [_PREFIX.sub("", subject.text)] if subject is not None else []
    for text in (*texts, *(copy.text for copy in spoken(message))):
        for match in _WORD.finditer(_ADDRESS.sub(" ", text)):
            found.add(match[0].lower())
            left -= 1
        if left <= 0:
            break
    return found


@reason(
    id="words",
    name="Words of the copy",
    group="wording",
    weight=1.0,
    why="Some words were met far more often in mail that people did not want, others in mail that they did.",
    fix="Look at the words that push right, and say it with others.",
    effort=3,
    samples=[
        clear("From: a@kiln.org\nSubject: {{ subject }}\n\n{{ content }}\n"),
        clear(
            "From: a@kiln.org\nSubject: x\n\nLos cursos son para todos los que quieren ver el horno, y el que no puede venir este mes lo tiene en la red; no hay más que ver en el taller free. También en la playa, si hace sol, y con los amigos de la casa que son más.\n"
        ),
        finds(
            "From: a@kiln.org\nSubject: x\n\nThe free offer guarantees you money, credit and a business opportunity: click and order our program.\n"
        ),
    ],
)
def words(message: Message, context: Context) -> Evidence | None:
    """The pull of all known words together; left or right; not told of a message that is not English."""
    need_language(message, ("en",))
    model = word_model()
    here = words_of(message)
    points = min(max(model.points * model.pull(here), LEAST), MOST)
    if abs(points) < 0.05:
        return None
    strongest = model.strongest(here)
    leading = [word for word, weight in strongest if (weight > 0) == (points > 0)][:6]
    return Evidence(", ".join(f"“{word}”" for word in leading), Place("message"), times=points, words=tuple(strongest))
