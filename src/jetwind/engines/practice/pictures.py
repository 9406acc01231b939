"""Pictures of the practice field, each drawn at its first request."""

from __future__ import annotations

import io
from functools import lru_cache

from PIL import Image, ImageDraw

_PAPER, _INK = (246, 244, 238), (27, 36, 48)
_GLAZES = {
    "tidepool": (72, 130, 120),
    "ember": (160, 70, 30),
    "shelf": (150, 120, 80),
    "raku": (90, 60, 50),
    "wheel": (110, 120, 130),
    "quay": (70, 100, 130),
}


@lru_cache(maxsize=32)
def pot(name: str, width: int = 600, height: int = 320) -> bytes:
    """A PNG of a pot on a shelf, in the glaze of that name."""
    colour = _GLAZES.get(name, (120, 120, 120))
    picture = Image.new("RGB", (width, height), _PAPER)
    draw = ImageDraw.Draw(picture)
    for row in range(height):
        share = row / height
        draw.line([(0, row), (width, row)], fill=tuple(round(paper * (1 - share * 0.25)) for paper in _PAPER))
    for number in range(3):
        middle, size = width * (number * 2 + 1) // 6, height * (4 + number) // 22
        draw.ellipse([middle - size, height * 3 // 4 - size * 2, middle + size, height * 3 // 4], fill=colour)
        draw.rectangle(
            [middle - size // 2, height * 3 // 4 - size * 2 - size // 3, middle + size // 2, height * 3 // 4 - size * 2 + 4], fill=colour
        )
    draw.rectangle([0, height * 3 // 4, width, height * 3 // 4 + 6], fill=_INK)
    out = io.BytesIO()
    picture.save(out, "PNG", optimize=True)
    return out.getvalue()


@lru_cache(maxsize=1)
def pixel() -> bytes:
    """A GIF of one transparent pixel, like tracking pictures."""
    out = io.BytesIO()
    Image.new("P", (1, 1)).save(out, "GIF", transparency=0)
    return out.getvalue()


@lru_cache(maxsize=1)
def vast() -> bytes:
    """A PNG of a few KB with fifty million pixels of one colour."""
    out = io.BytesIO()
    Image.new("1", (10_000, 5_000)).save(out, "PNG")
    return out.getvalue()
