"""Stand-in fonts have the widths of those they stand for, measured against published advance widths.

Source: Adobe's font metrics of the fourteen core fonts, as the general-purpose library fpdf2 carries them (in thousandths of the size).
Widths of Georgia, Verdana and the other families of fonts.toml are not published in a form that may be had here.
"""

import string
from pathlib import Path

import pytest
from fpdf.fonts import CORE_FONTS_CHARWIDTHS
from PIL import ImageFont

_FONTS = Path("/usr/share/fonts/truetype/liberation")
#: Space, letters, digits and the punctuation of copy.
_CHARACTERS = " " + string.ascii_letters + string.digits + ".,;:!?()&%$+-/"
_PAIRS = [
    ("helvetica", "LiberationSans-Regular.ttf"),
    ("helveticaB", "LiberationSans-Bold.ttf"),
    ("helveticaI", "LiberationSans-Italic.ttf"),
    ("times", "LiberationSerif-Regular.ttf"),
    ("timesB", "LiberationSerif-Bold.ttf"),
    ("courier", "LiberationMono-Regular.ttf"),
]


@pytest.mark.parametrize(("published", "ours"), _PAIRS)
def test_advance_widths(published: str, ours: str) -> None:
    """Each character is as wide as the original's, to a thousandth of the type's size."""
    font = ImageFont.truetype(_FONTS / ours, 2048, layout_engine=ImageFont.Layout.BASIC)
    for character in _CHARACTERS:
        measured = font.getlength(character) / 2.048
        assert measured == pytest.approx(CORE_FONTS_CHARWIDTHS[published][character], abs=1.0), character
