"""What the author of a message is asked to change: as Markdown, as a table, and as a mail."""

from __future__ import annotations

import base64
import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from jetwind.core.arrivals.note import MailHead, machine_mail, put_text
from jetwind.core.source import cells

COLUMNS = ("number", "level", "station", "what", "where", "line", "column", "characters", "why", "how to mend", "comments", "ticked")
#: Octets of pictures that a mail carries.
MOST_OF_MAIL = 5_000_000
#: The punctuation that may mean something anywhere in a line of Markdown, and at its beginning (CommonMark 0.31, §4 to §6); a backslash
#: keeps any of it text (§2.4).
_PUNCTUATION = re.compile(r"([\\`*_\[\]<>&~|#])")
_BEGINNING = re.compile(r"^([-+=]|\d{1,9}(?=[.)]))")


@dataclass(frozen=True, slots=True)
class InstructionPlace:
    """A place of an instruction: in words, with line and column from 1 (None outside of a source), and the exact characters there.

    ``fault`` says what is wrong at this place, where an instruction tells several faults together; else it is empty.
    """

    where: str
    line: int | None
    column: int | None
    characters: str
    fault: str = ""


@dataclass(frozen=True, slots=True)
class Instruction:
    """One thing to change. ``level`` is stop, fix, note or comment; ``said`` are comments, each with the name of who made it.

    ``more`` counts places that are not listed. ``picture`` is a PNG of the place.
    """

    number: int
    level: str
    station: str
    what: str
    why: str = ""
    fix: str = ""
    places: tuple[InstructionPlace, ...] = ()
    more: int = 0
    said: tuple[tuple[str, str], ...] = ()
    picture: bytes | None = None
    is_ticked: bool = False


@dataclass(frozen=True, slots=True)
class InstructionSheet:
    """All instructions of one sending back; ``words`` are those of the person who sent the message back."""

    title: str
    revision: int
    by: str
    at: str
    words: str
    instructions: tuple[Instruction, ...]


def as_markdown(sheet: InstructionSheet) -> str:
    """A sheet as one file of Markdown (CommonMark 0.31); pictures stand in it as data addresses, at its end."""
    lines = [
        f"# {_plain(sheet.title)}, revision {sheet.revision}",
        "",
        f"Sent back by {_plain(sheet.by)}, {_plain(sheet.at)}.",
        "",
        *_paragraphs(sheet.words),
    ]
    pictures = []
    for one in sheet.instructions:
        lines += _of_one(one)
        if one.picture is not None:
            lines += [f"![The place of {one.number}][place-{one.number}]", ""]
            pictures.append(f"[place-{one.number}]: data:image/png;base64,{base64.b64encode(one.picture).decode()}")
    return "\n".join([*lines, *pictures]).rstrip("\n") + "\n"


def _of_one(one: Instruction) -> Iterator[str]:
    tick = "x" if one.is_ticked else " "
    yield f"## {one.number}\\. {_plain(one.what)}"
    yield ""
    yield f"- [{tick}] {one.level.capitalize()}, {_plain(one.station)}"
    yield ""
    for place in one.places:
        yield f"{_plain(place.where)}{f': {_plain(place.fault)}' if place.fault else ''}"
        yield ""
        if place.characters:
            yield from _fenced(place.characters)
    if one.more:
        yield f"{one.more} {'place' if one.more == 1 else 'places'} more."
        yield ""
    for label, words in (("Why", one.why), ("How to mend it", one.fix)):
        if words:
            yield f"**{label}:** {_plain(words)}"
            yield ""
    for name, words in one.said:
        yield f"**{_plain(name)}:**"
        yield ""
        yield from _paragraphs(words)


def _plain(text: str) -> str:
    """A text as one line of Markdown in which nothing is markup."""
    shown = _PUNCTUATION.sub(r"\\\1", " ".join(text.split()))
    return _BEGINNING.sub(lambda found: f"{found[1]}\\" if found[1].isdigit() else f"\\{found[1]}", shown)


def _paragraphs(words: str) -> Iterator[str]:
    """The lines of a person's words, each broken where the person broke it (CommonMark 0.31, §6.7)."""
    lines = [_plain(line) for line in words.splitlines()]
    for number, line in enumerate(lines):
        is_broken = line and number + 1 < len(lines) and lines[number + 1]
        yield f"{line}\\" if is_broken else line
    yield ""


def _fenced(characters: str) -> Iterator[str]:
    """Source as it stands, in a fence longer than any in it (CommonMark 0.31, §4.5)."""
    longest = max((len(run) for run in re.findall("`+", characters)), default=0)
    fence = "`" * max(3, longest + 1)
    yield fence
    yield characters
    yield fence
    yield ""


def as_table(sheet: InstructionSheet) -> str:
    """A sheet as CSV, a row for each place."""
    return cells.as_csv(COLUMNS, (row for one in sheet.instructions for row in _rows(one)))


def _rows(one: Instruction) -> Iterator[list[object]]:
    said = "\n".join(f"{name}: {words}" for name, words in one.said)
    for place in one.places or (InstructionPlace("", None, None, ""),):
        what = f"{one.what} {place.fault}".strip()
        at = (place.where, place.line or "", place.column or "", place.characters)
        yield [one.number, one.level, one.station, what, *at, one.why, one.fix, said, "yes" if one.is_ticked else "no"]


def compose_instructions(sheet: InstructionSheet, head: MailHead, page: str) -> bytes:
    """A sheet as a mail: its words as plain text, and a picture of each place as far as 5 MB go. ``page`` is the address of its page.

    Raises:
        ValueError: an address or the Message-ID holds a line break.
    """
    mail = machine_mail(head, f"Sent back: {sheet.title}, revision {sheet.revision}")
    carried, left = _pictures(sheet.instructions)
    put_text(mail, _as_text(sheet, page, carried, left))
    for one in carried:
        mail.add_attachment(one.picture or b"", maintype="image", subtype="png", filename=f"place-{one.number}.png")
    return mail.as_bytes()


def _pictures(instructions: Sequence[Instruction]) -> tuple[list[Instruction], int]:
    """The instructions whose picture a mail carries, and how many pictures it leaves out."""
    carried, octets, left = [], 0, 0
    for one in instructions:
        if one.picture is None:
            continue
        if octets + len(one.picture) > MOST_OF_MAIL:
            left += 1
        else:
            carried.append(one)
            octets += len(one.picture)
    return carried, left


def _as_text(sheet: InstructionSheet, page: str, carried: Sequence[Instruction], left: int) -> list[str]:
    lines = [f"{sheet.by} sent “{' '.join(sheet.title.split())}”, revision {sheet.revision}, back to you.", "", sheet.words, ""]
    lines += ["Tick off what is done on this page:", page, ""]
    for one in sheet.instructions:
        lines += [f"{one.number}. {one.level.capitalize()}, {one.station}: {one.what}"]
        for place in one.places:
            lines.append(f"   {place.where}{f': {place.fault}' if place.fault else ''}")
            lines += [f"   | {line}" for line in place.characters.splitlines()]
        if one.more:
            lines.append(f"   {one.more} {'place' if one.more == 1 else 'places'} more.")
        lines += [f"   {label}: {words}" for label, words in (("Why", one.why), ("How to mend it", one.fix)) if words]
        for name, words in one.said:
            lines.append(f"   {name}: " + "\n      ".join(words.splitlines()))
        if one in carried:
            lines.append(f"   The picture place-{one.number}.png shows the place.")
        lines.append("")
    if left:
        lines += [f"{left} {'picture is' if left == 1 else 'pictures are'} left out, which the page shows.", ""]
    return lines
