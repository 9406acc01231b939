"""A mend is proven before it is offered: the message is read again with its changes, and every check runs on the result."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from jetwind.core.checking import CheckResult, Level
from jetwind.core.checking.mends import MendedPart, MendKind
from jetwind.core.mending.octets import CannotMend, with_changes
from jetwind.core.mending.offers import Offer, Withheld
from jetwind.core.message import Message, UnusableInput
from jetwind.core.prose.reading import reading_of
from jetwind.core.source import Edit, splice

#: From octets to the message, read as the one before was; and from a message to the answers of all checks.
Read = Callable[[bytes], Message]
Judge = Callable[[Message], Sequence[CheckResult]]
#: Mends that are proven each by itself, where all of them together are not good.
MOST_ALONE = 60


@dataclass(frozen=True, slots=True)
class Mended:
    """The octets with the mends that hold, the message that they are, what the checks say of it, and what was withheld."""

    octets: bytes
    message: Message
    results: tuple[CheckResult, ...]
    taken: tuple[Offer, ...]
    withheld: tuple[Withheld, ...]


@dataclass(frozen=True, slots=True)
class Before:
    """A message before it is mended: the octets it was read from, what the checks say of it, and how another is read and checked like it."""

    message: Message
    octets: bytes
    results: tuple[CheckResult, ...]
    read: Read
    judge: Judge


def mended(before: Before, offers: Sequence[Offer]) -> Mended:
    """The message with all of these mends that hold.

    A mend holds where its finding is gone, no check finds more than before and, if it is sure, nobody reads another word. All are tried
    together; where that is not good, those whose finding stayed are left out, and then each is tried by itself.
    """
    left, withheld = list(offers), list[Withheld]()
    while left:
        tried = _tried(before, left)
        if not isinstance(tried, str) and not tried[3]:
            octets, after, answers, _ = tried
            return Mended(octets, after, tuple(answers), tuple(left), tuple(withheld))
        rebuilding = [one for one in left if any(change.part == "message" for change in one.changes)]
        others = [one for one in left if one not in rebuilding]
        if rebuilding and others and _is_better(_tried(before, others), tried):
            # A plain text that is made from the HTML as it is has words in it that other mends change.
            left = others
            withheld += [_withheld(one, "It would copy what another mend changes; mend once more after that one.") for one in rebuilding]
            continue
        if not isinstance(tried, str):
            left = [one for one in left if one not in tried[3]]
            withheld += [_withheld(one, "The finding stays.") for one in tried[3]]
            continue
        if len(left) == 1:
            return Mended(before.octets, before.message, before.results, (), (*withheld, _withheld(left[0], tried)))
        alone = [(one, _alone(before, one)) for one in left[:MOST_ALONE]]
        good = [one for one, why in alone if not why]
        withheld += [_withheld(one, why) for one, why in alone if why]
        withheld += [_withheld(one, f"Only {MOST_ALONE} mends are proven at once.") for one in left[MOST_ALONE:]]
        if len(good) == len(left):
            # Each is good by itself and all together are not: the first half is tried, the others wait for the next run.
            half = len(good) // 2
            withheld += [_withheld(one, f"Together with other mends: {tried}") for one in good[half:]]
            good = good[:half]
        left = good
    return Mended(before.octets, before.message, before.results, (), tuple(withheld))


def _withheld(offer: Offer, why: str) -> Withheld:
    return Withheld(offer.check, offer.finding, offer.sentence, why)


def _alone(before: Before, offer: Offer) -> str:
    tried = _tried(before, [offer])
    if isinstance(tried, str):
        return tried
    return "The finding stays." if tried[3] else ""


def _is_better(one: _Tried | str, other: _Tried | str) -> bool:
    """Whether one trial went better than another: it harms nothing, and fewer findings stayed."""
    return not isinstance(one, str) and (isinstance(other, str) or len(one[3]) < len(other[3]))


_Tried = tuple[bytes, Message, Sequence[CheckResult], list[Offer]]


def _tried(before: Before, offers: Sequence[Offer]) -> _Tried | str:
    """The octets with these mends, the message, its answers and the mends whose finding stayed; or why they harm."""
    try:
        octets = with_changes(before.message, before.octets, [change for one in offers for change in one.changes])
    except CannotMend as refused:
        return str(refused)
    try:
        after = before.read(octets)
    except UnusableInput as refused:
        return str(refused)
    if why := _other_parts(before.message, after, offers):
        return why
    answers = before.judge(after)
    if why := worse(before.results, answers):
        return why
    there = {(finding.check, fault.fingerprint) for answer in answers for finding in answer.findings for fault in finding.told}
    # A finding tells several faults: a mend that puts some of them right holds.
    return octets, after, answers, [one for one in offers if all((one.check, fault) in there for fault in one.faults)]


def _other_parts(before: Message, after: Message, offers: Sequence[Offer]) -> str:
    """The sentence that says what else changed than the mends say; empty where nothing did."""
    is_rebuilt = any(change.part == "message" for one in offers for change in one.changes)
    # Where parts of the mail are put together anew, the HTML alone is what it was.
    parts: tuple[MendedPart, ...] = ("html",) if is_rebuilt else ("html", "text", "header")
    for part in parts:
        old, new = before.source_of(part), after.source_of(part)
        edits = [Edit(change.span, change.text) for one in offers for change in one.changes if change.part == part]
        if (old is None) != (new is None) or (old is not None and new is not None and splice(old.text, edits) != new.text):
            return "The message cannot be written back as it was read."
    if all(one.kind is MendKind.SURE for one in offers) and _words(before) != _words(after):
        return "A reader would read other words."
    return ""


def _words(message: Message) -> str:
    return reading_of(message).visible_text if message.document is not None else ""


def worse(before: Iterable[CheckResult], after: Iterable[CheckResult]) -> str:
    """The sentence that names a check which finds more than before; empty where none does. Notes count as all others do."""
    counted, found = _counted(before), _counted(after)
    for (check, level), number in found.items():
        if number > counted[check, level]:
            return f"{check} would find more than before."
    return ""


def _counted(results: Iterable[CheckResult]) -> Counter[tuple[str, Level]]:
    return Counter((one.check, finding.level) for one in results for finding in one.findings for _ in finding.told)
