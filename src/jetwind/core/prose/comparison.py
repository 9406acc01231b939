"""Two messages held against each other: envelope, text, source, and the facts that usually change."""

from __future__ import annotations

import difflib
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

from jetwind.core.prose.alignment import Pair, align, html_sentences, text_sentences
from jetwind.core.prose.reading import reading_of

if TYPE_CHECKING:
    from jetwind.core.message.model import Message

#: Beyond this many lines the source of a hostile message is compared no further.
MOST_LINES = 20_000
#: Lines shown around a change.
_AROUND = 2


@dataclass(frozen=True, slots=True)
class EnvelopeChange:
    """One thing of the envelope, before and after."""

    name: str
    before: str
    after: str

    @property
    def is_same(self) -> bool:
        """Whether nothing changed but spacing."""
        return self.before.split() == self.after.split()


@dataclass(frozen=True, slots=True)
class Line:
    """A line of a source difference: its numbers on both sides (None where it is missing), and its text."""

    kind: Literal["same", "gone", "new", "gap"]
    before: int | None
    after: int | None
    text: str


def envelope_changes(before: Message, after: Message) -> list[EnvelopeChange]:
    """Subject, variants, sender, reply address and preview text, before and after."""
    rows = [EnvelopeChange("Subject", before.subject, after.subject)]
    rows += [
        EnvelopeChange(name, _header(before, name), _header(after, name))
        for name in ("From", "Reply-To", "To", "List-Unsubscribe")
        if _header(before, name) or _header(after, name)
    ]
    rows.append(EnvelopeChange("Preview text", reading_of(before).preview_text, reading_of(after).preview_text))
    for number in range(max(len(before.variants), len(after.variants))):
        pair = (message.variants[number] if number < len(message.variants) else "" for message in (before, after))
        rows.append(EnvelopeChange(f"Subject variant {number + 1}", *pair))
    return rows


def _header(message: Message, name: str) -> str:
    return ", ".join(header.value for header in message.header_fields(name))


def text_changes(before: Message, after: Message) -> list[Pair]:
    """The sentences of the visible copy in rows: in a pair ``html`` is the sentence before, ``text`` the one after."""
    one = html_sentences(before) or text_sentences(before)
    other = html_sentences(after) or text_sentences(after)
    return align(one, other)


def source_changes(before: str, after: str) -> Iterator[Line]:
    """The lines that differ, with two lines around each change; a gap stands for what is left out."""
    left, right = before.splitlines()[:MOST_LINES], after.splitlines()[:MOST_LINES]
    matcher = difflib.SequenceMatcher(None, left, right)
    first = True
    for group in matcher.get_grouped_opcodes(_AROUND):
        if not first or group[0][1] > 0:
            yield Line("gap", None, None, "")
        first = False
        for tag, i1, i2, j1, j2 in group:
            if tag == "equal":
                for offset in range(i2 - i1):
                    yield Line("same", i1 + offset + 1, j1 + offset + 1, left[i1 + offset])
                continue
            for number in range(i1, i2):
                yield Line("gone", number + 1, None, left[number])
            for number in range(j1, j2):
                yield Line("new", None, number + 1, right[number])
