"""What a review knows besides the message, and the house's own levels and thresholds."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import TYPE_CHECKING, Any, cast

from jetwind.core.checking.brief import Brief
from jetwind.core.checking.options import options_of
from jetwind.core.facts.spelling import Dictionaries
from jetwind.core.message import Message, Sample
from jetwind.core.source.plain import Unfit, read

if TYPE_CHECKING:
    from jetwind.core.checking.declaration import Check, Options
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
    ``dictionaries`` tell how words are spelt. ``rulebooks`` are the laws that apply; with none, all of them. ``renders`` are there where the message has been rendered.
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
    renders: Renders | None = None
    settings: Mapping[str, Mapping[str, Any]] = dataclasses.field(default_factory=dict)


class WatchedContext:
    """A context that notes which circumstances a check looks at, so that its answer is kept while those stay."""

    def __init__(self, context: Context) -> None:
        self.__dict__["used"] = set()
        self.__dict__["watched"] = context

    def __getattr__(self, name: str) -> Any:
        self.__dict__["used"].add(name)
        return getattr(self.__dict__["watched"], name)

    def as_context(self) -> Context:
        """Itself, in the place of the context."""
        return cast(Context, self)


class UnusableSetting(ValueError):
    """A level or threshold that a check cannot use; the text names the check, the setting and the remedy."""


def check_settings(declared: Check, settings: Mapping[str, Mapping[str, Any]]) -> tuple[str, Options]:
    """The level and the options of a check under the house's settings: ``{check id: {"level": …, option: value}}``.

    Raises:
        UnusableSetting: an unknown option, a level that is none, or a value of the wrong type.
    """
    own = dict(settings.get(declared.id, {}))
    level = own.pop("level", declared.level.value)
    if level not in ("stop", "fix", "note", "off"):
        raise UnusableSetting(f"{declared.id}: level is stop, fix, note or off, not {level!r}.")
    defaults = declared.options()
    known = {option.name: getattr(defaults, option.name) for option in dataclasses.fields(defaults)}
    for name in own:
        if name not in known:
            raise UnusableSetting(f"{declared.id} has no option {name!r}; it has {', '.join(known) or 'none'}.")
    if not own:
        return level, defaults
    try:
        options = read({**known, **own}, type(defaults))
    except Unfit as unfit:
        raise UnusableSetting(f"{declared.id}: {unfit}.") from unfit
    for option in options_of(type(defaults)):
        if option.name in own and not option.takes(own[option.name]):
            raise UnusableSetting(f"{declared.id}: {option.name} is {option.range}, not {own[option.name]!r}.")
    return level, options
