"""Everything that an arrival is judged by: what differs from the copy, its papers, its signatures, its way, how often it came."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime

from jetwind.core.arrivals.comparing import compare
from jetwind.core.arrivals.differences import Compared, Difference
from jetwind.core.arrivals.pictures import LIKENESS
from jetwind.core.arrivals.results import verdicts_of
from jetwind.core.arrivals.way import hops_of, late_hop
from jetwind.core.message import Message
from jetwind.core.papers import Dkim

#: Seconds under which a way is told of nobody: servers need a moment.
_MOMENT = 60


@dataclass(frozen=True, slots=True)
class Journey:
    """Beside the two mails: to whom the copy went, when it was handed over and when it arrived, how often, and what signatures say.

    ``signed`` and ``holds`` are the signatures of the copy and of the arrival, verified; empty where nobody verified them.
    """

    recipient: str = ""
    handed_over: datetime | None = None
    arrived: datetime | None = None
    arrivals: int = 1
    signed: tuple[Dkim, ...] = ()
    holds: tuple[Dkim, ...] = ()


def judge(copy: Message, arrival: Message, journey: Journey, likeness: float = LIKENESS) -> Compared:
    """The comparison of a copy and its newest arrival."""
    found = [*compare(copy, arrival, likeness), *_of_papers(arrival), *_of_signatures(arrival, journey.signed, journey.holds)]
    late = late_hop(hops_of(arrival), journey.handed_over, journey.arrived)
    if late is not None and late.total > _MOMENT:
        data: dict[str, str | int] = {"minutes": round(late.total / 60), "receiver": late.receiver, "wait": round(late.seconds / 60)}
        template = "The copy took {minutes} minutes; it lay {wait} minutes before {receiver} had it."
        found.append(Difference("late", "message", template, data, identity="late"))
    if journey.arrivals > 1:
        found.append(Difference("doubled", "message", "The copy arrived {times} times.", {"times": journey.arrivals}, identity="doubled"))
    return Compared(journey.recipient, journey.arrivals, tuple(found))


def _of_papers(arrival: Message) -> list[Difference]:
    verdicts = verdicts_of(arrival)
    if verdicts is None or not verdicts.fails:
        return []
    said = ", ".join(f"{one.method} {one.result}" for one in verdicts.verdicts[:6])
    template = "{receiver} says that the papers do not hold: {said}."
    return [Difference("papers-fail", "header", template, {"receiver": verdicts.receiver, "said": said}, after=said, identity="papers")]


def _of_signatures(arrival: Message, signed: Sequence[Dkim], holds: Sequence[Dkim]) -> list[Difference]:
    """The signatures that verified when the copy was handed over, and do not in the arrival.

    A receiver verifies a signature before it changes the mail for its reader: where it says that the signature held, no harm was done.
    """
    good = {(one.domain, one.selector) for one in holds if one.result == "pass"}
    verdicts = verdicts_of(arrival)
    held = {one.value_of("header.d").lower() for one in verdicts.of("dkim") if one.result == "pass"} if verdicts is not None else set()
    there = {(one.domain, one.selector): one for one in holds}
    found = []
    for one in signed:
        key = (one.domain, one.selector)
        if one.result != "pass" or key in good or one.domain.lower() in held:
            continue
        data = {"domain": one.domain, "why": there[key].why or "it does not fit" if key in there else "it is gone"}
        template = "The signature of {domain} does not hold any more: {why}."
        broken = Difference("signature-broken", "header", template, data, "a signature that holds", identity=one.domain)
        found.append(replace(broken, after="one that does not hold" if key in there else ""))
    return found
