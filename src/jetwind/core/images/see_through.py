"""The drawing in a picture that is clear in part: which colours, and how much of it is clear."""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass
from functools import lru_cache
from typing import cast

from jetwind.core.images.measure import DECODING_FAILS, measure

#: Side of the small copy that is looked at, in px.
_SIDE = 96


@dataclass(frozen=True, slots=True)
class SeeThrough:
    """The share of clear pixels, and the colours of the others with their shares of what is drawn, the most frequent first."""

    clear_share: float
    colours: tuple[tuple[float, tuple[int, int, int]], ...]


@lru_cache(maxsize=128)
def see_through(data: bytes) -> SeeThrough | None:
    """The drawing; None for a picture without clear pixels, or one that does not decode."""
    if measure(data) is None:
        return None
    from PIL import Image

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(data)) as picture:
                if picture.mode not in ("RGBA", "LA", "PA") and "transparency" not in picture.info:
                    return None
                picture.thumbnail((_SIDE * 8, _SIDE * 8))
                small = picture.convert("RGBA").resize((min(_SIDE, picture.width), min(_SIDE, picture.height)), Image.Resampling.NEAREST)
    except (Image.DecompressionBombError, *DECODING_FAILS):
        return None
    counts: dict[tuple[int, int, int], int] = {}
    total = drawn = 0
    for count, pixel in small.getcolors(_SIDE * _SIDE) or []:
        red, green, blue, alpha = cast(tuple[int, int, int, int], pixel)
        total += count
        if alpha >= 128:
            drawn += count
            # Sixteen steps a channel: the grain of a drawing is no colour of its own.
            key = (red // 16 * 17, green // 16 * 17, blue // 16 * 17)
            counts[key] = counts.get(key, 0) + count
    if not total or not drawn or drawn == total:
        return None
    colours = sorted(((count / drawn, colour) for colour, count in counts.items()), reverse=True)
    return SeeThrough(1 - drawn / total, tuple(colours))
