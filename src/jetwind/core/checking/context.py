"""The knowledge of a review besides the message."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import TYPE_CHECKING

from jetwind.core.checking.brief import Brief
from jetwind.core.checking.circumstance import Circumstance
from jetwind.core.checking.rulebooks import Rulebook
from jetwind.core.facts.spelling import Dictionaries
from jetwind.core.message import Message, Sample

if TYPE_CHECKING:
    from jetwind.core.arrivals.differences import Arrivals
    from jetwind.core.images.words import PictureWords
    from jetwind.core.links.answers import Answers
    from jetwind.core.papers import Papers
    from jetwind.core.renders import Renders


class Kind(StrEnum):
    """The purpose of a message."""

    PROMOTIONAL = "promotional"
    NEWSLETTER = "newsletter"
    TRANSACTIONAL = "transactional"

    @property
    def is_bulk(self) -> bool:
        """Whether it goes to an audience rather than to one person about their own affair."""
        return self is not Kind.TRANSACTIONAL


class _AsShipped(dict[str, Mapping[str, object]]):
    """The settings of checks that nobody set. It is never changed, and data classes take as a default what can be hashed."""

    __hash__ = object.__hash__  # type: ignore[assignment]


#: Before a language's code: the circumstance which dictionary of that language is at hand.
WORDS_OF = "dictionaries:"


@dataclass(frozen=True, slots=True)
class _WatchedDictionaries:
    """Dictionaries that note which languages are asked for: a dictionary that is added changes no answer about another language."""

    watched: Dictionaries
    used: set[str] = dataclasses.field(compare=False)

    @property
    def key(self) -> str:
        """The key of the dictionaries."""
        return self.watched.key

    def names(self, language: str) -> tuple[str, ...]:
        """The dictionaries of a language."""
        self.used.add(f"{WORDS_OF}{language}")
        return self.watched.names(language)

    def has(self, name: str, word: str) -> bool:
        """Whether a dictionary has a word."""
        return self.watched.has(name, word)


def _watched(dictionaries: Dictionaries | None, used: set[str]) -> Dictionaries | None:
    return _WatchedDictionaries(dictionaries, used) if dictionaries is not None else None


@dataclass(frozen=True)
class Context:
    """The circumstances of a review. ``known_fields`` is None where no field list was given.

    ``local_time`` says that each reader gets the message at the planned hour of their own zone. ``taken_titles`` are the working
    titles of other messages. ``previous`` is the message this one was copied from. ``word_list`` holds the house's own words.
    ``dictionaries`` tell how words are spelt. ``rulebooks`` are the ids of those that apply; with none, all that ship.
    ``house`` are the rulebooks that the house wrote and that hold for this message. ``renders`` are there where the message has been rendered,
    ``answers`` where its links were opened or its pictures fetched. ``seen_by_hand`` are addresses that a person opened and found in order.
    ``asked`` are the checks that are asked along with the one that looks: a cause that several of them see is told by the first alone.
    ``picture_words`` are there where the words in its pictures were read or entered, ``papers`` where name records were asked of the sender,
    ``arrivals`` where test copies arrived and were compared.
    """

    kind: Circumstance[Kind] = Circumstance(Kind.PROMOTIONAL)
    planned: Circumstance[datetime | None] = Circumstance(None)
    now: Circumstance[datetime | None] = Circumstance(None)
    local_time: Circumstance[bool] = Circumstance(False)
    working_title: Circumstance[str] = Circumstance("")
    taken_titles: Circumstance[frozenset[str]] = Circumstance(frozenset())
    previous: Circumstance[Message | None] = Circumstance(None)
    brief: Circumstance[Brief] = Circumstance(Brief())
    word_list: Circumstance[frozenset[str]] = Circumstance(frozenset())
    dictionaries: Circumstance[Dictionaries | None] = Circumstance(None, watched=_watched)
    readers: Circumstance[tuple[Sample, ...]] = Circumstance(())
    known_fields: Circumstance[frozenset[str] | None] = Circumstance(None)
    practice_domains: Circumstance[frozenset[str]] = Circumstance(frozenset())
    rulebooks: Circumstance[frozenset[str]] = Circumstance(frozenset())
    house: Circumstance[tuple[Rulebook, ...]] = Circumstance(())
    renders: Circumstance[Renders | None] = Circumstance(None)
    answers: Circumstance[Answers | None] = Circumstance(None)
    seen_by_hand: Circumstance[frozenset[str]] = Circumstance(frozenset())
    picture_words: Circumstance[PictureWords | None] = Circumstance(None)
    papers: Circumstance[Papers | None] = Circumstance(None)
    arrivals: Circumstance[Arrivals | None] = Circumstance(None)
    asked: Circumstance[frozenset[str]] = Circumstance(frozenset())
    settings: Circumstance[Mapping[str, Mapping[str, object]]] = Circumstance(_AsShipped())

    def watched(self) -> WatchedContext:
        """The same circumstances, which note in ``used`` at which of them somebody looks."""
        made = object.__new__(WatchedContext)
        made.__dict__.update(self.__dict__, used=set())
        return made

    def key_of(self, name: str) -> str | None:
        """The key of a circumstance that has one, without reading it; None where there is no such thing."""
        given = self.__dict__[name]
        return given.key if given is not None else None


class WatchedContext(Context):
    """A context that notes which circumstances a check looks at, so that the check's answer is kept while those stay."""

    used: set[str]
