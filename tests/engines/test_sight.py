"""How renders look to other eyes, in the real browser: each colour as a second library computes it.

Source: coloraide (filters protan, deutan, tritan by Machado 2009, severity 1.0).
"""

from __future__ import annotations

import io
from typing import Any

import pytest
from coloraide.everything import ColorAll
from PIL import Image

from jetwind.core.styles.sight import MACHADO, SIGHTS
from tests.chromium import in_chromium

_THEIRS = {"protanopia": "protan", "deuteranopia": "deutan", "tritanopia": "tritan"}
_COLOURS = ("#ff0000", "#00ff00", "#0000ff", "#1f5f8b", "#b93c0a", "#f6f4ee", "#808080", "#000000", "#ffffff", "#8a5a00", "#1e6b4a")


@pytest.mark.parametrize("name", MACHADO)
def test_matrices(name: str) -> None:
    """The same rows; each adds up to one, so that grey stays grey."""
    for colour in _COLOURS:
        own = ColorAll(colour).convert("srgb-linear").coords()
        seen = [sum(part * value for part, value in zip(row, own, strict=True)) for row in MACHADO[name]]
        theirs = ColorAll(colour).filter(_THEIRS[name], 1, method="machado").convert("srgb-linear").coords(nans=False)
        assert seen == pytest.approx(theirs, abs=1e-6)
    assert [sum(row) for row in MACHADO[name]] == pytest.approx([1, 1, 1], abs=1e-5)


def test_in_the_browser() -> None:
    """The filter of the page gives the colour that the matrix says, to a step or two of 255."""
    boxes = "".join(f'<i style="display:block;width:40px;height:20px;background:{colour}"></i>' for colour in _COLOURS)
    shots: dict[str, bytes] = {}

    def work(browser: Any) -> None:
        page = browser.new_page(viewport={"width": 40, "height": 20 * len(_COLOURS)})
        for sight in SIGHTS:
            if sight.matrix:
                values = f'<feColorMatrix type="matrix" values="{sight.matrix}"/>'
                drawn = f'<svg width="0" height="0"><filter id="f" color-interpolation-filters="linearRGB">{values}</filter></svg>'
                page.set_content(f'<body style="margin:0">{drawn}<div style="position:absolute;top:0;filter:url(#f)">{boxes}</div>')
                shots[sight.name] = page.screenshot()

    in_chromium(work)
    assert set(shots) == set(MACHADO)
    for name, shot in shots.items():
        picture = Image.open(io.BytesIO(shot)).convert("RGB")
        for number, colour in enumerate(_COLOURS):
            theirs = ColorAll(colour).filter(_THEIRS[name], 1, method="machado").convert("srgb").clip()
            wanted = [round(part * 255) for part in theirs.coords(nans=False)]
            assert picture.getpixel((20, 20 * number + 10)) == pytest.approx(tuple(wanted), abs=3), (name, colour)
