"""Sheets of renders to keep: one PNG, or a PDF whose captions are text. All on one scale, each under its profile's name."""

from __future__ import annotations

import io
import math
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from PIL import Image, ImageDraw, ImageFont

from jetwind.apps.previews.models import Render
from jetwind.core.profiles import Profile

if TYPE_CHECKING:
    from fpdf import FPDF

Shot = tuple[Profile, str, Render, bytes]

FONT = Path(__file__).parents[1] / "ui" / "static" / "ui" / "vendor" / "fonts" / "atkinson-hyperlegible-next-latin-wght-normal.woff2"
_PAPER, _INK, _LINE = "#F6F4EE", "#1B2430", "#D9D5CA"
#: A render is cut at this many CSS px: what lies below is for the station.
_MOST_HEIGHT = 3000


@dataclass(frozen=True, slots=True)
class _Sheet:
    """A sheet's measures, in its own unit: where pictures may lie, between them, over each for its caption, the least width of one."""

    left: float
    top: float
    right: float
    bottom: float
    gap: float
    caption: float
    least: float


@dataclass(frozen=True, slots=True)
class _Placed:
    """Where a render lies: page, upper left of its caption, size of the picture."""

    page: int
    x: float
    y: float
    width: float
    height: float


#: A4, landscape, in mm; and a picture as tall as it takes, in px.
_A4 = _Sheet(10, 18, right=287, bottom=203, gap=6, caption=2.8 * 3 + 1.5, least=30)
_PICTURE = _Sheet(24, 56, right=2424, bottom=math.inf, gap=24, caption=56, least=190)
_PX = 0.5


def as_png(title: str, shots: Sequence[Shot], out: IO[bytes]) -> None:
    """Renders beside each other on one scale, with their captions; one alone in its full size and bare."""
    if len(shots) == 1:
        Image.open(io.BytesIO(shots[0][3])).save(out, "PNG", compress_level=3)
        return
    places = _arranged(shots, _PICTURE, _PX)
    width = max(max(place.x + max(place.width, _PICTURE.least) for place in places) + _PICTURE.left, 800)
    height = max(place.y + _PICTURE.caption + place.height for place in places) + _PICTURE.gap
    sheet = Image.new("RGB", (round(width), round(height)), _PAPER)
    pen = ImageDraw.Draw(sheet)
    pen.text((_PICTURE.left, 18), plain(title), _INK, ImageFont.truetype(str(FONT), 20))
    font = ImageFont.truetype(str(FONT), 14)
    for shot, place in zip(shots, places, strict=True):
        room = max(place.width, _PICTURE.least)
        for number, line in enumerate(_caption(shot)):
            pen.text((place.x, place.y + number * 17), _fitted(plain(line), font, room), _INK, font)
        top = place.y + _PICTURE.caption
        sheet.paste(_scaled(shot, _PX), (round(place.x), round(top)))
        pen.rectangle((place.x - 1, top - 1, place.x + place.width, top + place.height), outline=_LINE)
    sheet.save(out, "PNG", compress_level=3)


def as_pdf(title: str, shots: Sequence[Shot], out: IO[bytes]) -> None:
    """A sheet on A4, landscape: renders on one scale with their captions, over as many pages as it takes."""
    from fpdf import FPDF

    pdf = FPDF(orientation="landscape", unit="mm", format="A4")
    pdf.set_auto_page_break(False)
    pdf.set_title(title)
    pdf.set_creator("Jetwind")
    pdf.add_font("Text", fname=str(FONT))
    pdf.set_lang("en")
    pdf.set_draw_color(_LINE)
    draw_shots(pdf, title, shots)
    out.write(bytes(pdf.output()))


def draw_shots(pdf: FPDF, title: str, shots: Sequence[Shot]) -> None:
    """Renders on further pages of a PDF, landscape, each page under the title. The PDF has the font "Text"."""
    pdf.set_auto_page_break(False)
    places = _arranged(shots, _A4, _best_scale(shots))
    pages, before = places[-1].page + 1, pdf.page
    for shot, place in zip(shots, places, strict=True):
        while pdf.page - before <= place.page:
            pdf.add_page(orientation="landscape")
            pdf.set_font("Text", size=11)
            pdf.set_xy(10, 7)
            pdf.cell(0, 6, plain(title))
            pdf.set_font("Text", size=8)
            pdf.set_xy(10, 7)
            pdf.cell(277, 6, f"{pdf.page - before} of {pages}", align="R")
        pdf.set_font("Text", size=6.5)
        pdf.set_xy(place.x, place.y)
        pdf.multi_cell(max(place.width, _A4.least), 2.8, plain("\n".join(_caption(shot))), align="L")
        top = place.y + _A4.caption
        named = f"The message in {shot[0].name}"
        # As JPEG: coded without loss, a sheet of nineteen takes 4 MB.
        coded = io.BytesIO()
        _scaled(shot, 1.0).save(coded, "JPEG", quality=85)
        pdf.image(coded, x=place.x, y=top, w=place.width, h=place.height, alt_text=named)
        pdf.rect(place.x, top, place.width, place.height)


def _caption(shot: Shot) -> list[str]:
    profile, words, render, _ = shot
    return [*filter(None, (profile.name, words)), f"{profile.content_width} px, {render.height:,} px tall"]


def _arranged(shots: Sequence[Shot], sheet: _Sheet, scale: float) -> list[_Placed]:
    """Rows from the left, in order, on as many pages as it takes. A render that is taller than a page is scaled down to the page."""
    found: list[_Placed] = []
    page, x, y, tallest = 0, sheet.left, sheet.top, 0.0
    for profile, _, render, _ in shots:
        height = min(render.height, _MOST_HEIGHT)
        own = min(scale, (sheet.bottom - sheet.top - sheet.caption) / height, (sheet.right - sheet.left) / profile.content_width)
        room = max(profile.content_width * own, sheet.least)
        if x > sheet.left and x + room > sheet.right:
            x, y, tallest = sheet.left, y + tallest + sheet.gap, 0.0
        if y > sheet.top and y + sheet.caption + height * own > sheet.bottom:
            # What stands in the row already stays; this one begins the next page.
            page, x, y, tallest = page + 1, sheet.left, sheet.top, 0.0
        found.append(_Placed(page, x, y, profile.content_width * own, height * own))
        tallest = max(tallest, sheet.caption + height * own)
        x += room + sheet.gap
    return found


def _best_scale(shots: Sequence[Shot]) -> float:
    """The scale in mm per CSS px that leaves the least paper bare: between what can still be read and what shows a phone in its size."""

    def covered(scale: float) -> float:
        places = _arranged(shots, _A4, scale)
        return sum(place.width * (place.height + _A4.caption) for place in places) / (places[-1].page + 1)

    return max((0.04 + 0.005 * step for step in range(13)), key=covered)


def _fitted(line: str, font: ImageFont.FreeTypeFont, room: float) -> str:
    """A line cut to its room, with a sign that it was."""
    if font.getlength(line) <= room:
        return line
    while line and font.getlength(line + "…") > room:
        line = line[:-1]
    return line.rstrip() + "…"


def _scaled(shot: Shot, scale: float) -> Image.Image:
    profile, _, render, data = shot
    picture: Any = Image.open(io.BytesIO(data))
    picture.draft("RGB", (round(profile.content_width * scale), round(render.height * scale)))
    picture = picture.convert("RGB")
    picture = picture.resize(
        (round(profile.content_width * scale), max(1, round(picture.height * profile.content_width * scale / picture.width)))
    )
    most = round(_MOST_HEIGHT * scale)
    return picture.crop((0, 0, picture.width, min(picture.height, most)))


def plain(text: str) -> str:
    """Text with the letters that the shipped font has; others as a question mark."""
    return "".join(char if ord(char) < 0x250 or char in "–—‘’“”…€" or char == "\n" else "?" for char in text)
