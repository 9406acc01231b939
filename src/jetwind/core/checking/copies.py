"""The message as its sample readers get it, one copy for each outcome that differs, for checks that depend on merged text."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from jetwind.core.checking.field_texts import Use, field_texts, uses
from jetwind.core.checking.finding import Finding, Place
from jetwind.core.checking.merged import named, past_limit_of
from jetwind.core.fields import fields_read
from jetwind.core.message import Message, Sample, Shared
from jetwind.core.readers import AsReader, as_reader, fewest
from jetwind.core.source import Span

_COPIES: Shared[list[ReadersCopy]] = Shared("copies")

#: Copies of one message that are looked at: those that differ most.
MOST_COPIES = 8
#: Characters of HTML, and fields and block tags, that all copies together have; of a large message fewer copies are looked at.
_MOST_CHARACTERS, _MOST_FILLED = 1_000_000, 20_000
#: Where a value may change what these checks see; in the midst of copy it changes words alone.
_TELLING = frozenset({"address", "alt", "attribute", "tag", "style", "header"})
#: A number, a code, a word: in an attribute one is as good as another, but for those that no finished message holds.
_ORDINARY = re.compile(r"(?!.*(?:todo|tbd|xxx|test|example|invalid|localhost|image|picture))[A-Za-z0-9-]{1,40}\Z", re.IGNORECASE)


@dataclass(frozen=True)
class ReadersCopy:
    """A merged message and the readers who get it. A field that is empty and has no default stays as it is written, an unknown value."""

    merged: AsReader
    readers: tuple[str, ...]

    def place_in_source(self, message: Message, place: Place) -> Place:
        """A place of this copy in the message that it was merged from."""
        if place.start is None or place.end is None or place.part not in ("html", "text"):
            return Place(place.part, place.name)
        traced = self.merged.html if place.part == "html" else self.merged.text
        span = traced.source_of(Span(place.start.offset, place.end.offset)) if traced is not None else None
        if place.part == "html" and message.document is not None and span is not None:
            return Place.in_html(message, span, message.document.element_before(span.start))
        return Place.in_text(message, span) if place.part == "text" and message.text is not None else Place(place.part, place.name)


def readers_copies(message: Message, readers: Sequence[Sample]) -> list[ReadersCopy]:
    """The copies that differ in what a block shows or an attribute holds; none where nothing of the kind depends on the reader."""
    digest = hashlib.sha256(repr([(reader.name, sorted(reader.values.items())) for reader in readers]).encode("utf-8", "surrogatepass"))
    return message.shared(_COPIES.of(digest.hexdigest()), lambda: _made(message, readers))


def _made(message: Message, readers: Sequence[Sample]) -> list[ReadersCopy]:
    deciding = _names(message, [use for use in uses(message) if use.token.is_block])
    names = dict.fromkeys((*deciding, *_names(message, [use for use in uses(message) if use.kind in _TELLING])))
    if not names or any(past_limit_of(message, text, readers) for text in field_texts(message)):
        return []

    def told(name: str, value: str | None) -> str | None:
        return "a word" if value and name not in deciding and _ORDINARY.match(value) else value

    groups: dict[tuple[str | None, ...], list[Sample]] = {}
    for reader in readers:
        groups.setdefault(tuple(told(name, reader.values.get(name)) for name in names), []).append(reader)
    alike = list(groups.values())
    most = _most_copies(message)
    if len(alike) > most:
        telling = [Sample(group[0].name, {name: value for name, value in group[0].values.items() if name in names}) for group in alike]
        alike = [alike[number] for number in fewest(telling, most)]
    return [ReadersCopy(as_reader(message, group[0], keep_unknown=True), tuple(reader.name for reader in group)) for group in alike]


def _most_copies(message: Message) -> int:
    length = len(message.html.text) if message.html is not None else 0
    return max(1, min(MOST_COPIES, _MOST_CHARACTERS // max(1, length), _MOST_FILLED // max(1, len(uses(message)))))


def _names(message: Message, found: Iterable[Use]) -> dict[str, None]:
    return dict.fromkeys(name for use in found for name in fields_read(use.token, message.syntax))


def told_of_copies(found: Iterable[tuple[ReadersCopy, Finding]], message: Message, own: Sequence[Finding]) -> Iterable[Finding]:
    """Findings of copies that the message itself does not have, one for what stands there, with its places and the readers it touches.

    ``own`` are the message's own: what they tell, or tell of the same place, is not told again. The sentence is that of the first copy.
    """
    known = {finding.fingerprint for finding in own}
    places = {_where(place) for finding in own for place in finding.places}
    groups: dict[tuple[str, str, str], list[tuple[ReadersCopy, Finding, Place]]] = {}
    for copy, finding in found:
        place = copy.place_in_source(message, finding.place)
        if finding.fingerprint not in known and _where(place) not in places:
            groups.setdefault((finding.check, place.part, _written(message, place)), []).append((copy, finding, place))
    for key, group in groups.items():
        finding = group[0][1]
        readers = list(dict.fromkeys(name for copy, _, _ in group for name in copy.readers))
        first, *others = dict.fromkeys(place for _, _, place in group)
        yield replace(
            finding,
            template="For {merged_for}: " + finding.template[:1].lower() + finding.template[1:],
            data={**finding.data, "merged_for": named(readers), "readers": named(readers)},
            place=first,
            others=tuple(others),
            more=0,
            fingerprint=hashlib.sha256("\0".join((*key, "copies")).encode("utf-8", "surrogatepass")).hexdigest()[:16],
        )


def _written(message: Message, place: Place) -> str:
    """The source at a place of the message, by which the same fault is known elsewhere in it."""
    source = message.source_of(place.part)
    if source is None or place.start is None or place.end is None:
        return place.name
    return " ".join(source.text[place.start.offset : place.end.offset].split())


def _where(place: Place) -> tuple[str, str, int | None]:
    return place.part, place.name, place.start.offset if place.start is not None else None
