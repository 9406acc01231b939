"""Findings as values, and the five answers a check may give."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Literal

from jetwind.core.errors import JetwindError
from jetwind.core.message import Header, Message
from jetwind.core.source import Position, SourceText, Span

Part = Literal["html", "text", "header", "image", "attachment", "message", "render"]


class Level(StrEnum):
    """How much a finding weighs."""

    STOP = "stop"  # may not be released while open
    FIX = "fix"  # should be mended or excused
    NOTE = "note"  # worth knowing


class Outcome(StrEnum):
    """The answer of one check on one message."""

    FINDINGS = "findings"
    CLEAR = "clear"
    DOES_NOT_APPLY = "does-not-apply"
    CANNOT_TELL = "cannot-tell"
    RAN_OUT = "ran-out"  # its time or memory was used up before there was an answer
    CRASHED = "crashed"

    @property
    def is_unlooked(self) -> bool:
        """Whether nothing was looked at to the end: that never counts as clear."""
        return self in (Outcome.RAN_OUT, Outcome.CRASHED)


@dataclass(frozen=True, slots=True)
class Place:
    """Where a finding is: the part, a name in it (header, image), the place in its decoded source, the HTML element."""

    part: Part
    name: str = ""
    start: Position | None = None
    end: Position | None = None
    element: int | None = None

    @classmethod
    def in_html(cls, message: Message, span: Span | None, element: int | None = None) -> Place:
        """A span of the HTML part; ``element`` is the index of the element it belongs to, for the pin on a render."""
        assert message.html is not None
        return cls._at("html", "", message.html.source, span, element)

    @classmethod
    def in_text(cls, message: Message, span: Span | None) -> Place:
        """A span of the plain-text part."""
        assert message.text is not None
        return cls._at("text", "", message.text.source, span, None)

    @classmethod
    def in_header(cls, message: Message, name: str, header: Header | None = None) -> Place:
        """A header field; without one (it is missing, or a person gave it) only its name."""
        return cls._at("header", name, message.header_source, header.span if header else None, None)

    @classmethod
    def in_message(cls, message: Message, octets: Span | None, name: str = "") -> Place:
        """A stretch of the mail as it was taken in, counted in octets from 0."""
        return cls._at("message", name, message.raw_source, octets, None)

    @classmethod
    def _at(cls, part: Part, name: str, source: SourceText, span: Span | None, element: int | None) -> Place:
        if span is None:
            return cls(part, name, element=element)
        return cls(part, name, source.position(span.start), source.position(span.end), element)


@dataclass(frozen=True, slots=True)
class Hit:
    """The result that a check yields: one sentence as a template over ``data``, and where.

    ``identity`` is what makes this fault the same fault elsewhere in the message and in the next revision; left out, it is the source
    at the place. Hits of one identity become one fault with all their places, so it names the thing and not where it stands.
    ``also`` are further places of this hit. ``level`` and ``fix`` override the declaration's for this hit alone.
    ``cause`` names the cause where a check tells the faults of several causes together, each in a sentence of its own (``Check.together``).
    ``among`` parts the faults of a cause further: only those of equal value are told together.
    """

    message: str
    place: Place
    data: Mapping[str, object] = field(default_factory=dict)
    identity: str | None = None
    level: Level | None = None
    fix: str | None = None
    also: tuple[Place, ...] = ()
    cause: str = ""
    among: str = ""


@dataclass(frozen=True, slots=True)
class Fault:
    """One of several faults that a finding tells together: its own sentence, mend and fingerprint.

    ``places`` is how many of the places that the finding lists are this fault's; they follow one another in the order of the faults.
    ``more`` is how many it has beyond them.
    """

    message: str
    fix: str
    fingerprint: str
    places: int
    more: int = 0


@dataclass(frozen=True, slots=True)
class Finding:
    """One fault, or all faults of one cause, with everything that the check's declaration says about them.

    ``others`` are the places besides ``place``, ``more`` how many there are beyond those that are listed. ``cause`` is a fingerprint of the
    cause where the check tells faults of one cause together, else empty. ``several`` is then the sentence that tells two of them or more.
    ``faults`` are these faults, from two on; of one, there are none.
    """

    check: str
    level: Level
    template: str
    data: Mapping[str, object]
    place: Place
    fix: str
    basis: str
    fingerprint: str
    others: tuple[Place, ...] = ()
    more: int = 0
    cause: str = ""
    several: str = ""
    faults: tuple[Fault, ...] = ()

    def listed(self, name: str) -> list[str]:
        """The list of texts that ``data`` holds under a name. The list is empty where ``data`` holds none."""
        values = self.data.get(name)
        return [str(value) for value in values] if isinstance(values, (list, tuple)) else []

    def each(self, name: str) -> list[str]:
        """Of several faults that are told together, the value that each has under a name, in the order of the faults."""
        values = self.data.get("each")
        return [str(value) for value in values.get(name, ())] if isinstance(values, dict) else []

    @property
    def places(self) -> tuple[Place, ...]:
        """Every place, the first one first."""
        return (self.place, *self.others)

    @property
    def count(self) -> int:
        """How many places there are, listed or not."""
        return len(self.others) + 1 + self.more

    @property
    def told(self) -> tuple[Fault, ...]:
        """The faults that it tells: itself, where it is one."""
        return self.faults or (Fault(self.message, self.fix, self.fingerprint, len(self.places)),)

    @property
    def members(self) -> dict[str, int]:
        """The number of places of each fault, by the fault's fingerprint; empty where the check does not group its faults."""
        if not self.cause:
            return {}
        return {fault.fingerprint: fault.places + fault.more for fault in self.faults} or {self.fingerprint: self.count}

    @property
    def fault_by_place(self) -> tuple[Fault, ...]:
        """For each of ``places`` the fault that stands there."""
        return tuple(fault for fault in self.told for _ in range(fault.places))

    @property
    def message(self) -> str:
        """The sentence for people."""
        return self.template.format(**{key: _shown(value) for key, value in self.data.items()})


@dataclass(frozen=True, slots=True)
class CheckResult:
    """The answer of one check. ``reason`` says why it cannot tell, does not apply, ran out or crashed.

    ``used`` are the circumstances that it looked at: while they stay as they are, so does the answer for the same content, unless
    nothing was looked at to the end.
    """

    check: str
    outcome: Outcome
    findings: tuple[Finding, ...] = ()
    reason: str = ""
    used: frozenset[str] = frozenset()


class CannotTell(JetwindError):
    """Raised by a check that lacks what it needs; the text says what, and is shown."""


class DoesNotApply(JetwindError):
    """Raised by a check that has nothing to look at in this message; the text says why, and is shown."""


def _shown(value: object) -> str:
    if isinstance(value, int) and not isinstance(value, bool):
        return f"{value:,}"
    if isinstance(value, float):
        return f"{value:,.1f}"
    text = " ".join(str(value).split())
    return text if len(text) <= 90 else text[:60] + " … " + text[-24:]
