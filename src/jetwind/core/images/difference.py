"""Where two pictures of a page differ."""

from __future__ import annotations

import io
import warnings
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from PIL import Image

#: A channel's difference below this is the grain of JPEG around edges, not a change (from 0 to 255).
GRAIN = 40
#: The side of a cell in which areas are found, in px; the mean difference from which on a cell counts (from 0 to 255); the most areas.
_CELL, _SHARE_OF_CELL, _MOST_AREAS = 16, 4, 60
_SIGNAL = (185, 60, 10)


@dataclass(frozen=True, slots=True)
class PictureDifference:
    """Where two pictures differ: the size of both together in px, the share of it that differs (0 to 1), and the map to be drawn."""

    width: int
    height: int
    share: float
    _largest: Image.Image = field(repr=False)
    _later: Image.Image = field(repr=False)

    def areas(self, least: int = _SHARE_OF_CELL) -> list[tuple[int, int, int, int]]:
        """The areas that differ, each as left, top, width and height in px, from the top; areas that touch on a grid of 16 px are one.

        At most 60, the largest. ``least`` is the mean from which on a cell counts, from 0 to 255: a photo has edges that JPEG blurred.
        """
        from PIL import Image

        changed = self._largest.point([255 if value > GRAIN else 0 for value in range(256)])
        across, down = -(-self.width // _CELL), -(-self.height // _CELL)
        canvas = Image.new("L", (across * _CELL, down * _CELL))
        canvas.paste(changed, (0, 0))
        cells = canvas.reduce(_CELL).tobytes()
        left = {number for number, value in enumerate(cells) if value >= least}
        found = []
        while left:
            area, edge = set(), [left.pop()]
            while edge:
                cell = edge.pop()
                area.add(cell)
                beside = {
                    cell + row * across + column for row in (-1, 0, 1) for column in (-1, 0, 1) if 0 <= cell % across + column < across
                }
                near = beside & left
                left -= near
                edge.extend(near)
            columns, rows = [cell % across for cell in area], [cell // across for cell in area]
            x, y = min(columns) * _CELL, min(rows) * _CELL
            found.append((x, y, min((max(columns) + 1) * _CELL, self.width) - x, min((max(rows) + 1) * _CELL, self.height) - y))
        found.sort(key=lambda area: -area[2] * area[3])
        return sorted(found[:_MOST_AREAS], key=lambda area: (area[1], area[0]))

    def drawn(self) -> bytes:
        """A JPEG of the later picture, faded, with what differs in the signal colour."""
        from PIL import Image, ImageChops, ImageFilter

        changed = self._largest.point([255 if value > GRAIN else 0 for value in range(256)])
        # Grown to what an eye finds, on a copy of a third of the size, which is nine times as fast.
        grown = changed.reduce(3).filter(ImageFilter.BoxBlur(1)).point([128 if value > 2 else 0 for value in range(256)])
        marks = grown.resize(changed.size, Image.Resampling.NEAREST)
        # One grey channel holds both: up to 127 half the lightness of the picture, and 128 more where it is marked. A table turns each value into a colour.
        told = ImageChops.add(self._later.convert("L").point([value // 2 for value in range(256)]), marks)
        faded = [153 + value * 4 // 5 for value in range(128)]
        channels = [told.point(faded + [(value + 3 * signal) // 4 for value in faded]) for signal in _SIGNAL]
        out = io.BytesIO()
        Image.merge("RGB", channels).save(out, "JPEG", quality=75)
        return out.getvalue()


def difference(one: bytes, one_width: int, other: bytes, other_width: int) -> PictureDifference:
    """Lay two pictures over each other from the top left, each brought to its width in CSS px first.

    What only one of them covers counts as different.

    Raises:
        OSError: a picture does not decode.
    """
    from PIL import Image, ImageChops

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        first, second = (
            _at_width(Image.open(io.BytesIO(data)).convert("RGB"), width) for data, width in ((one, one_width), (other, other_width))
        )
    width, height = max(first.width, second.width), max(first.height, second.height)
    alone = _only_one(first.size, second.size)
    first, second = (_on_canvas(picture, width, height) for picture in (first, second))
    bands = ImageChops.difference(first, second).split()
    largest = ImageChops.lighter(ImageChops.lighter(bands[0], bands[1]), bands[2])
    for box in alone:
        largest.paste(255, box)
    share = sum(largest.histogram()[GRAIN + 1 :]) / (width * height)
    return PictureDifference(width, height, share, largest, second)


def _on_canvas(picture: Image.Image, width: int, height: int) -> Image.Image:
    from PIL import Image

    if picture.size == (width, height):
        return picture
    canvas = Image.new("RGB", (width, height), (255, 255, 255))
    canvas.paste(picture, (0, 0))
    return canvas


def _at_width(picture: Image.Image, width: int) -> Image.Image:
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
