"""The language of a message: what it says it is, and what its words say."""

from __future__ import annotations

import re
from collections import Counter
from functools import lru_cache
from typing import TYPE_CHECKING

from jetwind.core.facts import table
from jetwind.core.facts.tables import Languages
from jetwind.core.message import Shared
from jetwind.core.prose.reading import reading_of

_LANGUAGE: Shared[str | None] = Shared("language")

if TYPE_CHECKING:
    from jetwind.core.markup import Attribute, Element
    from jetwind.core.message.model import Message

_WORD = re.compile(r"[^\W\d_]+")
#: A language subtag of BCP 47 (RFC 5646 §2.1) with whatever follows it.
_TAG = re.compile(r"([A-Za-z]{2,3})(?:-[A-Za-z0-9]{1,8})*\Z")
_FEWEST_WORDS = 40
#: Written Danish and Norwegian share nearly all function words; so do the other pairs nearly all of theirs.
_ALIKE = {"nb": "da", "nn": "da", "no": "da", "sk": "cs", "gl": "pt", "ca": "es", "af": "nl", "lb": "de"}


def declared(message: Message) -> tuple[Element, Attribute] | None:
    """The element and the attribute that give the language of the copy: that of ``html``, ``body`` or its only wrapper."""
    document = message.document
    if document is None:
        return None
    for element in (document.root, document.body, *document.body.elements()):
        if element.tag not in ("html", "body", "div", "center", "table", "tbody", "tr", "td"):
            return None
        attribute = element.attributes.get("lang") or element.attributes.get("xml:lang")
        if attribute is not None and attribute.value.strip():
            return element, attribute
    return None


#: Tags that name no language: undetermined, several, none, uncoded (BCP 47, RFC 5646 §4.1; ISO 639-2).
_NO_LANGUAGE = frozenset({"und", "mul", "zxx", "mis"})


def primary_subtag(tag: str) -> str:
    """The language of a tag such as ``en-GB``, lower case; empty for what is no tag or names no language."""
    match = _TAG.match(tag.strip())
    language = match[1].lower() if match else ""
    return "" if language in _NO_LANGUAGE else language


@lru_cache(maxsize=1)
def _languages_of() -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for language, words in table("languages", Languages)["function_words"].items():
        for word in set(words):
            found.setdefault(word, []).append(language)
    return found


def languages_with(word: str) -> frozenset[str]:
    """The languages that have a word, given in lower case, among the words of their grammar (articles, prepositions and the like)."""
    return frozenset(_languages_of().get(word, ()))


def detected(message: Message) -> str | None:
    """The language that the function words of the visible copy belong to."""
    return message.shared(_LANGUAGE, lambda: detect(reading_of(message).visible_text))


def detect(text: str, fewest: int = _FEWEST_WORDS) -> str | None:
    """The language that the function words of a text belong to, or None where they do not tell or the text has too few words."""
    words = [word.lower() for word in _WORD.findall(text)]
    if len(words) < fewest:
        return None
    counts: Counter[str] = Counter()
    for word in words:
        counts.update(_languages_of().get(word, ()))
    ranked = counts.most_common(2)
    if not ranked or ranked[0][1] < len(words) * 0.15:
        return None
    if len(ranked) > 1 and ranked[0][1] < ranked[1][1] * 1.4:
        return None
    return ranked[0][0]


#: Words with which a passage tells its own language, where the message has told it already.
_FEW_WORDS = 7


def of_passage(text: str, otherwise: str) -> str:
    """The language of a passage by its own function words; where they do not tell, that of the message."""
    return detect(text, _FEW_WORDS) or otherwise


def same(one: str, other: str) -> bool:
    """Whether two languages are one, as far as ``detect`` can tell them apart."""
    return _ALIKE.get(one, one) == _ALIKE.get(other, other)


def languages_of(message: Message) -> list[str]:
    """The languages that the copy may be in, likeliest first; English last, since dates in it stand everywhere."""
    found = []
    if (said := declared(message)) is not None:
        found.append(primary_subtag(said[1].value))
    if told := detected(message):
        found.append(told)
    return list(dict.fromkeys([*filter(None, found), "en"]))
