"""The mends that a message is offered, and those that are withheld, with the reason."""

from __future__ import annotations

import logging
from bisect import bisect_left, insort
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import accumulate, islice, pairwise

from jetwind.core.checking import CannotTell, CheckResult, Context, DoesNotApply, Finding
from jetwind.core.checking.mends import Change, Mend, MendedPart, MendKind, Reach, mends
from jetwind.core.fields import source_tokens, tokens
from jetwind.core.message import Message
from jetwind.core.source import Span

logger = logging.getLogger(__name__)

#: Offers of one message, and changes of one offer.
MOST_OFFERS, MOST_CHANGES = 500, 2_000
#: Words that are suggested for one mend.
_MOST_SUGGESTED = 5


@dataclass(frozen=True, slots=True)
class Offer:
    """One mend of one finding: the check, the finding's fingerprint, those of the faults that it tells, its sentence, and the changes."""

    check: str
    kind: MendKind
    finding: str
    faults: tuple[str, ...]
    sentence: str
    does: str
    changes: tuple[Change, ...]
    #: Which word a person has to give, and words that the message suggests; until one is given there are no changes.
    asks: str = ""
    suggested: tuple[str, ...] = ()
    #: The elements that the finding names, how far the mend shows, and whether only a render proves it.
    elements: tuple[int, ...] = ()
    reach: Reach = "element"
    is_measured: bool = False


@dataclass(frozen=True, slots=True)
class Withheld:
    """A mend that is not offered, with the finding's fingerprint and sentence, and the sentence that says why."""

    check: str
    finding: str
    sentence: str
    why: str


def offers_of(
    message: Message, context: Context, results: Iterable[CheckResult], words: Mapping[str, str] | None = None
) -> tuple[list[Offer], list[Withheld]]:
    """The mends of what checks found, in the order of the checks. A change never stands in a field, in a comment or over another change.

    ``words`` are given by people for mends that need one, by the finding's fingerprint or by the check's id.
    """
    known, taken = mends(), _Taken(message)
    found: list[Offer] = []
    withheld: list[Withheld] = []
    for finding in islice(_findings(results, known), MOST_OFFERS):
        word = " ".join((words or {}).get(finding.fingerprint, (words or {}).get(finding.check, "")).split())
        for own in known[finding.check]:
            try:
                changes = _changes(own, message, context, finding, word or own.example)
                is_refused_word = bool(not changes and word and own.asks and _changes(own, message, context, finding, own.example))
                suggested = tuple(dict.fromkeys(islice(own.suggests(message, context, finding), _MOST_SUGGESTED))) if own.asks else ()
            except Exception:
                logger.exception("mend crashed", extra={"action": "mend.crashed", "check": finding.check})
                withheld.append(
                    Withheld(finding.check, finding.fingerprint, finding.message, "Its mend failed, which is a fault of Jetwind.")
                )
                break
            if not changes:
                if is_refused_word:
                    withheld.append(Withheld(finding.check, finding.fingerprint, finding.message, f"“{word[:80]}” cannot stand there."))
                continue
            if why := taken.refusal(changes, in_fields=finding.check.startswith("fields.")):
                withheld.append(Withheld(finding.check, finding.fingerprint, finding.message, why))
                break
            offer = Offer(
                finding.check,
                own.kind,
                finding.fingerprint,
                tuple(fault.fingerprint for fault in finding.told),
                finding.message,
                does=own.does,
                changes=changes if word or not own.asks else (),
                asks=own.asks,
                suggested=suggested,
                elements=_named(finding),
                reach=own.reach,
                is_measured=own.measured,
            )
            taken.add(offer.changes)
            found.append(offer)
            break
    return found, withheld


def _changes(own: Mend, message: Message, context: Context, finding: Finding, word: str) -> tuple[Change, ...]:
    """The changes of a mend, each once. A mend that needs something which the message does not have, such as a picture, gives none."""
    found: dict[Change, None] = {}
    try:
        found.update(dict.fromkeys(islice(own.changes(message, context, finding, word), MOST_CHANGES)))
    except (DoesNotApply, CannotTell):
        return ()
    return tuple(found)


def kinds_of(message: Message, context: Context, results: Iterable[CheckResult]) -> dict[str, str]:
    """The findings that a machine can mend, by fingerprint, each with the kind of its mend in one word: sure, confirm or fill."""
    return {one.finding: one.kind.name.lower() for one in offers_of(message, context, results)[0]}


def _named(finding: Finding) -> tuple[int, ...]:
    """The elements of a finding's places, and those that it names besides."""
    named = finding.data.get("elements")
    others = named if isinstance(named, list | tuple) else ()
    found = [place.element for place in finding.places] + [one for one in others if isinstance(one, int)]
    return tuple(dict.fromkeys(one for one in found if one is not None))


def _findings(results: Iterable[CheckResult], known: Mapping[str, object]) -> Iterator[Finding]:
    for result in sorted(results, key=lambda one: one.check):
        if result.check in known:
            # What only a reader's copy has stands in a field of the source, which nobody changes here.
            yield from (finding for finding in result.findings if "merged_for" not in finding.data)


class _Taken:
    """The stretches in which nothing may be changed: fields, comments, and what another mend changes."""

    def __init__(self, message: Message) -> None:
        self._message = message
        self._closed: dict[MendedPart, list[tuple[_Stretches, str]]] = {}
        #: What is changed already: no two of these stretches meet.
        self._changed: dict[MendedPart, list[Span]] = {}

    def refusal(self, changes: Sequence[Change], *, in_fields: bool) -> str:
        """The sentence that says why these changes are not made; empty where they can be.

        ``in_fields`` says that they are of a check of fields: such a change may stand for one whole field.
        """
        for change in changes:
            for stretches, why in self._stretches(change.part):
                if stretches.meet(change.span) and not (in_fields and stretches.has(change.span)):
                    return why
            if self._is_changed(change):
                return "It overlaps another mend; take that one first."
        own = sorted(changes, key=lambda one: (one.part, one.span))
        if any(one.part == other.part and other.span.start < one.span.end for one, other in pairwise(own)):
            return "Its own changes overlap."
        return ""

    def add(self, changes: Iterable[Change]) -> None:
        """Nothing else is changed here from now on."""
        for change in changes:
            insort(self._changed.setdefault(change.part, []), change.span)

    def _is_changed(self, change: Change) -> bool:
        changed = self._changed.get(change.part, [])
        before = bisect_left(changed, change.span.end, key=lambda one: one.start)
        return before > 0 and changed[before - 1].end > change.span.start

    def _stretches(self, part: MendedPart) -> list[tuple[_Stretches, str]]:
        if part not in self._closed:
            source, syntax, document = self._message.source_of(part), self._message.syntax, self._message.document
            text = source.text if source is not None else ""
            fields = source_tokens(text, syntax) if part == "html" else tokens(text, syntax)
            closed = [(_Stretches(field.span for field in fields), "It would change a field.")]
            if part == "html" and document is not None:
                comments = _Stretches(one.span for one in document.comments)
                closed.append((comments, "It would change a comment, which some clients read."))
            self._closed[part] = closed
        return self._closed[part]


class _Stretches:
    """Stretches of a source, asked whether they meet another: each question takes the same few steps, however many there are."""

    def __init__(self, spans: Iterable[Span]) -> None:
        by_start = sorted(spans)
        self._starts = [span.start for span in by_start]
        self._reach = list(accumulate((span.end for span in by_start), max))
        self._own = frozenset(by_start)

    def has(self, span: Span) -> bool:
        """Whether a stretch is one of them."""
        return span in self._own

    def meet(self, span: Span) -> bool:
        """Whether one of them shares a character with a stretch, or has the place inside it at which something is put in."""
        before = bisect_left(self._starts, span.end)
        return before > 0 and self._reach[before - 1] > span.start
