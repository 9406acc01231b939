"""Pictures of real screens on renders: their place held against scikit-image's template matching, their likeness against its own measure."""

from __future__ import annotations

import io
import random

import numpy
import pytest
from PIL import Image, ImageDraw
from skimage.feature import match_template
from skimage.metrics import structural_similarity

from jetwind.core.images.aligned import held_against


def page(width: int = 390, height: int = 1400, seed: int = 1) -> Image.Image:
    """A page of blocks, as renders are: text lines, pictures, bands of colour."""
    draw, picture = random.Random(seed), Image.new("RGB", (width, height), "white")
    pen = ImageDraw.Draw(picture)
    y = 0
    while y < height:
        tall = draw.randrange(12, 90)
        if draw.random() < 0.4:
            pen.rectangle((0, y, width, y + tall), fill=(draw.randrange(256), draw.randrange(256), draw.randrange(256)))
        else:
            pen.rectangle((20, y + 4, 20 + draw.randrange(40, width - 40), y + min(tall, 12)), fill="#1B2430")
        y += tall
    return picture


def octets(picture: Image.Image, form: str = "PNG") -> bytes:
    """A picture as a file."""
    out = io.BytesIO()
    picture.save(out, form, quality=90)
    return out.getvalue()


@pytest.mark.parametrize("top", [0, 37, 400, 800])
@pytest.mark.parametrize("scale", [1, 2, 3])
def test_where_it_lies(top: int, scale: int) -> None:
    """A part of a page, as a device of one, two or three pixels shows it, coded with loss: as scikit-image places it, and nothing differs."""
    whole = page()
    part = whole.crop((0, top, 390, top + 600))
    screen = part.resize((390 * scale, 600 * scale), Image.Resampling.NEAREST)
    found = held_against(octets(whole), 390, octets(screen, "JPEG"))
    assert found is not None
    matched = match_template(numpy.asarray(whole.convert("L"), dtype=float), numpy.asarray(part.convert("L"), dtype=float))
    expected = int(numpy.unravel_index(numpy.argmax(matched), matched.shape)[0])
    assert found.top == expected == top
    assert found.areas == () and found.likeness > 0.9
    assert found.height == 600


def test_the_likeness() -> None:
    """Of what both show, near to the value of scikit-image; another picture than the message's own is outlined where it is."""
    whole = page()
    changed = whole.copy()
    changed.paste("#7A1FA2", (80, 300, 304, 400))
    found = held_against(octets(whole), 390, octets(changed))
    assert found is not None and found.top == 0
    assert found.areas == ((80, 288, 224, 112),)
    factor = round(390 / 256)
    one, other = (numpy.asarray(picture.convert("L").reduce(factor), dtype=float) for picture in (whole, changed))
    expected = structural_similarity(one, other, data_range=255, gaussian_weights=True, sigma=1.5, use_sample_covariance=False)
    assert abs(found.likeness - expected) < 0.02


def test_it_may_begin_above_and_end_below() -> None:
    """A status bar above the message lies outside of the render; what both show is held against each other."""
    whole = page(height=900)
    screen = Image.new("RGB", (390, 1100), "#222222")
    screen.paste(whole, (0, 90))
    found = held_against(octets(whole), 390, octets(screen))
    assert found is not None and found.top == -90


def test_nothing_in_common() -> None:
    """A strip of a pixel is no place; a very tall picture is cut, and takes no longer than a page does."""
    whole = octets(page())
    assert held_against(whole, 390, octets(Image.new("RGB", (3900, 8), "black"))) is None
    tall = held_against(whole, 390, octets(Image.new("RGB", (40, 40_000), "white")))
    assert tall is None or tall.height == 390 * 30
