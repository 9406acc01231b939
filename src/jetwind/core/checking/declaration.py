"""A check is declared once, beside the code that finds. Settings, documentation, command line and tests read this."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TypeVar, cast

from jetwind.core.checking.context import Context
from jetwind.core.checking.finding import Hit, Level
from jetwind.core.checking.samples import CheckSample
from jetwind.core.errors import JetwindError
from jetwind.core.message import Message


@dataclass(frozen=True)
class Options:
    """Thresholds of a check. A subclass has a field for each, with a default; its annotation says what it is (``options.About``)."""


#: What finds: each asks for the class of options that its declaration names, and gets them.
Find = Callable[[Message, Context, Options], Iterator[Hit]]

NAME_LIMIT = 50
MESSAGE_LIMIT = 110


class DeclarationError(JetwindError):
    """Something is declared wrongly; raised at import, so that it is never noticed later."""


@dataclass(frozen=True)
class Declared:
    """The common part of checks and reasons of spam risk: what each is called, why it matters, how it is mended, and what it fires on."""

    id: str
    name: str
    why: str
    fix: str
    samples: tuple[CheckSample, ...]


_Kind = TypeVar("_Kind", bound=Declared)


def register(known: dict[str, _Kind], one: _Kind) -> None:
    """Add a declaration to those that are known.

    Raises:
        DeclarationError: the id is taken, the name is too long or a sentence, or the samples are one-sided.
    """
    if one.id in known:
        raise DeclarationError(f"{one.id} is declared twice")
    if len(one.name) > NAME_LIMIT or one.name.endswith("."):
        raise DeclarationError(f"{one.id}: a name has at most {NAME_LIMIT} characters and no full stop")
    if {sample.fires for sample in one.samples} != {True, False}:
        raise DeclarationError(f"{one.id} needs a sample that fires and one that does not")
    known[one.id] = one


_declared: dict[str, Check] = {}


@dataclass(frozen=True, kw_only=True)
class Check(Declared):
    """Everything there is to know about one check.

    ``merged``: it is asked of the copies that sample readers get, too. ``together``: for each cause whose faults are told as one finding,
    the sentence that tells two faults or more; ``{many}`` in it is the number of places.
    """

    level: Level
    basis: str
    find: Find
    options: type[Options]
    module: str
    merged: bool = False
    together: Mapping[str, str] = field(default_factory=dict)

    @property
    def rule(self) -> str:
        """The rule it keeps: the first line of the finding function's docstring."""
        return (self.find.__doc__ or "").strip().splitlines()[0]


def check(
    *,
    id: str,
    name: str,
    level: Level,
    why: str,
    fix: str,
    basis: str,
    samples: Sequence[CheckSample],
    options: type[Options] = Options,
    merged: bool = False,
    together: str | Mapping[str, str] = "",
) -> Callable[[Callable[..., Iterator[Hit]]], Callable[..., Iterator[Hit]]]:
    """Declare the decorated function as a check.

    Raises:
        DeclarationError: the id is taken or does not fit its folder, the name is too long, samples are one-sided, or a sentence for several
            faults does not say how many.
    """

    def declare(find: Callable[..., Iterator[Hit]]) -> Callable[..., Iterator[Hit]]:
        group = id.split(".", 1)[0]
        path = find.__module__.split(".")
        if group not in path:
            raise DeclarationError(f"{id} is declared in {find.__module__}; its place is core/checks/{group}/")
        if not find.__doc__:
            raise DeclarationError(f"{id}: the docstring's first line states the rule")
        causes = {"": together} if isinstance(together, str) and together else dict(together or {})
        if any("{many}" not in sentence for sentence in causes.values()):
            raise DeclarationError(f"{id}: a sentence for several faults says how {{many}} places there are")
        own = Check(
            id,
            name,
            why,
            fix,
            samples=tuple(samples),
            level=level,
            basis=basis,
            find=cast(Find, find),
            options=options,
            module=find.__module__,
            merged=merged,
            together=causes,
        )
        register(_declared, own)
        return find

    return declare


def declared() -> dict[str, Check]:
    """All checks whose modules have been imported, by id."""
    return _declared
