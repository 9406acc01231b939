"""The fields of a message over all sample readers: a grid, the conditional parts, the fewest readers that show all, one reader's copy."""

from __future__ import annotations

import html
import re
from collections import defaultdict
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Literal

from jetwind.core.checking.field_texts import Use, field_texts, uses
from jetwind.core.checking.merged import Brought, MergedFacts, merged_facts
from jetwind.core.facts import phrase_set
from jetwind.core.fields import Merged, fields_read, merge
from jetwind.core.message import Message, Sample
from jetwind.core.prose.reading import reading_of
from jetwind.core.readers import as_reader, cover

State = Literal["filled", "default", "empty", "too long", "unknown", "not shown"]
#: How bad a cell is; rows stand in the order of their sum.
_WEIGHT = {"empty": 100, "too long": 30, "default": 3, "not shown": 1, "filled": 0, "unknown": 0}
_SHOWN_VALUE = 200
#: Lines of a copy, and changed places, that are shown.
MOST_LINES, MOST_CHANGES = 400, 300
_BEGINS, _ENDS, _ZERO = "\ue001", "\ue002", 0xE010
_MARKED = re.compile(f"{_BEGINS}([{chr(_ZERO)}-{chr(_ZERO + 9)}]*)(.*?){_ENDS}", re.DOTALL)


@dataclass(frozen=True, slots=True)
class Cell:
    """The part that a field plays for a reader, and the text that the field becomes."""

    state: State
    text: str = ""


@dataclass(frozen=True, slots=True)
class Column:
    """A field: where it is used, its default, its longest and its shortest text with whose they are."""

    name: str
    places: tuple[str, ...]
    default: str | None
    longest: tuple[str, str]
    shortest: tuple[str, str]
    is_known: bool


@dataclass(frozen=True, slots=True)
class Row:
    """A reader and the cells of the columns."""

    reader: str
    cells: tuple[Cell, ...]

    @property
    def weight(self) -> int:
        """The weight of all faults of this reader's copy."""
        return sum(_WEIGHT[cell.state] for cell in self.cells)

    @property
    def told(self) -> str:
        """The fault, in words."""
        counts = [(state, sum(cell.state == state for cell in self.cells)) for state in ("empty", "too long", "default")]
        return ", ".join(f"{count} {state}" for state, count in counts if count)


@dataclass(frozen=True, slots=True)
class PartRow:
    """A part of a block: how deep it stands, its tag, where, and who is shown it."""

    depth: int
    says: str
    where: str
    readers: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class MadePlace:
    """A place of one reader's copy that a field or a block made: the field as written, what came of it, and where."""

    number: int
    written: str
    made: str
    where: str


@dataclass(frozen=True, slots=True)
class ReadersCopyShown:
    """One reader's copy. Each line is a list of texts, each with the number of the change that made it, 0 for the source's own words."""

    reader: str
    sender: str
    subject: str
    preview: str
    lines: tuple[tuple[tuple[str, int], ...], ...]
    changes: tuple[MadePlace, ...]
    is_cut: bool


@dataclass(frozen=True, slots=True)
class FieldOverview:
    """Everything about a message's fields. ``fewest`` are the readers who together show every part, every hole and every extreme.

    ``told`` are sentences about what could not be merged.
    """

    columns: tuple[Column, ...]
    rows: tuple[Row, ...]
    parts: tuple[PartRow, ...]
    fewest: tuple[str, ...]
    copy: ReadersCopyShown | None
    told: tuple[str, ...] = ()


def field_overview(
    message: Message, readers: Sequence[Sample], known: Collection[str] | None, wide: Collection[tuple[str, str]] = (), chosen: str = ""
) -> FieldOverview:
    """The grid with the worst reader first, and the copy of the ``chosen`` reader, else of the worst.

    ``known`` is the field list, ``wide`` are fields and readers whose value a render found too long for its place.
    """
    facts = merged_facts(message, readers)
    names = list(dict.fromkeys(name for use in uses(message) for name in _named(use, message)))
    system = phrase_set("phrases", "system_fields")
    listed = None if known is None else frozenset(known) | system
    columns = tuple(_column(name, message, facts, listed) for name in names)
    too_long = {*wide, *_too_long(facts)}
    states = _states(facts)
    rows = [Row(reader.name, tuple(_cell(column, reader, states, too_long) for column in columns)) for reader in readers]
    rows.sort(key=lambda row: -row.weight)
    parts = tuple(PartRow(depth, part.says, text.where, shown) for text, depth, part, shown in facts.parts)
    numbers = {reader.name: number for number, reader in enumerate(readers)}
    fewest = cover(_shows(columns, rows, parts, numbers), len(readers)) if columns or parts else []
    names_of = [reader.name for reader in readers]
    whom = next((reader for reader in readers if reader.name == chosen), None)
    if whom is None and rows:
        whom = readers[numbers[rows[0].reader]]
    copy = _copy(message, whom) if whom is not None and not facts.too_costly else None
    return FieldOverview(
        columns, tuple(rows), parts=parts, fewest=tuple(names_of[number] for number in fewest), copy=copy, told=tuple(_told(facts))
    )


def _named(use: Use, message: Message) -> list[str]:
    return fields_read(use.token, message.syntax)


def _column(name: str, message: Message, facts: MergedFacts, listed: frozenset[str] | None) -> Column:
    places = tuple(dict.fromkeys(_where(use) for use in uses(message) if name in _named(use, message)))
    default = next((use.token.default for use in uses(message) if use.token.name == name and use.token.default is not None), None)
    brought = [one for one in facts.brought if one.use.token.name == name]
    longest = max(brought, key=lambda one: len(one.made), default=None)
    shortest = min(brought, key=lambda one: len(one.made), default=None)
    is_known = listed is None or name in listed or name.partition(".")[0] in listed
    return Column(name, places, default=default, longest=_of_whom(longest), shortest=_of_whom(shortest), is_known=is_known)


def _of_whom(brought: Brought | None) -> tuple[str, str]:
    return (_as_read(brought)[:_SHOWN_VALUE], brought.readers[0]) if brought is not None else ("", "")


def _as_read(brought: Brought) -> str:
    """The text that a field brought, in the characters that a reader sees of it."""
    return html.unescape(brought.made) if brought.use.text.is_html else brought.made


def _where(use: Use) -> str:
    start = use.place.start
    return f"{use.where}, line {start.line}" if start is not None and use.place.part in ("html", "text") else use.where


def _too_long(facts: MergedFacts) -> Iterator[tuple[str, str]]:
    """Fields and readers whose value is what makes a subject longer than an inbox row shows."""
    for where, copies in facts.copies.items():
        if not where.startswith("subject"):
            continue
        lengths = [len(copy) for copy, _ in copies]
        for copy, names in copies:
            if len(copy) > _SUBJECT >= min(lengths):
                for reader in names:
                    own = [one for one in facts.brought if one.use.text.where == where and reader in one.readers]
                    longest = max(own, key=lambda one: len(one.made), default=None)
                    if longest is not None and longest.use.token.name:
                        yield longest.use.token.name, reader


#: As envelope.subject-long has it by default.
_SUBJECT = 60


def _states(facts: MergedFacts) -> dict[tuple[str, str], list[tuple[str, str]]]:
    """For each field and reader, what it came to at each place: ``empty``, ``default`` or ``filled``, and the text."""
    found: dict[tuple[str, str], list[tuple[str, str]]] = defaultdict(list)
    for one in facts.empty:
        for reader in one.readers:
            found[one.use.token.name or "", reader].append(("empty" if one.use.token.default is None else "default", ""))
    for one in facts.brought:
        for reader in one.readers:
            found[one.use.token.name or "", reader].append(("filled", _as_read(one)))
    return found


def _cell(
    column: Column,
    reader: Sample,
    states: dict[tuple[str, str], list[tuple[str, str]]],
    too_long: Collection[tuple[str, str]],
) -> Cell:
    found = states.get((column.name, reader.name), [])
    value = reader.values.get(column.name, "")
    made = next((text for state, text in found if state == "filled"), "")
    if not column.is_known:
        return Cell("unknown", value[:_SHOWN_VALUE])
    if any(state == "empty" for state, _ in found):
        is_system = column.name in phrase_set("phrases", "system_fields")
        return Cell("not shown", "filled on sending") if is_system and column.name not in reader.values else Cell("empty")
    if not found:
        return Cell("not shown", value[:_SHOWN_VALUE])
    if (column.name, reader.name) in too_long:
        return Cell("too long", made[:_SHOWN_VALUE])
    return Cell("default" if not value.strip() else "filled", made[:_SHOWN_VALUE])


def _shows(
    columns: Sequence[Column], rows: Sequence[Row], parts: Sequence[PartRow], numbers: dict[str, int]
) -> Iterator[tuple[tuple[str, ...], int]]:
    """The parts that each reader sees, and of each field an empty one, a default, and the longest and shortest text."""
    for number, part in enumerate(parts):
        for reader in part.readers:
            yield ("part", str(number)), numbers[reader]
    for row in rows:
        for column, cell in zip(columns, row.cells, strict=True):
            if cell.state != "not shown":
                yield (column.name, cell.state), numbers[row.reader]
    for column in columns:
        for text, reader in (column.longest, column.shortest):
            if reader:
                yield (column.name, "extreme", text), numbers[reader]


def _told(facts: MergedFacts) -> Iterator[str]:
    for where in facts.too_costly:
        yield f"The {where} asks for too much to be merged; fields.past-limit says for what."
    for where in facts.untraced:
        yield f"The {where} looks at its own words, so that it cannot be told what came from where."
    if facts.left_out:
        yield f"The message is long: the last {facts.left_out:,} readers were left out."


def _copy(message: Message, reader: Sample) -> ReadersCopyShown:
    """The copy of one reader, with what fields and blocks made of it numbered."""
    merged = as_reader(message, reader)
    changes = list(_changes(message, reader))
    numbers = {(change.where, start): change.number for change, start in changes}
    lines, is_cut = _lines(message, merged.html if message.html is not None else merged.text, numbers)
    reading = reading_of(merged.message)
    box = next(iter(merged.message.mailboxes("From")), None)
    preview = " ".join(piece.text for piece in reading.inbox_pieces(160))
    sender = (box.name or box.address) if box is not None else "no sender"
    shown = tuple(change for change, _ in changes[:MOST_CHANGES])
    return ReadersCopyShown(
        reader.name, sender, subject=merged.message.subject, preview=preview, lines=tuple(lines), changes=shown, is_cut=is_cut
    )


def _changes(message: Message, reader: Sample) -> Iterator[tuple[MadePlace, int]]:
    """Every field that is reached, in the order of the texts, with its start in its text."""
    number = 0
    by_place = {(id(use.text), use.token.span.start): use for use in uses(message)}
    for text in field_texts(message):
        merged = merge(text.text, reader.values, escape=False, syntax=message.syntax)
        seen: set[int] = set()
        for piece in sorted((*merged.filled, *merged.empty), key=lambda piece: (piece.start, piece.source.start)):
            if piece.token is None or piece.token.name is None or piece.source.start in seen:
                continue
            seen.add(piece.source.start)
            number += 1
            use = by_place[id(text), piece.source.start]
            made = merged.text[piece.start : piece.end][:_SHOWN_VALUE]
            yield MadePlace(number, piece.token.source, made, _where(use)), piece.source.start


def _lines(message: Message, merged: Merged | None, numbers: dict[tuple[str, int], int]) -> tuple[list[tuple[tuple[str, int], ...]], bool]:
    """The visible copy, line by line, cut where a field made it: marks go through the HTML with the values and are taken out again."""
    part = message.html or message.text
    if merged is None or part is None:
        return [], False
    by_start = {use.token.span.start: use for use in uses(message) if use.text.is_html == (message.html is not None) and use.kind == "copy"}
    texts: list[str] = []
    for piece in sorted((*merged.pieces, *merged.empty), key=lambda piece: (piece.start, piece.end)):
        use = by_start.get(piece.source.start) if piece.token is not None and piece.token.name is not None else None
        text = merged.text[piece.start : piece.end]
        if use is not None:
            number = numbers.get((_where(use), piece.source.start), 0)
            text = f"{_BEGINS}{''.join(chr(_ZERO + int(digit)) for digit in str(number))}{text}{_ENDS}"
        texts.append(text)
    whole = "".join(texts) if merged.pieces else merged.text
    marked = (
        replace(message, html=replace(part, text=whole), text=None)
        if message.html is not None
        else replace(message, text=replace(part, text=whole))
    )
    shown = reading_of(marked).visible_text if message.html is not None else whole
    lines = shown.splitlines()
    return [tuple(_cut(line)) for line in lines[:MOST_LINES] if line.strip()], len(lines) > MOST_LINES


def _cut(line: str) -> Iterator[tuple[str, int]]:
    end = 0
    for match in _MARKED.finditer(line):
        if match.start() > end:
            yield _bare(line[end : match.start()]), 0
        yield _bare(match[2]), int("".join(str(ord(digit) - _ZERO) for digit in match[1]) or 0)
        end = match.end()
    if line[end:]:
        yield _bare(line[end:]), 0


def _bare(text: str) -> str:
    return re.sub("[\ue001\ue002\ue010-\ue019]", "", text)
