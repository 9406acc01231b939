"""As whom a revision is rendered: a sample reader's copy, or the message as it is written."""

from __future__ import annotations

import hashlib
import html
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from jetwind.apps.intake.models import Revision
from jetwind.apps.intake.selectors import message_of
from jetwind.apps.review.questions import readers_of
from jetwind.core.message import Message, Sample, Shared
from jetwind.core.readers import longest

_FIELD_WORDS: Shared[frozenset[str]] = Shared("words of fields")
_HAS_FIELDS: Shared[bool] = Shared("has fields")
_LONGEST: Shared[Sample | None] = Shared("longest")

#: In an address: the message with its fields as they are written.
AS_WRITTEN = "*"
_WORD = re.compile(r"[^\W\d][\w-]*")


@dataclass(frozen=True, slots=True)
class AsWhom:
    """A reader by name, empty for the message as it is written; ``made_for`` covers the values and the syntax that the copy hangs on."""

    name: str = ""
    made_for: str = ""
    sample: Sample | None = None

    def of(self, rows: Sequence[Mapping[str, Any]]) -> list[Mapping[str, Any]]:
        """Those renders of a table that show this copy as it would be now."""
        return [row for row in rows if row["reader"] == self.name and row["made_for"] == self.made_for]

    @property
    def here(self) -> dict[str, str]:
        """The same condition, as a query of the database."""
        return {"reader": self.name, "made_for": self.made_for}


def as_whom(revision: Revision, name: str = "") -> AsWhom:
    """The reader of that name; without one, or where there is none of it, the one that is measured: chosen for the message, or the longest."""
    message = message_of(revision)
    if name == AS_WRITTEN or not has_fields(message):
        return AsWhom()
    readers = readers_of(revision)
    by_name = {reader.name: reader for reader in readers}
    chosen = by_name.get(name) or by_name.get(revision.mailing.measured_as) or _longest(message, readers)
    if chosen is None:
        return AsWhom()
    used = _words(message)
    values = sorted((field, value) for field, value in chosen.values.items() if field.partition(".")[0] in used)
    digest = hashlib.sha256(repr((values, message.syntax)).encode("utf-8", "surrogatepass")).hexdigest()
    return AsWhom(chosen.name, digest, chosen)


def whom_of(revision_id: int, name: str = "") -> AsWhom:
    """The same by the revision's number, to be asked of the workbench: which copy is longest takes filling all of them."""
    return as_whom(Revision.objects.select_related("mailing__workspace", "mailing__syntax").get(pk=revision_id), name)


def reader_choices(revision: Revision, chosen: AsWhom) -> list[tuple[str, str, bool]]:
    """As whom the renders may be shown: what an address says of it, its name, whether it is chosen; none where nothing hangs on it."""
    if not has_fields(message_of(revision)):
        return []
    first = as_whom(revision)
    names = [reader.name for reader in readers_of(revision) if reader.name != first.name]
    why = "measured" if first.name == revision.mailing.measured_as else "longest copy, measured"
    readers = [("", f"{first.name} ({why})", chosen == first)] if first.name else []
    return [*readers, *((name, name, name == chosen.name) for name in names), (AS_WRITTEN, "Fields as written", not chosen.name)]


def has_fields(message: Message) -> bool:
    """Whether the HTML of a message differs from reader to reader."""
    part = message.html
    return part is not None and message.shared(_HAS_FIELDS, lambda: any(True for _ in message.syntax.tokens(part.text)))


def _longest(message: Message, readers: Sequence[Sample]) -> Sample | None:
    key = hashlib.sha256(repr([(reader.name, sorted(reader.values.items())) for reader in readers]).encode("utf-8", "surrogatepass"))
    return message.shared(_LONGEST.of(key.hexdigest()), lambda: longest(message, readers))


def _words(message: Message) -> frozenset[str]:
    """Every word in a token of the HTML: a field that is none of them makes no difference."""
    part = message.html
    if part is None:
        return frozenset()
    return message.shared(
        _FIELD_WORDS,
        lambda: frozenset(word for token in message.syntax.tokens(part.text) for word in _WORD.findall(html.unescape(token.source))),
    )
