"""The rule of sign-off of one kind of message, as data, and as the sentences that a person reads."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

from jetwind.core.errors import Unusable

#: The roles that sign, and the word for a place that a person of either role fills.
ROLES, EITHER = ("reviewer", "approver"), "either"
#: The name under which a workspace keeps the rule of every kind that has none of its own.
EVERY = "every"
#: Signatures that a rule asks for at most, and days for which a signature holds at most.
MOST_SIGNERS, MOST_DAYS = 9, 365


class Stations(StrEnum):
    """How the stations of a message are walked before anybody signs."""

    LOOKED = "looked"
    LEFT_OUT = "left-out"
    FREE = "free"


class Confirming(StrEnum):
    """Whose excuses a second person confirms before anybody signs."""

    NOBODY = "nobody"
    REVIEWERS = "reviewers"
    EVERYBODY = "everybody"


class Seen(StrEnum):
    """Where a recipient has to find a test copy right before anybody signs."""

    UNASKED = "unasked"
    ANYWHERE = "anywhere"
    PHONE = "phone"


class UnusableRule(Unusable):
    """A rule of sign-off that cannot be used; the text names the entry and says what is wrong."""


@dataclass(frozen=True, slots=True)
class Rule:
    """A rule of sign-off.

    ``signers`` has a role, or ``"either"``, for each signature; ``in_order`` asks for them in this order. ``fixes`` and ``comments`` say
    whether such may be open. ``days`` is how long a signature holds, in days; None for as long as nothing changes. Every rule besides keeps
    people from signing what they uploaded and from signing twice, and lets no stop be open.
    """

    signers: tuple[str, ...] = (EITHER, "approver")
    in_order: bool = False
    stations: Stations = Stations.LEFT_OUT
    fixes: bool = True
    comments: bool = True
    confirming: Confirming = Confirming.NOBODY
    seen: Seen = Seen.UNASKED
    days: int | None = None

    @classmethod
    def from_table(cls, table: Mapping[str, object]) -> Rule:
        """The rule of a table as :meth:`as_table` gives it; what the table lacks is as in the usual rule.

        Raises:
            UnusableRule: an entry is not known, or its value cannot be used.
        """
        if unknown := sorted(set(table) - {field.name for field in dataclasses.fields(cls)}):
            raise UnusableRule(f"A rule of sign-off has no entry “{unknown[0][:40]}”.")
        usual = cls()
        return cls(
            _signers(table.get("signers", usual.signers)),
            _truth("in_order", table.get("in_order", usual.in_order)),
            Stations(_one_of("stations", table.get("stations", usual.stations), tuple(Stations))),
            _truth("fixes", table.get("fixes", usual.fixes)),
            _truth("comments", table.get("comments", usual.comments)),
            confirming=Confirming(_one_of("confirming", table.get("confirming", usual.confirming), tuple(Confirming))),
            seen=Seen(_one_of("seen", table.get("seen", usual.seen), tuple(Seen))),
            days=_days(table.get("days", usual.days)),
        )

    def as_table(self) -> dict[str, object]:
        """The rule as plain values."""
        return dataclasses.asdict(self) | {
            "signers": list(self.signers),
            "stations": self.stations.value,
            "confirming": self.confirming.value,
            "seen": self.seen.value,
        }


#: The rules that ship: the usual one, and a strict one.
SHIPPED: dict[str, Rule] = {
    "usual": Rule(),
    "strict": Rule(
        ("reviewer", EITHER, "approver"),
        in_order=True,
        stations=Stations.LOOKED,
        fixes=False,
        comments=False,
        confirming=Confirming.EVERYBODY,
        seen=Seen.PHONE,
        days=7,
    ),
}


def rule_of(kept: Mapping[str, object], kind: str) -> Rule:
    """The rule that holds for a kind of message: its own, that of every kind, or the usual one. ``kept`` is what a workspace keeps.

    Raises:
        UnusableRule: what is kept is no rule.
    """
    table = kept.get(kind, kept.get(EVERY, {}))
    if not isinstance(table, Mapping):
        raise UnusableRule(f"The rule of sign-off for {kind} messages is not a table.")
    return Rule.from_table(table)


def sentences(rule: Rule) -> tuple[str, ...]:
    """The rule as sentences, one thought each."""
    said = [_of_signers(rule)]
    said.append("Nobody signs a message of which they uploaded a revision, and nobody signs twice.")
    said.append(
        {
            Stations.LOOKED: "A reviewer has looked at each station.",
            Stations.LEFT_OUT: "A reviewer has looked at each station, or has left it out with a reason.",
            Stations.FREE: "Stations may be signed without a look.",
        }[rule.stations]
    )
    may_be_open = [word for word, may_be in (("fixes", rule.fixes), ("comments", rule.comments)) if may_be]
    said.append(f"No stop is open. {_listed([*may_be_open, 'notes']).capitalize()} may be open.")
    said.append(
        {
            Confirming.NOBODY: "An excuse needs no second person.",
            Confirming.REVIEWERS: "A second person confirms an excuse, unless an approver made it.",
            Confirming.EVERYBODY: "A second person confirms each excuse.",
        }[rule.confirming]
    )
    said.append(
        {
            Seen.UNASKED: "No recipient of a test send has to answer.",
            Seen.ANYWHERE: "A recipient of a test send has found the message right.",
            Seen.PHONE: "A recipient of a test send has found the message right on a phone.",
        }[rule.seen]
    )
    if rule.days is None:
        said.append("A signature holds as long as nothing changes.")
    else:
        said.append(f"A signature holds for {_counted(rule.days, 'day')}, as long as nothing changes.")
    return tuple(said)


def _of_signers(rule: Rule) -> str:
    if len(rule.signers) == 1:
        return f"{_person(rule.signers[0]).capitalize()} signs."
    if rule.in_order:
        return f"{len(rule.signers)} people sign, one after another: {', then '.join(_person(role) for role in rule.signers)}."
    counts = [(rule.signers.count(role), role) for role in ROLES if role in rule.signers]
    needed = [f"{number} of them {_person(role) if number == 1 else f'{role}s'}" for number, role in counts]
    return f"{len(rule.signers)} people sign, in any order" + (f", {' and '.join(needed)}." if needed else ".")


def _person(role: str) -> str:
    return {"reviewer": "a reviewer", "approver": "an approver"}.get(role, "a reviewer or approver")


def _listed(words: list[str]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def _counted(number: int, word: str) -> str:
    return f"{number} {word}" if number == 1 else f"{number} {word}s"


def _signers(value: object) -> tuple[str, ...]:
    if not isinstance(value, (list, tuple)) or not 1 <= len(value) <= MOST_SIGNERS:
        raise UnusableRule(f"A rule of sign-off asks for 1 to {MOST_SIGNERS} signatures.")
    return tuple(_one_of("signers", role, (*ROLES, EITHER)) for role in value)


def _one_of(name: str, value: object, known: tuple[str, ...]) -> str:
    if not isinstance(value, str) or value not in known:
        raise UnusableRule(f"The entry “{name}” of a rule of sign-off is one of {', '.join(known)}, not “{str(value)[:40]}”.")
    return value


def _truth(name: str, value: object) -> bool:
    if not isinstance(value, bool):
        raise UnusableRule(f"The entry “{name}” of a rule of sign-off is true or false, not “{str(value)[:40]}”.")
    return value


def _days(value: object) -> int | None:
    if value is None:
        return None
    if not isinstance(value, int) or isinstance(value, bool) or not 1 <= value <= MOST_DAYS:
        raise UnusableRule(f"A signature holds for 1 to {MOST_DAYS} days, not “{str(value)[:40]}”.")
    return value
