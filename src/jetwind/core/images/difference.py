"""Where two pictures of a page differ."""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass
from typing import Any

#: A channel's difference below this is the grain of JPEG around edges, not a change (from 0 to 255).
GRAIN = 40
_SIGNAL = (185, 60, 10)


@dataclass(frozen=True, slots=True)
class PictureDifference:
    """A JPEG of the later picture, faded, with what differs in the signal colour; its size in px; the share that differs, from 0 to 1."""

    image: bytes
    width: int
    height: int
    share: float


def difference(one: bytes, one_width: int, other: bytes, other_width: int) -> PictureDifference:
    """Lay two pictures over each other from the top left, each brought to its width in CSS px first.

    What only one of them covers counts as different.

    Raises:
        OSError: a picture does not decode.
    """
    from PIL import Image, ImageChops, ImageFilter

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        first, second = (
            _at_width(Image.open(io.BytesIO(data)).convert("RGB"), width) for data, width in ((one, one_width), (other, other_width))
        )
    width, height = max(first.width, second.width), max(first.height, second.height)
    canvases = []
    for picture in (first, second):
        canvas = Image.new("RGB", (width, height), (255, 255, 255))
        canvas.paste(picture, (0, 0))
        canvases.append(canvas)
    bands = ImageChops.difference(*canvases).split()
    largest = ImageChops.lighter(ImageChops.lighter(bands[0], bands[1]), bands[2])
    changed = largest.point(lambda value: 255 if value > GRAIN else 0)
    for box in _only_one(first.size, second.size):
        changed.paste(255, box)
    share = changed.histogram()[255] / (width * height)
    # Grown to what an eye finds, on a copy of a third of the size, which is nine times as fast.
    grown = changed.reduce(3).point(lambda value: 255 if value > 8 else 0).filter(ImageFilter.MaxFilter(3)).resize((width, height))
    faded = canvases[1].convert("L").point(lambda value: 153 + value * 2 // 5).convert("RGB")
    faded.paste(_SIGNAL, (0, 0), grown.point(lambda value: value * 3 // 4))
    out = io.BytesIO()
    faded.save(out, "JPEG", quality=75)
    return PictureDifference(out.getvalue(), width, height, share)


def _at_width(picture: Any, width: int) -> Any:
    from PIL import Image

    if picture.width == width:
        return picture
    return picture.resize((width, max(1, round(picture.height * width / picture.width))), Image.Resampling.BOX)


def _only_one(one: tuple[int, int], other: tuple[int, int]) -> list[tuple[int, int, int, int]]:
    """The parts of the common canvas that only one of two sizes covers."""
    width, height = max(one[0], other[0]), max(one[1], other[1])
    boxes = []
    if one[0] != other[0]:
        boxes.append((min(one[0], other[0]), 0, width, height))
    if one[1] != other[1]:
        boxes.append((0, min(one[1], other[1]), width, height))
    return boxes
