"""A check is declared once, beside the code that finds. Settings, documentation, command line and tests read this."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, cast

from jetwind.core.checking.context import Context
from jetwind.core.checking.finding import Hit, Level
from jetwind.core.checking.samples import CheckSample
from jetwind.core.errors import JetwindError
from jetwind.core.message import Message


@dataclass(frozen=True)
class Options:
    """Thresholds of a check. Subclass it with defaults; a field's docstring is its comment."""


Find = Callable[[Message, Context, Any], Iterator[Hit]]

NAME_LIMIT = 50
MESSAGE_LIMIT = 110

_declared: dict[str, Check] = {}


@dataclass(frozen=True)
class Check:
    """Everything there is to know about one check.

    ``merged``: it is asked of the copies that sample readers get, too. ``together``: for each cause whose faults are told as one finding,
    the sentence that tells two faults or more; ``{many}`` in it is the number of places.
    """

    id: str
    name: str
    level: Level
    why: str
    fix: str
    basis: str
    samples: tuple[CheckSample, ...]
    find: Find
    options: type[Options]
    module: str
    merged: bool = False
    together: Mapping[str, str] = field(default_factory=dict)

    @property
    def rule(self) -> str:
        """The rule it keeps: the first line of the finding function's docstring."""
        return (self.find.__doc__ or "").strip().splitlines()[0]


class DeclarationError(JetwindError):
    """A check is declared wrongly; raised at import, so that it is never noticed later."""


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
        if id in _declared:
            raise DeclarationError(f"{id} is declared twice: in {_declared[id].module} and {find.__module__}")
        if group not in path:
            raise DeclarationError(f"{id} is declared in {find.__module__}; its place is core/checks/{group}/")
        if len(name) > NAME_LIMIT or name.endswith("."):
            raise DeclarationError(f"{id}: a name has at most {NAME_LIMIT} characters and no full stop")
        if not find.__doc__:
            raise DeclarationError(f"{id}: the docstring's first line states the rule")
        if {sample.fires for sample in samples} != {True, False}:
            raise DeclarationError(f"{id} needs a sample that fires and one that does not")
        causes = {"": together} if isinstance(together, str) and together else dict(together or {})
        if any("{many}" not in sentence for sentence in causes.values()):
            raise DeclarationError(f"{id}: a sentence for several faults says how {{many}} places there are")
        _declared[id] = Check(
            id,
            name,
            level=level,
            why=why,
            fix=fix,
            basis=basis,
            samples=tuple(samples),
            find=cast(Find, find),
            options=options,
            module=find.__module__,
            merged=merged,
            together=causes,
        )
        return find

    return declare


def declared() -> dict[str, Check]:
    """All checks whose modules have been imported, by id."""
    return _declared
