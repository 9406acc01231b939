"""A picture of a real screen held against a render: where on the render it lies, how alike the two are, and where they differ."""

from __future__ import annotations

import io
import math
import warnings
from dataclasses import dataclass
from typing import TYPE_CHECKING

from jetwind.core.images.difference import difference
from jetwind.core.images.likeness import likeness

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray
    from PIL import Image

#: The width to which both are brought to find the place, the bands of a row, in px, and the rows that both must share at least.
_WIDE, _BANDS, _LEAST = 200, 25, 40
#: As tall as a picture may be for its width; what lies below is left out.
_TALLEST = 30
#: A cell counts as different from this mean on (from 0 to 255): edges of colours that JPEG blurs over two px do not reach it.
_BLURRED = 36


@dataclass(frozen=True, slots=True)
class Held:
    """A screen picture on a render. ``top`` is where its upper edge lies on the render, in CSS px of the render; less than 0 where it begins above.

    The screen picture and the render overlap in a part of the render. ``likeness`` is the structural similarity of the two pictures in this
    part, from 0 to 1. ``share`` is how much of this part differs, from 0 to 1. Each of ``areas`` is one place that differs: its left, top,
    width and height in CSS px of the render. ``height`` is the height of the screen picture once it has the width of the render.
    """

    top: int
    height: int
    likeness: float
    share: float
    areas: tuple[tuple[int, int, int, int], ...]


def held_against(render: bytes, width: int, screen: bytes) -> Held | None:
    """Hold a screen picture against a render that is ``width`` CSS px wide; None where they share no height worth looking at.

    The screen picture shows the message over its whole width. It is moved up and down until the mean difference of what both show is least.

    Raises:
        OSError: a picture does not decode.
    """
    first, second = (_at_width(_opened(data), width) for data in (render, screen))
    rough = _place(_rows(first, _WIDE), _rows(second, _WIDE), range(-second.height, first.height))
    if rough is None:
        return None
    near = round(rough * width / _WIDE)
    reach = math.ceil(width / _WIDE) + 1
    top = _place(_rows(first, width), _rows(second, width), range(near - reach, near + reach + 1))
    if top is None:
        return None
    begins, ends = max(top, 0), min(first.height, top + second.height)
    if ends - begins < 8:
        return None
    one = first.crop((0, begins, width, ends))
    other = second.crop((0, begins - top, width, ends - top))
    found = difference(_png(one), width, _png(other), width)
    areas = tuple((x, y + begins, wide, tall) for x, y, wide, tall in found.areas(_BLURRED))
    return Held(top, second.height, round(likeness(one, other), 4), round(found.share, 4), areas)


def _opened(data: bytes) -> Image.Image:
    from PIL import Image

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        return Image.open(io.BytesIO(data)).convert("RGB")


def _at_width(picture: Image.Image, width: int) -> Image.Image:
    from PIL import Image

    cut = picture.crop((0, 0, picture.width, min(picture.height, picture.width * _TALLEST)))
    return cut if cut.width == width else cut.resize((width, max(1, round(cut.height * width / cut.width))), Image.Resampling.BOX)


def _png(picture: Image.Image) -> bytes:
    out = io.BytesIO()
    picture.save(out, "PNG", compress_level=1)
    return out.getvalue()


def _rows(picture: Image.Image, width: int) -> NDArray[np.float32]:
    """The lightness of a picture brought to a width in px, row by row, in bands."""
    import numpy as np
    from PIL import Image

    small = picture.convert("L").resize((_BANDS, max(1, round(picture.height * width / picture.width))), Image.Resampling.BOX)
    return np.asarray(small, dtype=np.float32)


def _place(render: NDArray[np.float32], screen: NDArray[np.float32], among: range) -> int | None:
    """The row of the render, among these, at which the first row of the screen picture lies; None where both share too few rows.

    The more of the screen picture lies on the render, the better: a few rows that happen to agree are no place.
    """
    import numpy as np

    least = min(_LEAST, len(render), len(screen))
    best: tuple[float, int] | None = None
    for top in range(max(among.start, least - len(screen)), min(among.stop, len(render) - least + 1)):
        begins, ends = max(top, 0), min(len(render), top + len(screen))
        apart = np.abs(render[begins:ends] - screen[begins - top : ends - top]).mean()
        missed = 1 - (ends - begins) / min(len(screen), len(render))
        score = float(apart) + 40 * missed
        if best is None or score < best[0]:
            best = (score, top)
    return best[1] if best is not None else None
