"""A mend is declared beside its check: how a machine puts right what the check found, as exact changes of the source."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from email.header import Header as Words
from enum import StrEnum
from typing import Literal, Unpack

from jetwind.core.checking.context import Context
from jetwind.core.checking.declaration import DeclarationError
from jetwind.core.checking.finding import Finding, Place
from jetwind.core.checking.sample_values import SampleValues
from jetwind.core.checking.samples import CheckSample
from jetwind.core.message import Message
from jetwind.core.source import Span

#: Parts of a message whose source a mend may change; "message" is the mail as octets, one character an octet.
MendedPart = Literal["html", "text", "header", "message"]


class MendKind(StrEnum):
    """How much a person has to say to a mend."""

    SURE = "sure"  # nothing that a reader sees changes, or the fault is plain
    CONFIRM = "to confirm"  # the look or the words change
    FILL = "to fill in"  # a person has to give a word


@dataclass(frozen=True, slots=True)
class Change:
    """New characters in the place of a stretch of one part; ``span`` counts characters of the part's decoded source from 0."""

    part: MendedPart
    span: Span
    text: str


#: How far the changes of a mend show on a render.
Reach = Literal["element", "message"]
#: The function of a mend: it takes the message, its circumstances and one finding, and gives changes. It gives none where a person has to decide.
Changes = Callable[[Message, Context, Finding], Iterator[Change]]
#: The function of a mend that needs a word: it takes the word besides.
Filling = Callable[[Message, Context, Finding, str], Iterator[Change]]
#: The words that a message itself suggests for such a mend, the likeliest first.
Suggesting = Callable[[Message, Context, Finding], Sequence[str]]


@dataclass(frozen=True)
class MendSample:
    """A message that the mend turns into another; ``after`` is None where the check finds something that the mend leaves to a person.

    ``word`` is given to a mend that needs one.
    """

    before: CheckSample
    after: str | None
    word: str = ""


@dataclass(frozen=True)
class Mend:
    """Everything there is to know about one mend of a check. ``does``, ``leaves`` and ``asks`` are sentences for people.

    ``asks`` says which word the mend needs, ``example`` is such a word; they are empty for a mend that needs none. ``reach`` says how far its
    changes show: at the elements that they stand in, or all over the message. ``measured`` says that the finding is read from renders, so that
    only another render proves the mend.
    """

    check: str
    kind: MendKind
    does: str
    leaves: str
    changes: Filling
    samples: tuple[MendSample, ...]
    asks: str = ""
    example: str = ""
    suggests: Suggesting = lambda message, context, finding: ()
    reach: Reach = "element"
    measured: bool = False


#: The mends of each check: at most one that needs no word, and one that needs a word where the other gives nothing.
_declared: dict[str, list[Mend]] = {}


def mend(
    check_id: str,
    *,
    kind: MendKind,
    does: str,
    leaves: str,
    samples: Sequence[MendSample],
    reach: Reach = "element",
    measured: bool = False,
) -> Callable[[Changes], Changes]:
    """Declare the decorated function as the mend of a check: what it does, and what it will not touch.

    Raises:
        DeclarationError: the check has a mend already, it belongs to another folder, or no sample shows what is mended or left.
    """

    def declare(changes: Changes) -> Changes:
        own = Mend(
            check_id, kind, does=does, leaves=leaves, changes=_wordless(changes), samples=tuple(samples), reach=reach, measured=measured
        )
        _declare(own, changes.__module__)
        return changes

    return declare


def fill(
    check_id: str, *, asks: str, example: str, does: str, leaves: str, samples: Sequence[MendSample], suggests: Suggesting | None = None
) -> Callable[[Filling], Filling]:
    """Declare the decorated function as the mend of a check that needs a word, where the check's other mend gives nothing.

    Raises:
        DeclarationError: as :func:`mend`.
    """

    def declare(changes: Filling) -> Filling:
        own = Mend(check_id, MendKind.FILL, does=does, leaves=leaves, changes=changes, samples=tuple(samples), asks=asks, example=example)
        _declare(replace(own, suggests=suggests) if suggests is not None else own, changes.__module__)
        return changes

    return declare


def _wordless(changes: Changes) -> Filling:
    return lambda message, context, finding, word: changes(message, context, finding)


def _declare(own: Mend, module: str) -> None:
    if own.check.split(".", 1)[0] not in module.split("."):
        raise DeclarationError(f"the mend of {own.check} is declared in {module}; its place is beside the check")
    others = _declared.get(own.check, [])
    if any((other.kind is MendKind.FILL) == (own.kind is MendKind.FILL) for other in others):
        raise DeclarationError(f"{own.check} has two mends")
    if {sample.after is None for sample in own.samples} != {True, False}:
        raise DeclarationError(f"the mend of {own.check} needs a sample that is mended and one that is left")
    _declared[own.check] = sorted([*others, own], key=lambda one: one.kind is MendKind.FILL)


def mends() -> dict[str, tuple[Mend, ...]]:
    """The mends of all checks, by the check's id, sorted; of one check, the mend that needs no word first."""
    from jetwind.core.checking.registry import registry

    registry()
    return {check: tuple(own) for check, own in sorted(_declared.items())}


def measured_checks() -> list[str]:
    """The checks whose mend is proven by a render, sorted."""
    return [check for check, own in mends().items() if any(one.measured for one in own)]


def turns(before: str, after: str, word: str = "", **more: Unpack[SampleValues]) -> MendSample:
    """A message that the mend turns into ``after``, and into nothing else."""
    return MendSample(CheckSample(before, fires=True, **more), after, word)


def leaves_alone(before: str, word: str = "", **more: Unpack[SampleValues]) -> MendSample:
    """A message in which the check finds something, and the mend changes nothing."""
    return MendSample(CheckSample(before, fires=True, **more), None, word)


def stretch(place: Place) -> Span | None:
    """The stretch of the source at a place, in characters; None where the place has none."""
    if place.start is None or place.end is None:
        return None
    return Span(place.start.offset, place.end.offset)


def source_at(message: Message, place: Place) -> tuple[MendedPart, Span, str] | None:
    """Part, stretch and source of a place that a mend may change; None for any other place."""
    span, source = stretch(place), message.source_of(place.part)
    if span is None or source is None or place.part not in ("html", "text", "header"):
        return None
    return place.part, span, source.slice(span)


def sources(message: Message, finding: Finding) -> Iterator[tuple[MendedPart, Span, str]]:
    """Part, stretch and source of each listed place that a mend may change."""
    yield from (found for place in finding.places if (found := source_at(message, place)) is not None)


def with_value(finding: Finding, name: str) -> Iterator[tuple[Place, str]]:
    """Each listed place with the value that the fault there has under a name; empty where it has none."""
    each, places, at = finding.each(name), finding.places, 0
    for number, fault in enumerate(finding.told):
        value = each[number] if number < len(each) else str(finding.data.get(name, ""))
        for place in places[at : at + fault.places]:
            yield place, value
        at += fault.places


def one_place(finding: Finding) -> bool:
    """Whether a finding tells one fault at one place, so that one word is enough for it."""
    return len(finding.places) == 1 and not finding.more


def of_header(message: Message, name: str) -> tuple[Span, str] | None:
    """The stretch of the body of a header that stands once, behind its colon, and the line end of the headers; None for any other header."""
    found, source = list(message.header_fields(name)), message.header_source.text
    if len(found) != 1 or found[0].span is None:
        return None
    return Span(source.index(":", found[0].span.start) + 1, found[0].span.end), "\r\n" if "\r\n" in source else "\n"


def as_header(name: str, words: str, newline: str) -> str:
    """Words as the body of a header, behind its colon: in ASCII as they are, else as encoded-words (RFC 2047), in lines of at most 76 octets."""
    if words.isascii():
        return f" {words}"
    return f" {Words(words, 'utf-8', header_name=name).encode(linesep=newline)}"
