"""The Envelope station: inbox rows as drawings, where each of them cuts, what an inbox would preview."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from jetwind.apps.intake.selectors import message_of
from jetwind.apps.intake.services import shown_envelope
from jetwind.apps.review.frame import Frame
from jetwind.apps.review.station_page import StationPage
from jetwind.apps.ui.given import whole_number
from jetwind.apps.ui.merging import as_shown
from jetwind.apps.workspace.access import PersonRequest
from jetwind.core.checking import Context
from jetwind.core.fields import fill
from jetwind.core.message import Envelope, Message, Sample
from jetwind.core.profiles.inbox import ROWS, Drawn, InboxRow, draw
from jetwind.core.prose.reading import reading_of

#: How much of the preview text is taken apart, in characters: no row shows more.
PREVIEWED = 140


@dataclass(frozen=True, slots=True)
class RowDrawing:
    """A row with its lines; ``ticks`` are the places of the ruler in px."""

    row: InboxRow
    lines: list[Drawn]

    @property
    def ticks(self) -> list[int]:
        """A tick each 100 px."""
        return list(range(0, self.row.width + 1, 100))

    @property
    def height(self) -> int:
        """The row with its ruler, in px."""
        return self.row.height + 22

    @property
    def cuts(self) -> list[tuple[Drawn, int]]:
        """Lines that are cut, with the number of characters that still show."""
        return [(line, len(line.shown)) for line in self.lines if line.is_cut]


@dataclass(frozen=True, slots=True)
class Page:
    """Names of the sample readers, and the one as whom the rows are drawn."""

    readers: list[str]
    reader: str
    #: Subjects with their number, as they are written and as the reader gets them; the number of the one that is drawn.
    subjects: list[tuple[int, str, str]]
    variant: int
    rows: list[RowDrawing]
    #: For each subject: its words, its characters, what each row shows of it, the reader for whom it is longest; and the names of the rows.
    grid: list[tuple[str, int, list[str], str]]
    row_names: list[str]
    #: Where the preview text comes from: words, kind, length in characters.
    pieces: list[tuple[str, str, int]]
    #: The sender, in pairs of name and value.
    sender_line: list[tuple[str, str]]
    #: The envelope for its form, and as the page showed it.
    envelope: dict[str, Any]
    envelope_shown: str
    has_headers: bool


def page(request: PersonRequest, around: Frame) -> Page:
    """Inbox rows of each subject, as one sample reader gets it."""
    walk, message = around.walk, message_of(around.revision)
    context = walk.context
    readers = list(context.readers)
    names = [reader.name for reader in readers]
    chosen = request.GET.get("reader", "")
    reader = readers[names.index(chosen)] if chosen in names else readers[0] if readers else Sample("", {})
    subjects = list(message.subjects)
    number = whole_number(request.GET, "variant")
    number = number if number < len(subjects) else 0
    box = next(iter(message.mailboxes("From")), None)
    sender = merged_for(box.name or box.address, message, reader) if box else "no sender"
    preview = merged_for(" ".join(piece.text for piece in reading_of(message).inbox_pieces(PREVIEWED)), message, reader)
    drawings = [[RowDrawing(row, draw(row, sender, merged_for(subject, message, reader), preview)) for row in ROWS] for subject in subjects]
    reply = next(iter(message.mailboxes("Reply-To")), None)
    envelope = Envelope(
        message.subject.strip(),
        box.name.strip() if box else "",
        sender_address=box.address.strip() if box else "",
        reply_address=reply.address.strip() if reply else "",
        preview_text=message.given_preview_text.strip(),
        subject_variants=tuple(message.variants),
    )
    return Page(
        readers=names,
        reader=reader.name,
        subjects=[(index, subject, merged_for(subject, message, reader)) for index, subject in enumerate(subjects)],
        variant=number,
        rows=drawings[number],
        grid=_grid(message, context, drawings),
        row_names=[row.name for row in ROWS],
        pieces=_pieces(message, reader),
        sender_line=[
            ("Name", box.name if box and box.name else "none"),
            ("Address", box.address if box else "none"),
            ("Answers go to", reply.address if reply else (box.address if box else "nobody")),
            ("To", ", ".join(header.value for header in message.header_fields("To")) or "not in what was taken in"),
        ],
        envelope={**envelope.as_dict(), "subject_variants": "\n".join(envelope.subject_variants)},
        envelope_shown=as_shown(shown_envelope(envelope)),
        has_headers=message.envelope_known,
    )


def merged_for(text: str, message: Message, reader: Sample) -> str:
    return " ".join(fill(text, reader.values, escape=False, syntax=message.syntax).split())


def _grid(message: Message, context: Context, drawings: list[list[RowDrawing]]) -> list[tuple[str, int, list[str], str]]:
    """Variant by variant: its characters for the chosen reader, what each row shows of it, and the reader it is longest for."""
    readers = context.readers or (Sample("", {}),)
    rows = []
    for subject, drawn in zip(message.subjects, drawings, strict=True):
        lengths = {reader.name: len(merged_for(subject, message, reader)) for reader in readers}
        longest = max(lengths, key=lambda name: lengths[name])
        shown = []
        for drawing in drawn:
            line = next(line for line in drawing.lines if line.field.what == "subject")
            shown.append(f"{len(line.shown)} of {line.characters}" if line.is_cut else "whole")
        whole = next(line for line in drawn[0].lines if line.field.what == "subject")
        said = f"{longest}: {lengths[longest]}" if longest and message.holds_field(subject) else "the same for all"
        rows.append((subject or "no subject", whole.characters, shown, said))
    return rows


_KINDS = {"given": "given with the envelope", "hidden": "hidden lead-in", "visible": "visible copy"}


def _pieces(message: Message, reader: Sample) -> list[tuple[str, str, int]]:
    """Where the preview text comes from, piece by piece."""
    return [
        (merged_for(piece.text, message, reader)[:160] or "padding that nobody sees", _KINDS.get(piece.kind, piece.kind), piece.length)
        for piece in reading_of(message).inbox_pieces(PREVIEWED)
    ]


STATION = StationPage("envelope", "review/envelope.html", page)
