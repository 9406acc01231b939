"""How a profile can be shown otherwise than it is: pictures blocked or shown, by night or by day, turned or upright."""

from __future__ import annotations

from collections.abc import Iterable

from jetwind.core.profiles import Profile

OWN = "own"
#: Each pair: one way and the other. A mode holds at most one of each.
PAIRS = (("blocked", "shown"), ("night", "day"), ("turned", "upright"))
WAYS = tuple(way for pair in PAIRS for way in pair)
WORDS = {
    "blocked": "images blocked",
    "shown": "images shown",
    "night": "by night",
    "day": "by day",
    "turned": "turned",
    "upright": "upright",
}


def mode_of(ways: Iterable[str]) -> str:
    """The mode of some ways; unknown ones are left out, and of a pair the first wins."""
    given = set(ways)
    return "+".join(next(way for way in pair if way in given) for pair in PAIRS if given & set(pair)) or OWN


def ways_of(mode: str) -> list[str]:
    """The ways of a mode, in order; unknown ones are left out."""
    return [way for way in WAYS if way in mode.split("+")]


def shown_in(profile: Profile, mode: str) -> Profile:
    """The profile as a mode shows it."""
    ways = ways_of(mode)
    return profile.shown(
        images="off" if "blocked" in ways else "on" if "shown" in ways else None,
        night=True if "night" in ways else False if "day" in ways else None,
        turned=True if "turned" in ways else False if "upright" in ways else None,
    )


def needed(profile: Profile, mode: str) -> str:
    """The mode under which a profile's render is kept: only what differs from its own way."""
    return mode_of(way for way in ways_of(mode) if shown_in(profile, way) != profile)


def in_words(profile: Profile, mode: str) -> str:
    """The name of a mode for people; empty for the profile's own way."""
    return ", ".join(WORDS[way] for way in ways_of(needed(profile, mode)))


def switched(profile: Profile | None, mode: str, pair: tuple[str, str]) -> str:
    """The mode with one pair the other way: of one profile by what it shows now, of all by whether the first way is on."""
    one, other = pair
    kept = [way for way in ways_of(mode) if way not in pair]
    if profile is None:
        return mode_of(kept if one in ways_of(mode) else [*kept, one])
    now = shown_in(profile, mode)
    is_on = {"blocked": now.images == "blocked", "night": now.is_night, "turned": now.is_turned}[one]
    return needed(profile, mode_of([*kept, other if is_on else one]))


def images_in_words(profile: Profile) -> str:
    """Whether a profile shows pictures, and what stands in their place, in words."""
    if profile.images == "on":
        return "shown"
    instead = {"styled": "in the message's own type", "plain": "in the client's own type"}.get(profile.alternative, "not shown")
    return f"blocked; alternative text {instead}"
