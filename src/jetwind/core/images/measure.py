"""The facts that a picture file says of itself, read without unpacking its pixels."""

from __future__ import annotations

import io
import struct
import warnings
from dataclasses import dataclass
from functools import lru_cache

#: Pictures above this many pixels are not opened: 40 Mpx is a 160 MB bitmap.
MOST_PIXELS = 40_000_000
#: What decoding a hostile file may raise: Pillow's own (whose "unidentified" is an OSError), and those of the libraries below it.
DECODING_FAILS = (
    OSError, ValueError, SyntaxError, EOFError, KeyError, IndexError, TypeError, OverflowError, ArithmeticError, MemoryError, AssertionError,
    struct.error,
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class ImageFacts:
    """Format by content (Pillow's name), width and height in px."""

    format: str
    width: int
    height: int


@lru_cache(maxsize=512)
def measure(data: bytes) -> ImageFacts | None:
    """Facts of a picture, or None where it does not decode or is larger than may be opened."""
    from PIL import Image

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(data)) as picture:
                width, height = picture.size
                if width * height > MOST_PIXELS:
                    return None
                return ImageFacts(picture.format or "", width, height)
    except (Image.DecompressionBombError, *DECODING_FAILS):
        return None
