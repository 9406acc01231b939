"""What a review knows besides the message."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import TYPE_CHECKING, Any, cast

from jetwind.core.checking.brief import Brief
from jetwind.core.checking.rulebooks import Rulebook
from jetwind.core.facts.spelling import Dictionaries
from jetwind.core.message import Message, Sample

if TYPE_CHECKING:
    from jetwind.core.images.words import PictureWords
    from jetwind.core.links.answers import Answers
    from jetwind.core.papers import Papers
    from jetwind.core.renders import Renders


class Kind(StrEnum):
    """What a message is for."""

    PROMOTIONAL = "promotional"
    NEWSLETTER = "newsletter"
    TRANSACTIONAL = "transactional"

    @property
    def is_bulk(self) -> bool:
        """Whether it goes to an audience rather than to one person about their own affair."""
        return self is not Kind.TRANSACTIONAL


@dataclass(frozen=True, slots=True)
class Context:
    """The circumstances of a review. ``known_fields`` is None where no field list was given.

    ``local_time`` says that each reader gets the message at the planned hour of their own zone. ``taken_titles`` are the working
    titles of other messages. ``previous`` is the message this one was copied from. ``word_list`` holds the house's own words.
    ``dictionaries`` tell how words are spelt. ``rulebooks`` are the ids of those that apply; with none, all that ship.
    ``house`` are the rulebooks that the house wrote and that hold for this message. ``renders`` are there where the message has been rendered,
    ``answers`` where its links were opened or its pictures fetched. ``seen_by_hand`` are addresses that a person opened and found in order.
    ``asked`` are the checks that are asked along with the one that looks: a cause that several of them see is told by the first alone.
    ``picture_words`` are there where the words in its pictures were read or entered, ``papers`` where name records were asked of the sender.
    """

    kind: Kind = Kind.PROMOTIONAL
    planned: datetime | None = None
    now: datetime | None = None
    local_time: bool = False
    working_title: str = ""
    taken_titles: frozenset[str] = frozenset()
    previous: Message | None = None
    brief: Brief = dataclasses.field(default_factory=Brief)
    word_list: frozenset[str] = frozenset()
    dictionaries: Dictionaries | None = None
    readers: tuple[Sample, ...] = ()
    known_fields: frozenset[str] | None = None
    practice_domains: frozenset[str] = frozenset()
    rulebooks: frozenset[str] = frozenset()
    house: tuple[Rulebook, ...] = ()
    renders: Renders | None = None
    answers: Answers | None = None
    seen_by_hand: frozenset[str] = frozenset()
    picture_words: PictureWords | None = None
    papers: Papers | None = None
    asked: frozenset[str] = frozenset()
    settings: Mapping[str, Mapping[str, Any]] = dataclasses.field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class _WatchedDictionaries:
    """Dictionaries that note which languages are asked for: a dictionary that is added changes no answer about another language."""

    watched: Dictionaries
    used: set[str] = dataclasses.field(compare=False)

    @property
    def key(self) -> str:
        """That of the dictionaries."""
        return self.watched.key

    def names(self, language: str) -> tuple[str, ...]:
        """The dictionaries of a language."""
        self.used.add(f"{WORDS_OF}{language}")
        return self.watched.names(language)

    def has(self, name: str, word: str) -> bool:
        """Whether a dictionary has a word."""
        return self.watched.has(name, word)


#: Before a language's code: the circumstance which dictionary of that language is at hand.
WORDS_OF = "dictionaries:"


class WatchedContext:
    """A context that notes which circumstances a check looks at, so that its answer is kept while those stay."""

    def __init__(self, context: Context) -> None:
        self.__dict__["used"] = set()
        self.__dict__["watched"] = context

    def __getattr__(self, name: str) -> Any:
        value = getattr(self.__dict__["watched"], name)
        if name == "dictionaries" and value is not None:
            return _WatchedDictionaries(value, self.__dict__["used"])
        self.__dict__["used"].add(name)
        return value

    def as_context(self) -> Context:
        """Itself, in the place of the context."""
        return cast(Context, self)
