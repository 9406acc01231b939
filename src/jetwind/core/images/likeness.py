"""How alike two pictures look: structural similarity.

Source: Z. Wang, A. C. Bovik, H. R. Sheikh, E. P. Simoncelli, “Image quality assessment: from error visibility to structural similarity”,
IEEE Transactions on Image Processing 13 (2004), with the values of its section III.C: a Gaussian window of 11 × 11 px and σ 1.5,
K₁ 0.01, K₂ 0.03. Held against scikit-image in the tests. Larger pictures are averaged down first, as the authors' own program suggests:
by the shorter side over 256 (ssim.m, suggested usage; from memory).
"""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray
    from PIL import Image

_SIGMA, _RADIUS = 1.5, 5
_SIDE = 256
_C1, _C2 = (0.01 * 255) ** 2, (0.03 * 255) ** 2


def likeness(one: Image.Image, other: Image.Image) -> float:
    """The mean structural similarity of the lightness of two pictures of equal size: 1 where they are equal, less the more they differ.

    Raises:
        ValueError: their sizes differ.
    """
    return Likeness(one).to(other)


class Likeness:
    """One picture that several are held against: what its own part of the work gives is kept."""

    def __init__(self, picture: Image.Image, *, averages: bool = True) -> None:
        self.size = picture.size
        self._factor = max(1, round(min(picture.size) / _SIDE)) if averages else 1
        self._values = _lightness(picture, self._factor)
        self._mean = _blurred(self._values)
        self._variance = _blurred(self._values * self._values) - self._mean * self._mean

    def to(self, other: Image.Image) -> float:
        """The likeness of another picture to it; see :func:`likeness`."""
        if other.size != self.size:
            raise ValueError(f"a picture of {other.size} cannot be held against one of {self.size}")
        values = _lightness(other, self._factor)
        mean = _blurred(values)
        variance = _blurred(values * values) - mean * mean
        together = _blurred(self._values * values) - self._mean * mean
        above = (2 * self._mean * mean + _C1) * (2 * together + _C2)
        below = (self._mean * self._mean + mean * mean + _C1) * (self._variance + variance + _C2)
        return float((above / below).mean())


def _lightness(picture: Image.Image, factor: int) -> NDArray[np.float32]:
    import numpy as np

    grey = picture if picture.mode == "L" else picture.convert("RGB").convert("L")
    return np.asarray(grey if factor == 1 else grey.reduce(factor), dtype=np.float32)


def _blurred(values: NDArray[np.float32]) -> NDArray[np.float32]:
    """Each pixel as the mean of its window, which is taken to go on mirrored beyond the edges."""
    import numpy as np

    offsets = np.arange(-_RADIUS, _RADIUS + 1, dtype=np.float32)
    window = np.exp(-(offsets**2) / (2 * _SIGMA**2))
    window /= window.sum()
    for axis in (0, 1):
        room = [(_RADIUS, _RADIUS) if number == axis else (0, 0) for number in (0, 1)]
        padded = np.pad(values, room, mode="symmetric")
        length = values.shape[axis]
        parts = (
            padded[number : number + length] if axis == 0 else padded[:, number : number + length] for number in range(2 * _RADIUS + 1)
        )
        total = np.zeros_like(values)
        for weight, part in zip(window, parts, strict=True):
            total += weight * part
        values = total
    return values
