"""Rulebooks: laws and customs as data, each with what it demands and the check that keeps it; and those that a house writes itself."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime
from functools import lru_cache
from typing import TypedDict, cast

from jetwind.core.errors import Unusable
from jetwind.core.facts import table
from jetwind.core.facts.tables import RulebookRow
from jetwind.core.source.plain import FIRST_YEAR, LAST_YEAR, NotToml, toml

#: What a house may ask for, with what each says by itself. All but the last are kept by checks; the words are kept by footer.house-words.
HOUSE_DEMANDS: Mapping[str, str] = {
    "footer.unsubscribe-missing": "A visible unsubscribe link",
    "footer.unsubscribe-hidden": "An unsubscribe link that is easy to see",
    "footer.unsubscribe-words": "An unsubscribe link that says so",
    "footer.unsubscribe-target": "An unsubscribe link that leads to its own page",
    "footer.unsubscribe-conditional": "An unsubscribe link in every copy",
    "text.unsubscribe-missing": "An unsubscribe address in the plain text",
    "footer.address-missing": "A postal address",
    "footer.identity-missing": "The sender's name",
    "footer.reason-missing": "Why the reader gets it",
    "footer.preferences-missing": "A page to choose what to get",
    "footer.list-unsubscribe": "A List-Unsubscribe header",
    "footer.one-click": "Unsubscribing by one click",
    "footer.one-click-unsigned": "A signature over both headers",
}
_KINDS = frozenset(["promotional", "newsletter", "transactional"])
_MOST_WORDS, _MOST_CHARACTERS = 40, 400


@dataclass(frozen=True, slots=True)
class Demand:
    """One demand: the check that keeps it, what it says in plain words, and its source."""

    check: str
    says: str
    source: str


@dataclass(frozen=True, slots=True)
class Rulebook:
    """One law or a house's own rules: its id, its name, where it stands, what it demands, and for whom and when it holds.

    ``words`` must stand in the copy as they are. Without ``kinds`` it holds for every kind of message, without ``countries`` for every audience.
    """

    id: str
    name: str
    basis: str
    demands: tuple[Demand, ...]
    words: tuple[str, ...] = ()
    kinds: frozenset[str] = frozenset()
    countries: frozenset[str] = frozenset()
    since: date | None = None
    until: date | None = None
    is_house: bool = field(default=False)

    def holds(self, kind: str, countries: Collection[str], on: date | None) -> bool:
        """Whether it holds for a kind of message, an audience (empty: anywhere) and a day (None: any)."""
        if self.kinds and kind not in self.kinds:
            return False
        if self.countries and countries and not self.countries & {country.upper() for country in countries}:
            return False
        return on is None or ((self.since is None or self.since <= on) and (self.until is None or on <= self.until))

    @property
    def key(self) -> str:
        """One value for what it says, for keeping answers."""
        return repr((self.id, self.name, self.demands, self.words, sorted(self.kinds), sorted(self.countries), self.since, self.until))

    @property
    def checks(self) -> frozenset[str]:
        """Ids of the checks that keep it."""
        return frozenset(demand.check for demand in self.demands) | ({"footer.house-words"} if self.words else frozenset())


class UnusableRulebook(Unusable):
    """A house rulebook that says nothing usable; the text names the entry."""


@lru_cache(maxsize=1)
def rulebooks() -> dict[str, Rulebook]:
    """All rulebooks that ship, by id."""
    return {
        key: Rulebook(
            key, book["name"], book["basis"], tuple(Demand(**demand) for demand in book["demands"]), countries=frozenset(book["countries"])
        )
        for key, book in table("rulebooks", dict[str, RulebookRow]).items()
    }


def house_rulebook(
    name: str,
    demands: Collection[str],
    words: Collection[str] = (),
    kinds: Collection[str] = (),
    countries: Collection[str] = (),
    since: date | None = None,
    until: date | None = None,
    id: str = "house",
) -> Rulebook:
    """A house's own rulebook.

    Raises:
        UnusableRulebook: an entry is none; the text says which.
    """
    if not name.strip():
        raise UnusableRulebook("a rulebook needs a name")
    for demand in demands:
        if demand not in HOUSE_DEMANDS:
            raise UnusableRulebook(f"there is no demand {demand!r}; there are {', '.join(HOUSE_DEMANDS)}")
    for kind in kinds:
        if kind not in _KINDS:
            raise UnusableRulebook(f"there is no kind {kind!r}; there are {', '.join(sorted(_KINDS))}")
    plain = tuple(dict.fromkeys(" ".join(word.split()) for word in words if word.strip()))
    if len(plain) > _MOST_WORDS or any(len(word) > _MOST_CHARACTERS for word in plain):
        raise UnusableRulebook(f"at most {_MOST_WORDS} pieces of wording of at most {_MOST_CHARACTERS} characters")
    codes = frozenset(country.strip().upper() for country in countries if country.strip())
    for code in sorted(codes):
        if len(code) != 2 or not code.isascii() or not code.isalpha():
            raise UnusableRulebook(f"{code!r} is no country code of two letters, such as GB")
    for day in (since, until):
        if day is not None and not FIRST_YEAR <= day.year <= LAST_YEAR:
            raise UnusableRulebook(f"days are of the years {FIRST_YEAR} to {LAST_YEAR}, not of {day.year}")
    if since is not None and until is not None and until < since:
        raise UnusableRulebook("it ends before it begins")
    if not demands and not plain:
        raise UnusableRulebook("it demands nothing")
    asked = tuple(Demand(check, HOUSE_DEMANDS[check], f"house: {name}") for check in HOUSE_DEMANDS if check in demands)
    return Rulebook(
        id,
        name.strip(),
        basis="House",
        demands=asked,
        words=plain,
        kinds=frozenset(kinds),
        countries=codes,
        since=since,
        until=until,
        is_house=True,
    )


def rulebook_from_toml(text: str, id: str = "house") -> Rulebook:
    """A house rulebook in a file: ``name``, ``demands`` (ids of checks), ``words``, ``kinds``, ``countries``, ``since``, ``until``.

    Raises:
        UnusableRulebook: it is no TOML, or an entry is none.
    """
    try:
        read = toml(text)
    except NotToml as wrong:
        raise UnusableRulebook(f"it is no TOML: {wrong}") from wrong
    known = {"name": str, "demands": list, "words": list, "kinds": list, "countries": list, "since": date, "until": date}
    for key, value in read.items():
        if key not in known:
            raise UnusableRulebook(f"there is no entry {key!r}; there are {', '.join(known)}")
        if (
            not isinstance(value, known[key])
            or isinstance(value, datetime)
            or (isinstance(value, list) and not all(isinstance(one, str) for one in value))
        ):
            what = {str: "a text", list: "a list of texts", date: "a date such as 2027-01-31"}[known[key]]
            raise UnusableRulebook(f"{key!r} is {what}")
    name, demands = str(read.pop("name", "")), cast("list[str]", read.pop("demands", []))
    return house_rulebook(name, demands, id=id, **cast("_OtherEntries", read))


class _OtherEntries(TypedDict, total=False):
    """The entries of a house rulebook in a file but name and demands, as ``rulebook_from_toml`` has checked them."""

    words: list[str]
    kinds: list[str]
    countries: list[str]
    since: date
    until: date


def asking(check_id: str, chosen: Collection[str], house: Collection[Rulebook]) -> tuple[tuple[Rulebook, Demand], ...]:
    """The rulebooks that demand a check, each with its demand: those of the ids ``chosen`` (with none, all that ship), and the house's own."""
    books = [book for key, book in rulebooks().items() if not chosen or key in chosen]
    return tuple((book, demand) for book in (*books, *house) for demand in book.demands if demand.check == check_id)


def exempt(check_id: str, chosen: Collection[str], house: Collection[Rulebook]) -> bool:
    """Whether some rulebook that ships demands this check, and none that applies does. With none chosen, all apply."""
    if not chosen or not is_demanded(check_id):
        return False
    return not asking(check_id, chosen, house)


def is_demanded(check_id: str) -> bool:
    """Whether a rulebook that ships demands this check."""
    return any(check_id in book.checks for book in rulebooks().values())
