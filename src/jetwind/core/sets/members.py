"""What a member of a set has otherwise than its model, and what its members have wrong in common."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from dataclasses import dataclass

from jetwind.core.sets.pieces import Traits

#: Names in a sentence.
_NAMED = 4


@dataclass(frozen=True, slots=True)
class Difference:
    """One difference of a member from its model: which side differs, a sentence, and sixteen hexadecimal digits over all that differs.

    A sentence names the beginning of long words only; the digits change with any of them.
    """

    side: str
    sentence: str
    digest: str


def differences(model: Traits, member: Traits) -> tuple[Difference, ...]:
    """What a member has otherwise than its model, as sentences: sender, reply address, header, footer, links, fonts."""
    found: list[Difference] = []

    def differs(side: str, sentence: str, *content: str) -> None:
        found.append(Difference(side, sentence, hashlib.sha256("\n".join((side, *content)).encode()).hexdigest()[:16]))

    for side, one, other in (("sender", member.sender, model.sender), ("reply address", member.reply, model.reply)):
        if one != other:
            differs(side, f"The {side} is {_quoted(one)}; the model has {_quoted(other)}.", one, other)
    for side, words, digest, model_words, model_digest in (
        ("header", member.header, member.header_digest, model.header, model.header_digest),
        ("footer", member.footer, member.footer_digest, model.footer, model.footer_digest),
    ):
        if digest == model_digest:
            continue
        if words == model_words:
            differs(side, f"The {side} has the words of the model’s, with other pictures or links.", digest, model_digest)
        else:
            differs(side, f"The {side} says {_quoted(words)}; the model’s says {_quoted(model_words)}.", digest, model_digest)
    if hosts := [host for host in member.hosts if host not in model.hosts]:
        differs("links", f"Links lead to {_listed(hosts)}, to which no link of the model leads.", *hosts)
    if model.fonts and (fonts := [font for font in member.fonts if font not in model.fonts]):
        differs("fonts", f"Text is set in {_listed(fonts)}, which the model does not use.", *fonts)
    return tuple(found)


def _quoted(words: str) -> str:
    return f"“{words[:120]}…”" if len(words) > 120 else f"“{words}”" if words else "nothing"


def _listed(names: list[str]) -> str:
    return ", ".join(names[:_NAMED]) + (f" and {len(names) - _NAMED} more" if len(names) > _NAMED else "")


@dataclass(frozen=True, slots=True)
class Told:
    """A finding of one member: the member, the check, the level, the fingerprints of the fault and of its cause, the sentence."""

    member: int
    check: str
    level: str
    fingerprint: str
    cause: str
    sentence: str


@dataclass(frozen=True, slots=True)
class Cause:
    """Findings of one cause, told once: the first of them, and all of them, each with its member."""

    first: Told
    findings: tuple[Told, ...]

    @property
    def members(self) -> tuple[int, ...]:
        """The members that have it, each once."""
        return tuple(dict.fromkeys(one.member for one in self.findings))


def told_once(findings: Iterable[Told]) -> tuple[Cause, ...]:
    """Findings of the members told once for each cause, what most members have first.

    Two findings have one cause where the same check says the same sentence, or where their fault or its cause has the same fingerprint.
    Work is linear in the findings.
    """
    everything = list(findings)
    leads_to = list(range(len(everything)))

    def first_of(number: int) -> int:
        while leads_to[number] != number:
            leads_to[number] = leads_to[leads_to[number]]
            number = leads_to[number]
        return number

    #: The first finding that has a name of a cause.
    named: dict[tuple[str, str], int] = {}
    for number, one in enumerate(everything):
        for name in (one.fingerprint, one.cause, f"says {one.sentence}"):
            if name:
                earlier, later = sorted((first_of(named.setdefault((one.check, name), number)), first_of(number)))
                leads_to[later] = earlier
    groups: dict[int, list[Told]] = {}
    for number, one in enumerate(everything):
        groups.setdefault(first_of(number), []).append(one)
    causes = [Cause(group[0], tuple(group)) for group in groups.values()]
    weights = {"stop": 0, "fix": 1, "note": 2}
    return tuple(sorted(causes, key=lambda cause: (weights.get(cause.first.level, 3), -len(cause.members), cause.first.check)))
