"""Where a message stands against the rule of sign-off: one list of what is missing, the same wherever it is shown."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from jetwind.core.clearing.rule import EITHER, Confirming, Rule, Seen, Stations


@dataclass(frozen=True, slots=True)
class Signature:
    """A valid signature: the roles under which it was given, and the condition under which it counts; empty where it counts now."""

    roles: frozenset[str]
    waits_for: str = ""


@dataclass(frozen=True, slots=True)
class Facts:
    """What the list follows from. ``stage`` is a stage of a message; ``newer`` the number of a newer revision, 0 where there is none.

    ``looked`` and ``left_out`` are slugs of stations. ``stops``, ``fixes``, ``comments`` and ``unlooked`` (checks that looked at nothing to
    the end) are numbers, and so are the excuses that nobody confirmed: all of them, and those that no approver made. ``signatures`` stand
    in the order in which they were given.
    """

    stage: str
    newer: int = 0
    is_checked: bool = True
    is_busy: bool = False
    is_stale: bool = False
    unlooked: int = 0
    stops: int = 0
    fixes: int = 0
    comments: int = 0
    looked: frozenset[str] = frozenset()
    left_out: frozenset[str] = frozenset()
    unconfirmed: int = 0
    unconfirmed_of_reviewers: int = 0
    is_seen: bool = False
    is_seen_on_phone: bool = False
    signatures: tuple[Signature, ...] = ()


@dataclass(frozen=True, slots=True)
class Missing:
    """One thing that is missing: a sentence, and the role whose turn it is; empty where nobody's is.

    ``holds`` is true where nobody may sign or release the message before the thing is there. It is false for a missing signature.
    """

    words: str
    turn: str
    holds: bool = True


def missing(rule: Rule, facts: Facts, stations: Mapping[str, str]) -> tuple[Missing, ...]:
    """Everything that is missing until the message is cleared by the rule; empty where nothing is. ``stations`` maps slugs to names."""
    if facts.stage == "released":
        return ()
    found = [*_of_content(rule, facts, stations), *of_signatures(rule, facts)]
    if facts.stage == "sent-back":
        found.insert(0, Missing("It was sent back; its author brings a new revision.", "author", holds=False))
    return tuple(found)


def _of_content(rule: Rule, facts: Facts, stations: Mapping[str, str]) -> list[Missing]:
    found = []
    if facts.newer:
        found.append(Missing(f"Revision {facts.newer} is newer.", "reviewer"))
    if not facts.is_checked:
        found.append(
            Missing("The checks are running." if facts.is_busy else "The checks have not run yet.", "" if facts.is_busy else "reviewer")
        )
    elif facts.is_stale:
        found.append(Missing("Circumstances have changed since the checks ran. The checks are run again in the background.", ""))
    if facts.stops:
        found.append(Missing(_are(facts.stops, "stop", "open"), "reviewer"))
    if facts.unlooked:
        found.append(
            Missing("Not everything was checked: " + _did(facts.unlooked, "check") + " not come to an end.", "reviewer", holds=False)
        )
    if facts.fixes and not rule.fixes:
        found.append(Missing(_are(facts.fixes, "fix", "open"), "reviewer"))
    if facts.comments and not rule.comments:
        found.append(Missing(_are(facts.comments, "comment", "open"), "reviewer"))
    names = _unwalked(rule, facts, stations)
    if len(names) == len(stations) > 1:
        found.append(Missing("No station was looked at.", "reviewer"))
    elif names:
        count = "1 station was" if len(names) == 1 else f"{len(names)} stations were"
        found.append(Missing(f"{count} not looked at: {', '.join(names)}.", "reviewer"))
    excuses = {Confirming.NOBODY: 0, Confirming.REVIEWERS: facts.unconfirmed_of_reviewers, Confirming.EVERYBODY: facts.unconfirmed}
    if unconfirmed := excuses[rule.confirming]:
        words = "1 excuse waits" if unconfirmed == 1 else f"{unconfirmed} excuses wait"
        found.append(Missing(f"{words} for a second person to confirm.", "reviewer"))
    if rule.seen is Seen.PHONE and not facts.is_seen_on_phone:
        found.append(Missing("Nobody has found a test copy right on a phone.", "reviewer"))
    elif rule.seen is Seen.ANYWHERE and not facts.is_seen:
        found.append(Missing("No recipient has found a test copy right.", "reviewer"))
    return found


def _unwalked(rule: Rule, facts: Facts, stations: Mapping[str, str]) -> list[str]:
    if rule.stations is Stations.FREE:
        return []
    walked = facts.looked | facts.left_out if rule.stations is Stations.LEFT_OUT else facts.looked - facts.left_out
    return [name for slug, name in stations.items() if slug not in walked]


def of_signatures(rule: Rule, facts: Facts) -> list[Missing]:
    """The signatures that are missing, with the conditions that those given wait for; empty where enough people signed."""
    waiting = [Missing(f"A signature counts once {one.waits_for}.", "reviewer", holds=False) for one in facts.signatures if one.waits_for]
    places = open_places(rule, [one for one in facts.signatures if not one.waits_for])
    if not places:
        # Enough people signed without a condition; those of the others hold nothing.
        return []
    turn = "approver" if places[0] != "reviewer" else "reviewer"
    if rule.in_order and len(places) > 1:
        return [*waiting, Missing(f"Waits for signatures: {', then '.join(_named(role) for role in places)}.", turn, holds=False)]
    if len(places) == 1:
        return [*waiting, Missing(f"Waits for the signature of {_named(places[0])}.", turn, holds=False)]
    needed = [f"{places.count(role)} of {_named(role)}" for role in ("reviewer", "approver") if role in places]
    of_whom = f", {' and '.join(needed)}" if needed else ""
    return [*waiting, Missing(f"Waits for {len(places)} signatures{of_whom}.", turn, holds=False)]


def open_places(rule: Rule, signatures: Sequence[Signature]) -> tuple[str, ...]:
    """The places of the rule that no signature fills, in the rule's order.

    In order, a signature that does not fit the next place fills none. Otherwise as many places are filled as can be.
    """
    if rule.in_order:
        filled = 0
        for one in signatures:
            if filled < len(rule.signers) and _fits(one, rule.signers[filled]):
                filled += 1
        return rule.signers[filled:]
    # Augmenting paths of a bipartite matching, place by place; there are at most nine. A place once filled stays filled, so that the places
    # that only one role fills come first: what stays open is what most people can fill.
    holder: dict[int, int] = {}

    def fill(number: int, tried: set[int]) -> bool:
        for signature, one in enumerate(signatures):
            if signature not in tried and _fits(one, rule.signers[number]):
                tried.add(signature)
                held = next((place for place, by in holder.items() if by == signature), None)
                if held is None or fill(held, tried):
                    holder[number] = signature
                    return True
        return False

    for number in sorted(range(len(rule.signers)), key=lambda place: rule.signers[place] == EITHER):
        fill(number, set())
    return tuple(role for number, role in enumerate(rule.signers) if number not in holder)


def follows_in_order(rule: Rule, signatures: Sequence[Signature], roles: frozenset[str]) -> str:
    """Why a person with these roles does not sign now by the rule's order, as a sentence; empty where they may."""
    if not rule.in_order:
        return ""
    places = open_places(rule, signatures)
    if places and not _fits(Signature(roles), places[0]):
        return f"By the rule of sign-off {_named(places[0])} signs next."
    return ""


def _fits(one: Signature, role: str) -> bool:
    return bool(one.roles) if role == EITHER else role in one.roles


def _named(role: str) -> str:
    return {"reviewer": "a reviewer", "approver": "an approver"}.get(role, "a reviewer or approver")


def _are(number: int, word: str, state: str) -> str:
    if number == 1:
        return f"1 {word} is {state}."
    return f"{number} {word}{'es' if word.endswith('x') else 's'} are {state}."


def _did(number: int, word: str) -> str:
    return f"1 {word} did" if number == 1 else f"{number} {word}s did"
