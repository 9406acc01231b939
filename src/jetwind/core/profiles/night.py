"""Forced night colours: what a client makes of the colours of a message when it draws it dark.

The rule, for a colour with CIE lightness L (0 black to 100 white), hue and chroma kept as far as sRGB allows:

* full: every colour gets the lightness ``12 + 0.88 × (100 - L)``, so that white becomes a soft black and black becomes white;
* partial: grounds lighter than 50 and letters darker than 50 change as above, everything else stays;
* pictures stay as they are, and so do background pictures and see-through colours' alpha.

Common practice, no published source: clients do not say what they do. Conversions: CIE Lab, with the white of sRGB (D65) and the
matrices of CSS Color 4 §18 (from memory; held against a general-purpose colour library in the tests).
"""

from __future__ import annotations

from functools import lru_cache
from typing import Literal

Night = Literal["partial", "full"]
Role = Literal["ground", "letter", "line"]
Rgba = tuple[int, int, int, float]

#: Lightness that white is given: a soft black, as clients draw it.
DARKEST = 12.0
GROUND = "#1f1f1f"
LETTER = "#ffffff"
LINK = "#8ab4f8"

_WHITE = (0.9504559, 1.0, 1.0890578)


@lru_cache(maxsize=4096)
def at_night(colour: Rgba, role: Role, night: Night) -> Rgba:
    """The colour that a client draws instead."""
    lightness, a, b = to_lab(colour[:3])
    if night == "partial" and ((role == "letter" and lightness >= 50) or (role != "letter" and lightness <= 50)):
        return colour
    turned = DARKEST + (100 - DARKEST) / 100 * (100 - lightness)
    red, green, blue = from_lab(turned, a, b)
    return red, green, blue, colour[3]


def to_lab(rgb: tuple[int, int, int]) -> tuple[float, float, float]:
    """sRGB from 0 to 255 to CIE Lab under D65."""
    red, green, blue = (_to_linear(part / 255) for part in rgb)
    x = (0.4123908 * red + 0.3575843 * green + 0.1804808 * blue) / _WHITE[0]
    y = 0.2126390 * red + 0.7151687 * green + 0.0721923 * blue
    z = (0.0193308 * red + 0.1191948 * green + 0.9505322 * blue) / _WHITE[2]
    fx, fy, fz = (_bend(part) for part in (x, y, z))
    return 116 * fy - 16, 500 * (fx - fy), 200 * (fy - fz)


def from_lab(lightness: float, a: float, b: float) -> tuple[int, int, int]:
    """CIE Lab to the nearest sRGB of the same lightness and hue: chroma is taken back until the colour can be shown."""
    keep = 1.0
    for _ in range(24):
        linear = _linear(lightness, a * keep, b * keep)
        if all(-0.0005 <= part <= 1.0005 for part in linear):
            break
        keep -= 1 / 24
    else:
        linear = _linear(lightness, 0, 0)
    red, green, blue = (round(255 * _from_linear(min(1.0, max(0.0, part)))) for part in linear)
    return red, green, blue


def _linear(lightness: float, a: float, b: float) -> tuple[float, float, float]:
    fy = (lightness + 16) / 116
    x, y, z = (_unbend(part) * white for part, white in zip((fy + a / 500, fy, fy - b / 200), _WHITE, strict=True))
    return (
        3.2409699 * x - 1.5373832 * y - 0.4986108 * z,
        -0.9692436 * x + 1.8759675 * y + 0.0415551 * z,
        0.0556301 * x - 0.2039770 * y + 1.0569715 * z,
    )


def _bend(part: float) -> float:
    return float(part ** (1 / 3)) if part > 216 / 24389 else (24389 / 27 * part + 16) / 116


def _unbend(part: float) -> float:
    return part**3 if part**3 > 216 / 24389 else (116 * part - 16) * 27 / 24389


def _to_linear(part: float) -> float:
    return part / 12.92 if part <= 0.04045 else float(((part + 0.055) / 1.055) ** 2.4)


def _from_linear(part: float) -> float:
    return 12.92 * part if part <= 0.0031308 else float(1.055 * part ** (1 / 2.4) - 0.055)
