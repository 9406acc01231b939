"""Sample readers as CSV (RFC 4180), vCard 4.0 (RFC 6350) or JSON (RFC 8259), read and written.

The form is told from content, never from the file's name. What is written and read again is equal, but that CSV has no way to tell an
empty value from a missing one.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from jetwind.core.errors import Unusable
from jetwind.core.message import Sample
from jetwind.core.readers import vcard
from jetwind.core.source.cells import as_csv, unguarded

#: Octets of a file of readers, readers in it, fields of one, characters of one value: far beyond what a sample has.
LARGEST_FILE, MOST_READERS, MOST_FIELDS, LONGEST_VALUE = 20_000_000, 200_000, 500, 20_000
#: Fields times readers: what choosing among them goes through.
MOST_VALUES = 1_000_000
#: The column or key that names a reader and is no field of a message.
NAME = "reader"
_SEPARATORS = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "strokes"}
_CONTROL = re.compile(r"[\x00-\x08\x0b\x0c\x0e-\x1f]")


class UnusableReaders(Unusable):
    """A file that cannot be read as readers; the text says what is wrong, and where."""


@dataclass(frozen=True, slots=True)
class ReadersFile:
    """Readers of a file, the names of their fields in order, and in what form they were found."""

    readers: tuple[Sample, ...]
    fields: tuple[str, ...]
    form: str


def read_readers(data: bytes) -> ReadersFile:
    """The readers of a file.

    Raises:
        UnusableReaders: it is too large, of no form that is known, or broken.
    """
    if len(data) > LARGEST_FILE:
        raise UnusableReaders(f"it has {len(data):,} octets; {LARGEST_FILE:,} are read")
    text, encoding = _decoded(data)
    start = text.lstrip()
    if not start:
        raise UnusableReaders("it is empty")
    if start[:12].upper().startswith("BEGIN:VCARD"):
        found, form = _of_vcards(text), "vCard"
    elif start[0] in "[{":
        found, form = _of_json(text), "JSON"
    else:
        separator = _separator(text)
        found, form = _of_csv(text, separator), f"CSV, parted by {_SEPARATORS[separator]}"
    if not found:
        raise UnusableReaders("it holds no reader")
    found = [(_clean(name), {_clean(own): value for own, value in values.items()}) for name, values in found]
    fields = tuple(dict.fromkeys(name for _, values in found for name in values))
    if len(fields) > MOST_FIELDS:
        raise UnusableReaders(f"it has {len(fields):,} fields; {MOST_FIELDS} are read")
    if len(fields) * len(found) > MOST_VALUES:
        raise UnusableReaders(f"it has {len(found):,} readers with {len(fields):,} fields; {MOST_VALUES:,} values are read")
    return ReadersFile(_named(found), fields, f"{form}, {encoding}")


def _decoded(data: bytes) -> tuple[str, str]:
    """Text and the name of its encoding: by its mark, else UTF-8 where it fits, else windows-1252, which every octet fits."""
    for mark, name in ((b"\xef\xbb\xbf", "utf-8"), (b"\xff\xfe", "utf-16-le"), (b"\xfe\xff", "utf-16-be")):
        if data.startswith(mark):
            return data[len(mark) :].decode(name, "replace"), name.upper().removesuffix("-LE").removesuffix("-BE")
    try:
        return data.decode("utf-8"), "UTF-8"
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace"), "windows-1252"


_Found = list[tuple[str, dict[str, str]]]


def _named(found: _Found) -> tuple[Sample, ...]:
    """Each with a name of its own: as given, else its address, else its number."""
    given = (
        Sample(name or values.get("email", "").strip() or f"reader {number}", values) for number, (name, values) in enumerate(found, 1)
    )
    return told_apart(list(given))


def told_apart(readers: Sequence[Sample]) -> tuple[Sample, ...]:
    """The readers, of which the second and every further one of a name is numbered."""
    taken = {reader.name for reader in readers}
    times: dict[str, int] = {}
    apart = []
    for reader in readers:
        name = own = reader.name
        times[own] = times.get(own, 0) + 1
        while times[own] > 1 and (name := f"{own} ({times[own]})") in taken:
            times[own] += 1
        taken.add(name)
        apart.append(Sample(name, reader.values))
    return tuple(apart)


def _value(value: str, place: str) -> str:
    if len(value) > LONGEST_VALUE:
        raise UnusableReaders(f"{place} has {len(value):,} characters; {LONGEST_VALUE:,} are read")
    return _clean(value)


def _clean(text: str) -> str:
    """A text that any database holds: without control characters and lone surrogates."""
    return _CONTROL.sub("", text).encode("utf-8", "replace").decode()


# CSV.


def _separator(text: str) -> str:
    """The sign that cuts the first lines into the same number of columns, the most of them; a comma where none does."""
    head = "".join(text[:100_000].splitlines(keepends=True)[:30])
    best, most = ",", 1
    for separator in _SEPARATORS:
        try:
            widths = {len(row) for row in list(csv.reader(io.StringIO(head, newline=""), delimiter=separator))[:20] if row}
        except csv.Error:
            continue
        if len(widths) == 1 and (width := widths.pop()) > most:
            best, most = separator, width
    if most == 1:
        # Rows of different lengths: the sign that the header has most of.
        header = text.lstrip().splitlines()[0]
        best = max(_SEPARATORS, key=lambda sign: (header.count(sign), sign == ","))
    return best


def _of_csv(text: str, separator: str) -> _Found:
    rows = csv.reader(io.StringIO(text, newline=""), delimiter=separator, strict=True)
    try:
        header = next((row for row in rows if any(cell.strip() for cell in row)), [])
        columns = [_CONTROL.sub("", unguarded(name)).strip() for name in header]
        if not any(columns):
            raise UnusableReaders("its first line has no names of fields")
        if len(columns) > MOST_FIELDS:
            raise UnusableReaders(f"it has {len(columns):,} fields; {MOST_FIELDS} are read")
        if twice := next((name for name, times in Counter(columns).items() if name and times > 1), None):
            raise UnusableReaders(f"two columns are named “{twice[:60]}”")
        found: _Found = []
        for row in rows:
            if not any(cell for cell in row):
                continue
            if len(row) > len(columns) and any(cell.strip() for cell in row[len(columns) :]):
                raise UnusableReaders(f"line {rows.line_num} has {len(row)} values for {len(columns)} columns")
            cells = [*row, *[""] * (len(columns) - len(row))]
            values = {name: _value(unguarded(cell), f"line {rows.line_num}") for name, cell in zip(columns, cells, strict=False) if name}
            found.append((values.pop(NAME, "").strip(), values))
            if len(found) > MOST_READERS:
                raise UnusableReaders(f"it has more than {MOST_READERS:,} readers")
    except csv.Error as fault:
        raise UnusableReaders(f"line {rows.line_num}: {fault}") from fault
    return found


# vCard.


def _of_vcards(text: str) -> _Found:
    try:
        cards = vcard.read(text)
    except vcard.BrokenCard as broken:
        raise UnusableReaders(str(broken)) from broken
    return [
        (card.name, {name: _value(value, f"card {number}") for name, value in card.values.items()}) for number, card in enumerate(cards, 1)
    ]


# JSON.


def _of_json(text: str) -> _Found:
    try:
        given = json.loads(text)
    except (ValueError, RecursionError) as fault:
        raise UnusableReaders(f"it is no JSON: {fault}") from fault
    rows = given.get("readers") if isinstance(given, dict) and "readers" in given else given
    rows = [rows] if isinstance(rows, dict) else rows
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise UnusableReaders("it is a list of readers, each a table of fields and values")
    if len(rows) > MOST_READERS:
        raise UnusableReaders(f"it has more than {MOST_READERS:,} readers")
    found: _Found = []
    for number, row in enumerate(rows, 1):
        values = dict(_flat(row, f"reader {number}"))
        found.append((values.pop(NAME, "").strip(), values))
    return found


def _flat(row: dict[str, object], place: str) -> Iterable[tuple[str, str]]:
    """Fields and values; a table inside a table gives dotted names."""
    stack: list[tuple[str, object]] = list(reversed(list(row.items())))
    while stack:
        name, value = stack.pop()
        if isinstance(value, dict):
            stack.extend((f"{name}.{inner}", one) for inner, one in reversed(list(value.items())))
        elif isinstance(value, list):
            raise UnusableReaders(f"“{name}” of {place} is a list; a field has one value")
        elif value is not None:
            text = value if isinstance(value, str) else json.dumps(value)
            yield name, _value(text, f"“{_clean(name)[:60]}” of {place}")


# Writing.


def _as_csv(readers: Sequence[Sample]) -> str:
    fields = tuple(dict.fromkeys(name for reader in readers for name in reader.values))
    return as_csv((NAME, *fields), ((reader.name, *(reader.values.get(name, "") for name in fields)) for reader in readers))


def _as_json(readers: Sequence[Sample]) -> str:
    return json.dumps({"readers": [{NAME: reader.name, **reader.values} for reader in readers]}, ensure_ascii=False, indent=1) + "\n"


def _as_vcards(readers: Sequence[Sample]) -> str:
    return "".join(vcard.written(vcard.Card(reader.name, dict(reader.values))) for reader in readers)


#: Forms that are written: by ending, the media type and what writes it.
FORMATS: dict[str, tuple[str, Callable[[Sequence[Sample]], str]]] = {
    "csv": ("text/csv; charset=utf-8; header=present", _as_csv),
    "vcf": ("text/vcard; charset=utf-8", _as_vcards),
    "json": ("application/json", _as_json),
}


def written(readers: Sequence[Sample], form: str) -> bytes:
    """Readers as a file of a form, one of ``FORMATS``, in UTF-8."""
    return FORMATS[form][1](readers).encode("utf-8", "replace")
