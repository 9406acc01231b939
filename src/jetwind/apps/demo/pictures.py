"""Pictures of the demo world, drawn with Pillow: the same bytes on every run."""

from __future__ import annotations

import io
import math
import random

from PIL import Image, ImageDraw, ImageFilter

_SAND, _SEA, _RUST, _INK, _FOAM = "#E9DFC9", "#2F6F73", "#B0512B", "#1B2430", "#F6F4EE"
_GLAZES = {"tidepool": "#2F6F73", "ember": "#B0512B", "samphire": "#6E8B4E", "slate": "#51606E", "oyster": "#CFC5B4"}


def _jpeg(picture: Image.Image, quality: int = 82) -> bytes:
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=quality, optimize=True)
    return out.getvalue()


def _png(picture: Image.Image) -> bytes:
    out = io.BytesIO()
    picture.save(out, "PNG", optimize=True)
    return out.getvalue()


def _bowl(draw: ImageDraw.ImageDraw, x: float, y: float, width: float, colour: str) -> None:
    """A bowl seen from the side: rim, body, foot."""
    height = width * 0.52
    body = [(x + width * step / 40, y + height * math.sin(math.pi * step / 40) ** 0.6) for step in range(41)]
    draw.polygon(body, fill=colour)
    draw.ellipse((x, y - width * 0.09, x + width, y + width * 0.09), fill=colour, outline=_FOAM, width=max(1, int(width / 60)))
    draw.ellipse((x + width * 0.06, y - width * 0.06, x + width * 0.94, y + width * 0.06), fill=_INK)
    draw.rectangle((x + width * 0.36, y + height * 0.96, x + width * 0.64, y + height * 1.06), fill=colour)


def wordmark() -> bytes:
    """The cooperative's sign: a kiln arch with its flame, 320 × 96 px."""
    picture = Image.new("RGB", (320, 96), "white")
    draw = ImageDraw.Draw(picture)
    draw.pieslice((112, 8, 208, 152), 180, 360, fill=_INK)
    draw.pieslice((132, 36, 188, 132), 180, 360, fill=_RUST)
    draw.polygon([(160, 40), (174, 76), (160, 84), (146, 76)], fill=_SAND)
    draw.rectangle((60, 78, 260, 84), fill=_INK)
    return _png(picture)


def shelf(width: int = 1200, height: int = 600) -> bytes:
    """Bowls in five glazes on a shelf by the sea."""
    picture = Image.new("RGB", (width, height), _SAND)
    draw = ImageDraw.Draw(picture)
    for line in range(0, height // 2, 2):
        shade = int(190 + 50 * line / height)
        draw.line((0, line, width, line), fill=(shade - 20, shade, shade + 5))
    draw.rectangle((0, height * 0.42, width, height * 0.56), fill=_SEA)
    draw.rectangle((0, height * 0.8, width, height), fill="#8A6B48")
    size = width * 0.16
    for number, colour in enumerate(_GLAZES.values()):
        _bowl(draw, width * 0.04 + number * width * 0.19, height * 0.8 - size * 0.55, size, colour)
    return _jpeg(picture.filter(ImageFilter.GaussianBlur(0.6)), 72)


def glaze(name: str) -> bytes:
    """One bowl in one glaze, 560 × 420 px."""
    picture = Image.new("RGB", (560, 420), _FOAM)
    draw = ImageDraw.Draw(picture)
    draw.ellipse((110, 300, 450, 360), fill=_SAND)
    _bowl(draw, 120, 150, 320, _GLAZES[name])
    return _jpeg(picture)


def grainy_studio() -> bytes:
    """The studio at dusk, far too heavy: full of grain, so that it hardly compresses."""
    rng = random.Random(1947)
    picture = Image.frombytes("RGB", (1500, 900), rng.randbytes(1500 * 900 * 3)).filter(ImageFilter.GaussianBlur(1.2))
    draw = ImageDraw.Draw(picture)
    draw.rectangle((0, 560, 1500, 900), fill="#5B3B24")
    for number, colour in enumerate(_GLAZES.values()):
        _bowl(draw, 80 + number * 280, 560, 220, colour)
    return _jpeg(picture, 90)
