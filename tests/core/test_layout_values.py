"""Contrast, night colours, departures and anchors: the values that checks and the Appearance station rest on."""

import io
import random
from dataclasses import replace

import pytest
from coloraide import Color
from PIL import Image

from jetwind.core.images.difference import difference
from jetwind.core.images.see_through import see_through
from jetwind.core.markup import parse
from jetwind.core.markup.anchor import Anchor, anchor_of, find
from jetwind.core.profiles.night import at_night, from_lab, to_lab
from jetwind.core.renders.departure import departure
from jetwind.core.renders.measured import Block, Measured
from jetwind.core.renders.showing import effect
from jetwind.core.styles.contrast import contrast
from tests.factories import picture


def colour_at(data: bytes, at: tuple[int, int]) -> tuple[int, int, int]:
    """Red, green and blue of a picture at a place."""
    colour = Image.open(io.BytesIO(data)).convert("RGB").getpixel(at)
    assert isinstance(colour, tuple)
    return colour[0], colour[1], colour[2]


class TestContrast:
    """WCAG 2.2, relative luminance and contrast ratio."""

    @pytest.mark.parametrize(
        ("colour", "ratio"),
        [("#777", 4.478), ("#767676", 4.542), ("#949494", 3.033), ("#959595", 2.995), ("#595959", 7.005), ("#f00", 3.998), ("#ff6600", 2.936), ("#008000", 5.138), ("#000", 21), ("#fff", 1)],
    )  # fmt: skip
    def test_worked_examples(self, colour: str, ratio: float) -> None:
        """On white. Source: worked examples for WCAG 1.4.3, shared/references.md."""
        assert contrast(rgba(colour), (255, 255, 255, 1)) == pytest.approx(ratio, abs=0.0006)

    def test_against_a_colour_library(self) -> None:
        """500 seeded pairs. Source: PyPI coloraide, ``contrast(method="wcag21")``."""
        chance = random.Random(4)
        for _ in range(500):
            one, other = ([chance.randrange(256) for _ in range(3)] for _ in range(2))
            theirs = Color("srgb", [part / 255 for part in one]).contrast(Color("srgb", [part / 255 for part in other]), method="wcag21")
            assert contrast((*one, 1.0), (*other, 1.0)) == pytest.approx(theirs, rel=2e-3)  # type: ignore[arg-type]

    def test_see_through_letters(self) -> None:
        """Half-clear black on white is the grey that is seen."""
        assert contrast((0, 0, 0, 0.5), (255, 255, 255, 1)) == pytest.approx(contrast((127.5, 127.5, 127.5, 1), (255, 255, 255, 1)))


def rgba(text: str) -> tuple[float, float, float, float]:
    """A colour as the library reads it."""
    red, green, blue = (part * 255 for part in Color(text).convert("srgb").coords())
    return red, green, blue, 1.0


class TestNight:
    """The documented colour rule."""

    def test_lab_against_a_colour_library(self) -> None:
        """Forth and back, 300 seeded colours. Source: PyPI coloraide, ``lab-d65``."""
        chance = random.Random(5)
        for _ in range(300):
            colour = (chance.randrange(256), chance.randrange(256), chance.randrange(256))
            theirs = Color("srgb", [part / 255 for part in colour]).convert("lab-d65").coords()
            assert to_lab(colour) == pytest.approx(tuple(theirs), abs=0.02)
            assert from_lab(*to_lab(colour)) == colour

    def test_the_rule(self) -> None:
        """Lightness 12 + 0.88 × (100 - L); hue kept; what partial leaves alone."""
        assert at_night((255, 255, 255, 1), "ground", "full")[:3] == (31, 31, 31)
        assert at_night((0, 0, 0, 0.4), "letter", "full") == (255, 255, 255, 0.4)
        blue = at_night((31, 95, 139, 1), "letter", "full")
        assert to_lab(blue[:3])[0] == pytest.approx(12 + 0.88 * (100 - to_lab((31, 95, 139))[0]), abs=0.5)
        assert Color("srgb", [part / 255 for part in blue[:3]]).convert("lch-d65")["h"] == pytest.approx(
            Color("#1f5f8b").convert("lch-d65")["h"], abs=8
        )
        assert at_night((20, 20, 20, 1), "ground", "partial") == (20, 20, 20, 1)
        assert at_night((240, 240, 240, 1), "letter", "partial") == (240, 240, 240, 1)
        assert at_night((240, 240, 240, 1), "ground", "partial") != (240, 240, 240, 1)


def text(element: int, x: float, y: float, width: float = 200, height: float = 20, characters: int = 40) -> Block:
    """A block of text."""
    return Block(
        element,
        "text",
        x=x,
        y=y,
        width=width,
        height=height,
        characters=characters,
        size=16,
        weight=400,
        colour=(0, 0, 0, 1),
        ground=(255, 255, 255, 1),
    )


def laid(*blocks: Block, painted: tuple[tuple[float, float, float, float, str], ...] = ()) -> Measured:
    """A page of 600 px."""
    return Measured(600, 1000, 600, 700, blocks, painted=painted)


class TestDeparture:
    """By blocks and text, not by pixels."""

    def test_the_same_and_nothing_in_common(self) -> None:
        """0 and 100."""
        page = laid(text(1, 0, 0), text(2, 0, 40))
        assert departure(page, page).score == 0
        assert departure(page, laid()).score == 100
        assert {difference.kind for difference in departure(page, laid()).differences} == {"gone"}

    def test_what_is_pushed_down_counts_once(self) -> None:
        """A taller block above moves all that follows; only it and nothing else differs."""
        before = laid(text(1, 0, 0), text(2, 0, 30), text(3, 0, 60))
        after = laid(text(1, 0, 0, height=120), text(2, 0, 130), text(3, 0, 160))
        assert [(one.element, one.kind) for one in departure(before, after).differences] == [(1, "resized")]

    def test_order_of_how_bad_it_is(self) -> None:
        """Grain is nothing; a shift is less than a loss; fewer letters are told."""
        page = laid(text(1, 0, 0), text(2, 0, 40))
        grain = departure(page, laid(text(1, 2, 3), text(2, 2, 44))).score
        shift = departure(page, laid(text(1, 150, 0), text(2, 0, 40))).score
        loss = departure(page, laid(text(2, 0, 40))).score
        assert grain == 0 < shift < loss
        cut = departure(page, laid(text(1, 0, 0, characters=5), text(2, 0, 40)))
        assert cut.differences[0].kind == "shortened"
        assert departure(page, laid(*page.blocks, text(9, 0, 80))).differences[0].kind == "new"

    def test_other_numbers_in_another_revision(self) -> None:
        """Elements are matched by what they have become."""
        assert departure(laid(text(1, 0, 0)), laid(text(7, 0, 0)), {1: 7}).score == 0


class TestEffect:
    """Whether a loss shows."""

    def test_layout_look_and_nothing(self) -> None:
        """Moved text is layout, another ground is a look, a rounding difference is nothing."""
        page = laid(text(1, 0, 0), text(2, 0, 40), painted=((0, 0, 600, 60, "red"),))
        assert effect("css-gap", page, laid(text(1, 0, 0), text(2, 0, 80), painted=page.painted)) == "layout"
        assert effect("css-gap", page, laid(text(1, 0, 0), painted=page.painted)) == "layout"
        assert effect("css-gap", page, laid(*page.blocks, painted=((0, 0, 600, 60, "blue"),))) == "look"
        assert (
            effect("css-gap", page, laid(*(replace(block, colour=(9, 9, 9, 1)) for block in page.blocks), painted=page.painted)) == "look"
        )
        assert effect("css-gap", page, laid(text(1, 1, 2), text(2, 1, 43), painted=((0, 2, 600, 60, "red"),))) is None

    def test_a_page_without_its_body_is_no_loss(self) -> None:
        """A margin more or less is what half of all clients do."""
        page = laid(text(1, 8, 8))
        assert effect("html-body", page, laid(text(1, 0, 0))) is None
        assert effect("html-body", page, laid()) == "layout"


class TestAnchor:
    """A mark stays with the element."""

    SOURCE = "<table><tr><td><h1>Spring sale</h1><p>Twelve glazes, a fifth off.</p><a href='https://k.org/buy'>Buy now</a><img src='bowl.png' alt='A bowl'></td></tr></table>"

    @pytest.mark.parametrize("tag", ["h1", "p", "a", "img"])
    def test_found_again_after_changes(self, tag: str) -> None:
        """Something is put before it, it gets a class, a word changes; and after being kept as JSON."""
        document = parse(self.SOURCE)
        anchor = Anchor.from_json(anchor_of(next(document.elements(tag)), document).as_json())
        later = parse(
            "<div><p>New words</p><a href='https://k.org/top'>Top</a><img src='logo.png' alt='Logo'><h1>Other</h1></div>"
            + self.SOURCE.replace("Twelve", "Thirteen").replace("<h1>", "<h1 class=x>")
        )
        found = find(anchor, later)
        assert found is not None
        assert found is list(later.elements(tag))[1]

    def test_gone_is_gone(self) -> None:
        """Another text at the same place is not the same thing."""
        document = parse(self.SOURCE)
        anchor = anchor_of(next(document.elements("p")), document)
        assert find(anchor, parse(self.SOURCE.replace("Twelve glazes, a fifth off.", "The studio is closed on Monday"))) is None
        assert find(anchor, parse("<div>nothing alike</div>")) is None

    def test_of_two_alike_the_same_one(self) -> None:
        """The number among its like decides."""
        document = parse("<p>Read more</p><p>Read more</p><p>Read more</p>")
        second = list(document.elements("p"))[1]
        assert find(anchor_of(second, document), document) is second


class TestPictureValues:
    """Differences of pictures, and what is drawn on nothing."""

    def test_difference(self) -> None:
        """Equal is nothing; a half that differs is half; what only one covers counts."""
        white, black = picture(40, 20, "#FFFFFF"), picture(40, 20, "#000000")
        assert difference(white, 40, white, 40).share == 0
        assert difference(white, 40, black, 40).share == 1
        wide = difference(white, 40, picture(80, 20, "#FFFFFF"), 80)
        assert (wide.width, wide.share) == (80, 0.5)
        red, green, blue = colour_at(wide.drawn(), (60, 10))
        assert red > 180 > green > blue  # the signal colour, over the faded page
        assert min(colour_at(wide.drawn(), (10, 10))) > 245
        assert difference(picture(80, 40, "#FFFFFF"), 40, white, 40).share == 0  # twice the device pixels, the same picture

    def test_drawn_on_nothing(self) -> None:
        """Colours and the clear share; nothing for a picture without clear pixels or one that is none."""
        canvas = Image.new("RGBA", (40, 20), (0, 0, 0, 0))
        canvas.paste((20, 20, 20, 255), (0, 0, 10, 20))
        out = io.BytesIO()
        canvas.save(out, "PNG")
        found = see_through(out.getvalue())
        assert found is not None
        assert found.clear_share == pytest.approx(0.75)
        assert found.colours == ((1.0, (17, 17, 17)),)
        assert see_through(picture()) is None
        assert see_through(b"no picture") is None
