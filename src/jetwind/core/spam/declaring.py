"""A reason of spam risk is declared once, beside the code that judges. Sum, station, documentation and tests read this."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from jetwind.core.checking import CannotTell, Context, DoesNotApply, Place, registry
from jetwind.core.checking.declaration import DeclarationError, Declared, register
from jetwind.core.checking.samples import CheckSample
from jetwind.core.checking.settings import check_settings
from jetwind.core.message import Message

#: What a reason looks at, in the order in which they are listed.
GROUPS = ("subject", "sender", "wording", "pictures", "markup", "links", "structure", "missing parts", "authentication")


@dataclass(frozen=True, slots=True)
class Evidence:
    """The evidence in the message for a reason, and where it stands; ``times`` multiplies the reason's weight."""

    said: str
    place: Place
    times: float = 1.0
    #: Words that pulled, with the points of each; of the word model alone.
    words: tuple[tuple[str, float], ...] = ()


#: None where the reason does not apply.
Judge = Callable[[Message, Context], Evidence | None]


@dataclass(frozen=True, kw_only=True)
class Reason(Declared):
    """Everything there is to know about one reason.

    ``weight`` is what it adds to the score, in points, by hand. ``by_hand`` says that it stays so: the habit is a modern one, and no labelled mail
    of today is open to measure it on. The others were measured; ``facts/spam_weights.toml`` has their weights. ``effort`` is how much work mending it
    is: 1 for a word or a switch, 2 for a part of the message, 3 for writing the copy anew.
    """

    group: str
    weight: float
    judge: Judge
    by_hand: bool = False
    effort: int = 1


_declared: dict[str, Reason] = {}


def declared() -> dict[str, Reason]:
    """All reasons whose modules have been imported, by id without its prefix."""
    return _declared


def reason(
    *,
    id: str,
    name: str,
    group: str,
    weight: float,
    why: str,
    fix: str,
    samples: Sequence[CheckSample],
    by_hand: bool = False,
    effort: int = 1,
) -> Callable[[Judge], Judge]:
    """Declare the decorated function as a reason.

    Raises:
        DeclarationError: the id is taken, the group is none, or the samples are one-sided.
    """

    def declare(judge: Judge) -> Judge:
        if group not in GROUPS:
            raise DeclarationError(f"{id}: there is no group “{group}”")
        own = Reason(id, name, why, fix, samples=tuple(samples), group=group, weight=weight, judge=judge, by_hand=by_hand, effort=effort)
        register(_declared, own)
        return judge

    return declare


def found_by(check_id: str, message: Message, context: Context) -> Evidence | None:
    """The first thing that a check finds, as evidence; None where it finds nothing or cannot tell."""
    check = registry()[check_id]
    _, options = check_settings(check, {})
    try:
        hit = next(iter(check.find(message, context, options)), None)
    except (CannotTell, DoesNotApply):
        return None
    return None if hit is None else Evidence(hit.message.format(**hit.data), hit.place)
