"""Under which roles a person signs while colleagues are away."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date

_NONE: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class Absence:
    """A person who is away, and who stands in, from the first day to the last; people are numbers."""

    away: int
    stands_in: int
    since: date
    until: date


def signing_roles(
    person: int, roles: Mapping[int, frozenset[str]], absences: Iterable[Absence], today: Mapping[int, date]
) -> tuple[frozenset[str], int | None]:
    """The roles under which a person signs, and in whose place: the first colleague who lends a role that the person has not.

    ``roles`` are the signing roles of each person, ``today`` the day where each person lives. A role that was lent is not lent further.
    Absences count in their order.
    """
    found, whom = roles.get(person, _NONE), None
    for one in absences:
        if one.stands_in == person and one.since <= today[one.away] <= one.until and (lent := roles.get(one.away, _NONE) - found):
            found, whom = found | lent, one.away if whom is None else whom
    return found, whom
