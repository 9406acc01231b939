"""How a picture looks to other eyes: the three colour-vision deficiencies, and weak sight.

Source: G. M. Machado, M. M. Oliveira, L. A. F. Fernandes, “A physiologically-based model for simulation of color vision deficiency”,
IEEE Transactions on Visualization and Computer Graphics 15 (2009), table of severity 1.0; applied to linear RGB. Held against coloraide in the
tests. Weak sight is a blur: common practice, no published source.
"""

from __future__ import annotations

from dataclasses import dataclass

Matrix = tuple[tuple[float, float, float], ...]

#: Linear RGB as seen, from linear RGB as shown; a row for each of red, green, blue.
MACHADO: dict[str, Matrix] = {
    "protanopia": ((0.152286, 1.052583, -0.204868), (0.114503, 0.786281, 0.099216), (-0.003882, -0.048116, 1.051998)),
    "deuteranopia": ((0.367322, 0.860646, -0.227968), (0.280085, 0.672501, 0.047413), (-0.011820, 0.042940, 0.968881)),
    "tritanopia": ((1.255528, -0.076749, -0.178779), (-0.078411, 0.930809, 0.147602), (0.004733, 0.691367, 0.303900)),
}


@dataclass(frozen=True, slots=True)
class Sight:
    """A way to see: its name for addresses and styles, its words, and what a filter of a browser does for it.

    ``matrix`` holds the 20 values of ``feColorMatrix`` (Filter Effects 1 §9.6), empty for none; ``blur`` is in CSS px.
    """

    name: str
    words: str
    matrix: str = ""
    blur: float = 0.0


def _values(matrix: Matrix) -> str:
    return " ".join([*(" ".join(f"{value:g}" for value in (*row, 0, 0)) for row in matrix), "0 0 0 1 0"])


SIGHTS: tuple[Sight, ...] = (
    Sight("full", "with full sight"),
    Sight("protanopia", "without red cones (protanopia)", _values(MACHADO["protanopia"])),
    Sight("deuteranopia", "without green cones (deuteranopia)", _values(MACHADO["deuteranopia"])),
    Sight("tritanopia", "without blue cones (tritanopia)", _values(MACHADO["tritanopia"])),
    Sight("weak", "with weak sight (blurred)", blur=2.0),
)
