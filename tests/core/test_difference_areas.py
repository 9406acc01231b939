"""The areas in which two pictures differ, held against scikit-image's labelled regions."""

from __future__ import annotations

import io
import random

import numpy
import pytest
from PIL import Image
from skimage.measure import label, regionprops

from jetwind.core.images.difference import difference


def png(picture: Image.Image) -> bytes:
    """A picture as PNG."""
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


def areas(one: Image.Image, other: Image.Image) -> list[tuple[int, int, int, int]]:
    """The areas in which two pictures differ."""
    return difference(png(one), one.width, png(other), other.width).areas()


@pytest.mark.parametrize("seed", range(12))
def test_like_labelled_regions(seed: int) -> None:
    """Blocks of cells at random places: the boxes are those of scikit-image's regions of eight neighbours."""
    draw = random.Random(seed)
    grid = numpy.zeros((40, 25), dtype=bool)
    for _ in range(draw.randrange(1, 9)):
        row, column = draw.randrange(40), draw.randrange(25)
        grid[row : row + draw.randrange(1, 6), column : column + draw.randrange(1, 6)] = True
    one = Image.new("RGB", (400, 640), "white")
    other = Image.fromarray(numpy.where(grid, 0, 255).astype("uint8")).resize((400, 640), Image.Resampling.NEAREST).convert("RGB")
    expected = [
        (box[1] * 16, box[0] * 16, (box[3] - box[1]) * 16, (box[2] - box[0]) * 16)
        for box in (region.bbox for region in regionprops(label(grid, connectivity=2)))
    ]
    assert areas(one, other) == sorted(expected, key=lambda area: (area[1], area[0]))


def test_none_and_all() -> None:
    """Equal pictures have none; of one that is taller, all that it has alone is one area."""
    white = Image.new("RGB", (390, 100), "white")
    assert areas(white, white) == []
    assert areas(white, Image.new("RGB", (390, 205), "white")) == [(0, 96, 390, 109)]


def test_the_grain_of_jpeg_is_no_area() -> None:
    """The same picture coded with loss."""
    picture = Image.effect_noise((320, 320), 40).convert("RGB")
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=95)
    assert difference(png(picture), 320, out.getvalue(), 320).areas() == []


def test_as_many_as_are_shown() -> None:
    """The sixty largest, from the top."""
    other = Image.new("RGB", (1600, 1600), "white")
    for row in range(10):
        for column in range(10):
            other.paste("black", (column * 160, row * 160, column * 160 + (16 if row else 32), row * 160 + 16))
    found = areas(Image.new("RGB", (1600, 1600), "white"), other)
    assert len(found) == 60 and len([one for one in found if one[2] == 32]) == 10
