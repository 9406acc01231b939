"""The inbox row: how much of sender, subject and preview text fits, by the advance widths of a real font.

Rows and their sizes: common practice, no published source. Widths: Liberation Sans 1.07.4 (metric-compatible with the most common
sans-serif of mail clients), see facts/font_widths.json.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import lru_cache
from importlib.resources import files
from typing import Literal

import regex

Weight = Literal["regular", "bold"]
_ELLIPSIS = "…"
#: Advance of what the font has no glyph for, in em: emoji and East Asian letters are about square, others about half.
_WIDE, _OTHER = 1.25, 0.6
_WIDE_LETTER = regex.compile(r"[\p{Emoji_Presentation}\p{Han}\p{Hiragana}\p{Katakana}\p{Hangul}\U0001F000-\U0001FAFF]")
_NOTHING = regex.compile(r"[\p{Mn}\p{Me}\p{Cf}]")


@dataclass(frozen=True, slots=True)
class InboxField:
    """A line of a row: what it shows, where it begins and how wide it is in px, its size in px, its weight."""

    what: Literal["sender", "subject", "preview", "subject and preview"]
    x: int
    y: int
    width: int
    size: float
    weight: Weight = "regular"


@dataclass(frozen=True, slots=True)
class InboxRow:
    """One kind of inbox: its name, its size in px, its lines."""

    id: str
    name: str
    width: int
    height: int
    fields: tuple[InboxField, ...]


ROWS = (
    InboxRow(
        "wide",
        "Wide list, one line",
        900,
        34,
        (InboxField("sender", 12, y=22, width=160, size=14, weight="bold"), InboxField("subject and preview", 184, 22, 640, 14)),
    ),
    InboxRow(
        "middle",
        "List at half width, one line",
        640,
        34,
        (InboxField("sender", 12, y=22, width=130, size=14, weight="bold"), InboxField("subject and preview", 152, 22, 420, 14)),
    ),
    InboxRow(
        "pane",
        "List beside a reading pane",
        340,
        74,
        (
            InboxField("sender", 14, y=22, width=240, size=15, weight="bold"),
            InboxField("subject", 14, 43, 312, 14),
            InboxField("preview", 14, 63, 312, 13),
        ),
    ),
    InboxRow(
        "phone",
        "Phone, upright",
        360,
        80,
        (
            InboxField("sender", 16, y=24, width=260, size=16, weight="bold"),
            InboxField("subject", 16, 46, 328, 15),
            InboxField("preview", 16, 67, 328, 14),
        ),
    ),
)


@dataclass(frozen=True, slots=True)
class Drawn:
    """A line as it is shown: its field, the words that fit, the words that do not, whether it was cut, and its width in px."""

    field: InboxField
    shown: str
    rest: str
    is_cut: bool
    width: float

    @property
    def end(self) -> float:
        """Where the shown words end, in px from the left of the row."""
        return round(self.field.x + self.width, 1)

    @property
    def characters(self) -> int:
        """Characters of the whole line, shown or not."""
        return len(self.shown) + len(self.rest)

    @property
    def dash(self) -> float:
        """Where the dash before a preview text in the same line stands, in px."""
        return round(self.field.x - text_width("– ", self.field.size), 1)

    @property
    def top(self) -> float:
        """The upper end of the line, in px from the top of the row."""
        return round(self.field.y - self.field.size, 1)

    @property
    def tall(self) -> float:
        """The height of the line in px."""
        return round(self.field.size * 1.3, 1)


@lru_cache(maxsize=1)
def _tables() -> dict[str, dict[str, float]]:
    found = json.loads(files("jetwind.core.facts").joinpath("font_widths.json").read_text("utf-8"))
    return {weight: {char: units / found["units_per_em"] for char, units in found[weight].items()} for weight in ("regular", "bold")}


def text_width(text: str, size: float, weight: Weight = "regular") -> float:
    """The width of a line in px, grapheme by grapheme, without kerning."""
    known = _tables()[weight]
    total = 0.0
    for cluster in regex.findall(r"\X", text):
        if cluster in known:
            total += known[cluster]
        elif _WIDE_LETTER.search(cluster):
            total += _WIDE
        else:
            total += sum(0.0 if _NOTHING.match(char) else known.get(char, _OTHER) for char in cluster)
    return total * size


def fit(text: str, width: float, size: float, weight: Weight = "regular") -> tuple[str, str]:
    """The part of a line that fits, an ellipsis counted in where it is cut, and the rest."""
    if text_width(text, size, weight) <= width:
        return text, ""
    room = width - text_width(_ELLIPSIS, size, weight)
    taken = 0.0
    shown = ""
    for cluster in regex.findall(r"\X", text):
        taken += text_width(cluster, size, weight)
        if taken > room:
            break
        shown += cluster
    shown = shown.rstrip()
    return shown, text[len(shown) :]


def draw(row: InboxRow, sender: str, subject: str, preview: str) -> list[Drawn]:
    """The lines of a row. In a row of one line the preview text takes what the subject leaves."""
    lines: list[Drawn] = []
    for field in row.fields:
        if field.what == "subject and preview":
            lines.extend(_one_line(field, subject, preview))
            continue
        text = {"sender": sender, "subject": subject, "preview": preview}[field.what]
        shown, rest = fit(text, field.width, field.size, field.weight)
        lines.append(Drawn(field, shown, rest, bool(rest), text_width(shown, field.size, field.weight)))
    return lines


def _one_line(field: InboxField, subject: str, preview: str) -> list[Drawn]:
    shown, rest = fit(subject, field.width, field.size)
    taken = text_width(shown, field.size)
    first = InboxField("subject", field.x, y=field.y, width=field.width, size=field.size, weight=field.weight)
    lines = [Drawn(first, shown, rest, bool(rest), taken)]
    gap = text_width(" – ", field.size)
    room = field.width - taken - gap
    if not rest and preview and room > field.size * 2:
        words, left = fit(preview, room, field.size)
        second = InboxField("preview", round(field.x + taken + gap), field.y, round(room), field.size)
        lines.append(Drawn(second, words, left, bool(left), text_width(words, field.size)))
    else:
        lines.append(
            Drawn(
                InboxField("preview", round(field.x + taken + gap), field.y, max(0, round(room)), field.size),
                "",
                preview,
                bool(preview),
                0.0,
            )
        )
    return lines
