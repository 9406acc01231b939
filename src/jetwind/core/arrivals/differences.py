"""The differences between a copy and its arrival, as values that are kept."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from jetwind.core.source.plain import as_table, read

#: The kinds of differences; each is a check, ``sending.arrival-`` and the kind.
DifferenceKind = Literal[
    "part-lost",
    "text-changed",
    "link-rewritten",
    "picture-lost",
    "header-lost",
    "style-lost",
    "added-content",
    "signature-broken",
    "papers-fail",
    "late",
    "doubled",
]
#: The part that a difference concerns.
DifferencePart = Literal["subject", "HTML", "plain text", "header", "message"]


@dataclass(frozen=True, slots=True)
class Difference:
    """One difference. ``template`` with ``data`` is the sentence for people; ``before`` and ``after`` are the two sides as they are written.

    ``copy_at`` and ``arrival_at`` are the stretches of the decoded part on both sides, in characters from its start; None where a side has
    no such place. ``is_stop`` says that it weighs more than its kind does. ``identity`` is what makes it the same difference elsewhere.
    """

    kind: DifferenceKind
    part: DifferencePart
    template: str
    data: Mapping[str, str | int] = field(default_factory=dict)
    before: str = ""
    after: str = ""
    copy_at: tuple[int, int] | None = None
    arrival_at: tuple[int, int] | None = None
    is_stop: bool = False
    identity: str = ""

    @property
    def sentence(self) -> str:
        """The sentence for people."""
        return self.template.format(**self.data)


@dataclass(frozen=True, slots=True)
class Compared:
    """A copy and its arrivals: for which recipient it was, how often it arrived, and what differs in the newest arrival."""

    recipient: str
    arrivals: int
    differences: tuple[Difference, ...] = ()

    def as_json(self) -> dict[str, object]:
        """The comparison as plain values."""
        return as_table(self)

    @classmethod
    def from_json(cls, kept: Mapping[str, object]) -> Compared:
        """The comparison that ``as_json`` gave.

        Raises:
            Unfit: something else was kept.
        """
        return read(kept, cls)


@dataclass(frozen=True)
class Arrivals:
    """Every copy of a revision that arrived, compared."""

    compared: tuple[Compared, ...]

    @property
    def key(self) -> str:
        """One value for all of it, equal for equal comparisons."""
        return hashlib.sha256(json.dumps([one.as_json() for one in self.compared], sort_keys=True).encode()).hexdigest()
