"""Sheets of renders to keep: one PNG, or a PDF whose captions are text."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path
from typing import IO, Any

from PIL import Image

from jetwind.apps.previews.models import Render
from jetwind.core.profiles import Profile

Shot = tuple[Profile, str, Render, bytes]

_FONT = Path(__file__).parents[1] / "ui" / "static" / "ui" / "vendor" / "fonts" / "atkinson-hyperlegible-next-latin-wght-normal.woff2"
#: CSS px to mm on the PDF sheet, and to px on the PNG sheet.
_MM, _PX = 0.075, 0.5
_MOST_HEIGHT = 3000


def as_png(shots: Sequence[Shot], out: IO[bytes]) -> None:
    """Renders beside each other on one scale; one alone in its full size."""
    if len(shots) == 1:
        Image.open(io.BytesIO(shots[0][3])).save(out, "PNG", compress_level=3)
        return
    pictures = [_scaled(shot, _PX) for shot in shots]
    rows: list[list[Image.Image]] = [[]]
    width = 0
    for picture in pictures:
        if width + picture.width > 2400 and rows[-1]:
            rows.append([])
            width = 0
        rows[-1].append(picture)
        width += picture.width + 24
    sheet_width = max(sum(picture.width + 24 for picture in row) for row in rows) + 24
    sheet_height = sum(max(picture.height for picture in row) + 24 for row in rows) + 24
    sheet = Image.new("RGB", (sheet_width, sheet_height), "#F6F4EE")
    y = 24
    for row in rows:
        x = 24
        for picture in row:
            sheet.paste(picture, (x, y))
            x += picture.width + 24
        y += max(picture.height for picture in row) + 24
    sheet.save(out, "PNG", compress_level=3)


def as_pdf(title: str, shots: Sequence[Shot], out: IO[bytes]) -> None:
    """A sheet on A4, landscape: renders on one scale with their captions, over as many pages as it takes."""
    from fpdf import FPDF

    pdf = FPDF(orientation="landscape", unit="mm", format="A4")
    pdf.set_auto_page_break(False)
    pdf.set_title(title)
    pdf.set_creator("Jetwind")
    pdf.add_font("Text", fname=str(_FONT))
    pdf.set_lang("en")

    def page() -> None:
        pdf.add_page()
        pdf.set_font("Text", size=11)
        pdf.set_xy(10, 7)
        pdf.cell(0, 6, _plain(title))

    page()
    x, y, tallest = 10.0, 18.0, 0.0
    for shot in shots:
        profile, words, render, _ = shot
        height = min(render.height, _MOST_HEIGHT)
        # What is taller than a page is brought down to it; all others keep the common scale.
        scale = min(_MM, (210 - 18 - 22) / height)
        width = max(profile.content_width * scale, 30.0)
        if x + width > 287:
            x, y, tallest = 10.0, y + tallest + 6, 0.0
        if y + height * scale + 12 > 203 and (x, y) != (10.0, 18.0):
            page()
            x, y, tallest = 10.0, 18.0, 0.0
        picture = _scaled(shot, 1.0)
        pdf.set_font("Text", size=6.5)
        pdf.set_xy(x, y)
        size = f"{profile.content_width} px, {render.height} px tall"
        pdf.multi_cell(width, 2.8, _plain("\n".join(filter(None, (profile.name, words, size)))), align="L")
        top = y + 2.8 * 4
        pdf.image(picture, x=x, y=top, w=profile.content_width * scale, h=height * scale, alt_text=f"The message in {profile.name}")
        pdf.set_draw_color(217, 213, 202)
        pdf.rect(x, top, profile.content_width * scale, height * scale)
        tallest = max(tallest, 2.8 * 4 + height * scale)
        x += width + 6
    out.write(bytes(pdf.output()))


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


def _plain(text: str) -> str:
    """Text with the letters that the shipped font has; others as a question mark."""
    return "".join(char if ord(char) < 0x250 or char in "–—‘’“”…€" or char == "\n" else "?" for char in text)
