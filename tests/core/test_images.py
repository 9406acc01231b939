"""Pictures: what their files hold, where messages show them; hostile ones are bounded."""

from __future__ import annotations

import base64
import csv
import io
import random
import zipfile
from typing import Any

import numpy as np
import piexif
import pytest
import skimage.data
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from skimage.metrics import structural_similarity

from jetwind.core.checking import Context, Outcome, registry, run_check
from jetwind.core.checking.samples import answered, opened, pictured
from jetwind.core.images.collecting import pictures_of
from jetwind.core.images.facts import MOST_FRAMES, PictureFacts, facts_of
from jetwind.core.images.flashes import SIDE, Sight, flashing_share
from jetwind.core.images.handing_out import Handed, package_of
from jetwind.core.images.lighter import candidates, lighter, widths_for
from jetwind.core.images.likeness import Likeness, likeness
from jetwind.core.images.placing import with_lighter
from jetwind.core.message import Message, Resource, Sample, read_bytes
from tests.factories import mail, package, picture
from tests.references import newsletters

_PIXEL = base64.b64decode("R0lGODlhAQABAIAAAAAAAP///yH5BAEAAAAALAAAAAABAAEAAAIBRAA7")


def saved(image: Image.Image, form: str, **more: Any) -> bytes:
    """A picture as a file."""
    out = io.BytesIO()
    image.save(out, form, **more)
    return out.getvalue()


def animation(frames: list[Image.Image], wait: int, form: str = "GIF") -> bytes:
    """Frames shown for ``wait`` ms each."""
    return saved(
        frames[0], form, save_all=True, append_images=frames[1:], duration=wait, loop=0, **({"lossless": True} if form == "WEBP" else {})
    )


def plain(colour: str | tuple[int, int, int], size: tuple[int, int] = (200, 150)) -> Image.Image:
    """One colour."""
    return Image.new("RGB", size, colour)


def grain(size: tuple[int, int] = (300, 200)) -> Image.Image:
    """A picture with much to see."""
    chance = random.Random(4)
    return Image.frombytes("RGB", size, chance.randbytes(size[0] * size[1] * 3))


class TestFacts:
    """By content, whatever the file is called."""

    @pytest.mark.parametrize(
        ("form", "first_octets"),
        [
            ("PNG", b"\x89PNG\r\n\x1a\n"),  # PNG (ISO/IEC 15948) §5.2
            ("JPEG", b"\xff\xd8\xff"),  # JPEG (ISO/IEC 10918-1) B.1.1.3: SOI, then a marker
            ("GIF", b"GIF8"),  # GIF89a §17
            ("WEBP", b"RIFF"),  # RFC 9649 §2.4
            ("BMP", b"BM"),  # from memory
            ("TIFF", b"II*\0"),  # TIFF 6.0 §2
        ],
    )
    def test_formats(self, form: str, first_octets: bytes) -> None:
        """The format's own first octets, size and weight as they are."""
        data = saved(grain((31, 17)), form)
        assert data.startswith(first_octets)
        facts = facts_of(data)
        assert (facts.format, facts.width, facts.height, facts.octets, facts.frames, facts.fault) == (form, 31, 17, len(data), 1, "")
        assert PictureFacts.from_json(facts.as_json()) == facts

    @pytest.mark.parametrize(
        ("mode", "form", "colours"),
        [
            ("L", "PNG", "grey"),
            ("P", "PNG", "palette"),
            ("RGB", "JPEG", "rgb"),
            ("CMYK", "JPEG", "cmyk"),
            ("I;16", "PNG", "16-bit"),
            ("RGBA", "PNG", "rgb"),
        ],
    )
    def test_colours(self, mode: str, form: str, colours: str) -> None:
        """As the file keeps them."""
        assert facts_of(saved(Image.new(mode, (9, 9)), form)).colours == colours

    def test_sixteen_bits_a_colour(self) -> None:
        """A PNG of 16-bit RGB: IHDR says depth 16, colour type 2 (PNG §11.2.2)."""
        import struct
        import zlib

        def chunk(kind: bytes, data: bytes) -> bytes:
            return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

        raw = b"".join(b"\0" + b"\x12\x34" * 3 * 4 for _ in range(4))
        data = (
            b"\x89PNG\r\n\x1a\n"
            + chunk(b"IHDR", struct.pack(">IIBBBBB", 4, 4, 16, 2, 0, 0, 0))
            + chunk(b"IDAT", zlib.compress(raw))
            + chunk(b"IEND", b"")
        )
        assert facts_of(data).colours == "16-bit"

    def test_people(self) -> None:
        """A position and names, written by a second library (piexif)."""
        exif = piexif.dump(
            {
                "0th": {piexif.ImageIFD.Artist: b"Odell Marsh"},
                "Exif": {piexif.ExifIFD.CameraOwnerName: b"Rosa Quill"},
                "GPS": {
                    piexif.GPSIFD.GPSLatitudeRef: b"N",
                    piexif.GPSIFD.GPSLatitude: ((52, 1), (3, 1), (1, 1)),
                    piexif.GPSIFD.GPSLongitudeRef: b"E",
                    piexif.GPSIFD.GPSLongitude: ((4, 1), (8, 1), (1, 1)),
                },
            }
        )
        facts = facts_of(saved(grain(), "JPEG", exif=exif))
        assert (facts.has_position, facts.people) == (True, ("Odell Marsh", "Rosa Quill"))
        without = piexif.dump({"0th": {piexif.ImageIFD.Make: b"Kiln"}, "GPS": {piexif.GPSIFD.GPSVersionID: (2, 3, 0, 0)}})
        facts = facts_of(saved(grain(), "JPEG", exif=without))
        assert (facts.has_position, facts.people) == (False, ())

    def test_clear_pixels(self) -> None:
        """An alpha channel, or one clear colour of a palette."""
        assert facts_of(saved(Image.new("RGBA", (9, 9)), "PNG")).is_clear
        assert facts_of(_PIXEL).is_clear
        assert not facts_of(saved(plain("red"), "PNG")).is_clear


class TestMotion:
    """Flashes by WCAG's definition, and what the first frame shows."""

    @pytest.mark.parametrize(
        ("wait", "dark", "light", "share"),
        [
            (100, "black", "white", 1.0),  # five flashes a second
            (130, "black", "white", 1.0),  # nearly four
            (170, "black", "white", 0.0),  # fewer than three
            (100, (100, 100, 100), (118, 118, 118), 0.0),  # a change under 10 % of luminance
            (100, (233, 233, 233), "white", 0.0),  # the darker side above 0.8
            (100, (170, 0, 0), (140, 140, 140), 1.0),  # a saturated red that comes and goes
            (10, "black", "white", 1.0),  # asks for 10 ms and is shown for 100
        ],
    )
    def test_flashes(self, wait: int, dark: Any, light: Any, share: float) -> None:
        """Two colours in turn."""
        assert facts_of(animation([plain(dark), plain(light)] * 10, wait)).flashing == share

    def test_a_part_that_flashes(self) -> None:
        """Its share of the area; a fine pattern that flickers evenly is none (WCAG 2.2, the exception of the definition)."""
        quarter = plain("black")
        quarter.paste("white", (0, 0, 100, 75))
        assert facts_of(animation([plain("black"), quarter] * 10, 100)).flashing == pytest.approx(0.25, abs=0.03)
        rows = [plain("black"), plain("black")]
        for number, frame in enumerate(rows):
            for y in range(number, 150, 2):
                frame.paste("white", (0, y, 200, y + 1))
        assert facts_of(animation(rows * 10, 100)).flashing == 0

    def test_one_fade_is_no_flash(self) -> None:
        """Brighter and brighter over fifty frames."""
        assert facts_of(animation([plain((step * 5, step * 5, step * 5)) for step in range(50)], 40)).flashing == 0

    @pytest.mark.parametrize("form", ["GIF", "WEBP"])
    def test_first_frame(self, form: str) -> None:
        """Blank at first, then a picture."""
        late = facts_of(animation([plain("white", (300, 200)), grain(), grain()], 300, form))
        assert late.frames >= 2
        assert late.first_detail < 0.5 < 10 < late.most_detail
        soon = facts_of(animation([grain(), plain("white", (300, 200))], 300, form))
        assert soon.first_detail == soon.most_detail


def _bombs() -> dict[str, tuple[bytes, str]]:
    whole = saved(grain((600, 400)), "JPEG")
    png = saved(grain(), "PNG")
    return {
        "pixels": (saved(Image.new("1", (20_000, 20_000)), "PNG"), "too-large"),
        "cut JPEG": (whole[: len(whole) // 2], "cut-off"),
        "cut PNG": (png[: len(png) // 2], "cut-off"),
        "no picture": (b"<html>Not found</html>", "unknown"),
        "empty": (b"", "unknown"),
        "head only": (_PIXEL[:6], "unknown"),
        "no stream inside": (png.replace(b"IDAT\x78", b"IDAT\xff", 1), "damaged"),
        "a drawing that draws itself": (b"<svg>" + b"<use href='#a'/>" * 20 + b"</svg>", "damaged"),
    }


class TestHostile:
    """Nothing raises, and one finding says what is wrong."""

    @pytest.mark.parametrize("what", _bombs())
    def test_faults(self, what: str) -> None:
        """Told by facts, and by one check alone."""
        data, fault = _bombs()[what]
        assert facts_of(data).fault == fault
        copy = "<p>Pots, bowls and cups, all thrown by hand.</p>"
        message = read_bytes(package(f"{copy}<img src='a.png' width='300' height='200' alt='Pots'>", a_dot_png=data), "a.zip")
        told = {
            check_id
            for check_id in registry()
            if check_id.startswith("images.") and run_check(registry()[check_id], message, Context()).findings
        }
        assert told == {"images.corrupt"}

    def test_a_thousand_frames(self) -> None:
        """Counted up to a limit; as many are looked at as may be."""
        facts = facts_of(animation([plain((number % 256, number // 256, 0), (30, 20)) for number in range(MOST_FRAMES + 50)], 50))
        assert (facts.frames, facts.fault) == (MOST_FRAMES, "")
        assert facts.took_ms == 150 * 50

    def test_very_tall(self) -> None:
        """1 × 30,000 px is a picture."""
        facts = facts_of(saved(Image.new("RGB", (1, 30_000)), "PNG"))
        assert (facts.width, facts.height, facts.fault) == (1, 30_000, "")

    def test_an_animation_that_ends_within_a_number(self) -> None:
        """What the library below raises then is none of Python's usual errors (struct.error; found by chance)."""
        octets = bytearray(animation([plain("red"), plain("blue")], 50))
        octets[6] = 0
        for end in (353, 200, 60, 30):
            assert facts_of(bytes(octets[:end])).fault != ""
            assert lighter(bytes(octets[:end]), 100, 0.5) is None

    @given(st.data())
    def test_any_octets(self, data: st.DataObject) -> None:
        """Changed, cut, doubled: an answer, never an exception."""
        whole = data.draw(
            st.sampled_from(
                [saved(grain((40, 30)), form) for form in ("PNG", "JPEG", "GIF", "WEBP")] + [animation([plain("red"), plain("blue")], 50)]
            )
        )
        octets = bytearray(whole)
        for _ in range(data.draw(st.integers(1, 6))):
            octets[data.draw(st.integers(0, len(octets) - 1))] = data.draw(st.integers(0, 255))
        facts_of(bytes(octets[: data.draw(st.integers(1, len(octets)))]))


_DRAWN = "<!--[if mso]><v:rect><v:fill type='frame' src='tile.png'/></v:rect><![endif]-->"


def everywhere() -> Message:
    """A package that shows pictures in every way."""
    page = f"""<style>.a {{ background: url("sheet.png") }}</style><body background="tile.png">{_DRAWN}
    <img src="one.png" alt="A"><img src="./one.png?x" alt="B"><p style="background-image:url('tile.png')">x</p>
    <picture><source srcset="two.png 2x"><img src="one.png" srcset="one.png 1x, two.png 2x" alt="C"></picture>
    <img src="data:image/gif;base64,{base64.b64encode(_PIXEL).decode()}" alt="D"><img src="gone.png" alt="E">
    <img src="https://kiln.org/far.jpg" alt="F"><img src="//kiln.org/far.jpg" alt="G"><img src="https://kiln.org/{{{{ size }}}}.jpg" alt="H">
    <img src="https://kiln.org/open.gif" width="1" height="1" alt=""></body>"""
    files = {name: picture(number + 10, 10) for number, name in enumerate(("one.png", "two.png", "tile.png", "sheet.png"))}
    return read_bytes(package(page, **{name.replace(".", "_dot_"): data for name, data in files.items()}), "a.zip")


def _sights(values: list[float], wait: int) -> list[Sight]:
    """Frames of one even lightness each."""
    blocks = SIDE * SIDE
    return [Sight(number * wait, (value,) * blocks, (None,) * blocks, 0.0) for number, value in enumerate(values)]


class TestFlashesByDefinition:
    """Properties that hold for every animation."""

    @given(st.lists(st.floats(0, 1), min_size=2, max_size=30), st.integers(20, 400))
    def test_share(self, values: list[float], wait: int) -> None:
        """None or all of an even picture; slower never flashes more; fewer than eight changes a second never flash."""
        share = flashing_share(_sights(values, wait), wait * len(values))
        assert share in (0, 1)
        assert flashing_share(_sights(values, wait * 4), wait * 4 * len(values)) <= share
        if wait > 143:
            assert share == 0

    @given(st.lists(st.floats(0, 1), min_size=2, max_size=30), st.integers(20, 400))
    def test_faint_or_bright(self, values: list[float], wait: int) -> None:
        """Changes under a tenth, and changes among what is brighter than 0.8, are no flashes."""
        assert flashing_share(_sights([0.4 + value * 0.09 for value in values], wait), wait * len(values)) == 0
        assert flashing_share(_sights([0.81 + value * 0.19 for value in values], wait), wait * len(values)) == 0

    def test_three_are_let_pass(self) -> None:
        """Three flashes in a second, then rest; four are too many."""
        for flashes, share in ((3, 0), (4, 1)):
            values = [0.0, 1.0] * flashes + [0.0] * 40
            assert flashing_share(_sights(values, 110), 110 * len(values)) == share


class TestCollecting:
    """Every picture once, with every place that shows it."""

    def test_everywhere(self) -> None:
        """Attributes, styles, candidates, drawings; along, inside, elsewhere."""
        known = {"https://kiln.org/far.jpg": PictureFacts(9_000, "JPEG", width=600, height=400)}
        found = {one.name: one for one in pictures_of(everywhere(), known, (Sample("Bo", {"size": "large"}),))}
        ways = {name: sorted(use.way for use in one.uses) for name, one in found.items()}
        assert ways == {
            "one.png": ["candidate", "image", "image", "image"],
            "two.png": ["candidate", "candidate"],
            "tile.png": ["background", "background", "drawing"],
            "sheet.png": ["sheet"],
            "a picture inside the HTML": ["image"],
            "far.jpg": ["image", "image"],
            "large.jpg": ["image"],
            "open.gif": ["image"],
        }
        assert [found[name].where for name in ("one.png", "a picture inside the HTML", "far.jpg")] == ["along", "inside", "elsewhere"]
        assert found["far.jpg"].facts == known["https://kiln.org/far.jpg"]
        assert found["large.jpg"].facts is None
        assert [name for name, one in found.items() if one.is_tracking] == ["open.gif"]

    def test_fetched_pictures_are_measured(self) -> None:
        """As those that travel along."""
        from jetwind.core.images.elsewhere import with_fetched

        data = picture(30, 20)
        message = with_fetched(
            read_bytes(mail("<img src='https://kiln.org/far.png' alt='x'>"), "a.eml"),
            {"https://kiln.org/far.png": Resource("far.png", "image/png", None, data)},
        )
        (one,) = pictures_of(message)
        assert (one.data, one.facts) == (data, facts_of(data))


A_POT = "https://kiln.org/pot.jpg"


def told(html: str, check_id: str, **facts: Any) -> list[str]:
    """What a check says of a mail whose only picture on a server was fetched."""
    message = read_bytes(mail(html, None), "a.eml")
    return [finding.message for finding in run_check(registry()[check_id], message, Context(**pictured(A_POT, **facts))).findings]


class TestFaultsInNewsletters:
    """A picture put into real newsletters, with each fault of its file or its size: told once, and what is right is not."""

    FAULTS = (
        ("images.corrupt", {"fault": "cut-off"}),
        ("images.location", {"has_position": True}),
        ("images.colour-space", {"colours": "cmyk"}),
        ("images.format", {"format": "AVIF"}),
        ("images.oversized", {"width": 2400, "height": 1600}),
        ("images.upscaled", {"width": 200, "height": 133}),
        ("images.distorted", {"width": 600, "height": 600}),
        ("images.first-frame", {"format": "GIF", "frames": 9, "first_detail": 0.1, "most_detail": 20.0}),
        ("images.flash", {"format": "GIF", "frames": 9, "flashing": 0.9}),
        ("images.total-heavy", {"octets": 2_000_000}),
        ("images.heavy", {"octets": 300_000}),
    )

    @pytest.mark.parametrize(("check_id", "facts"), FAULTS)
    def test_told_once(self, check_id: str, facts: dict[str, Any]) -> None:
        """Before and after, in a dozen messages that nobody here wrote."""
        seen = 0
        for name, raw in newsletters()[:45]:
            message = read_bytes(raw, f"{name}.eml")
            body = message.document.body.start_tag if message.document is not None else None
            if message.html is None or body is None:
                continue
            text = message.html.text
            changed = f'{text[: body.end]}<img src="{A_POT}" width="600" height="400" alt="A pot">{text[body.end :]}'
            right, wrong = (
                [
                    finding
                    for finding in run_check(
                        registry()[check_id], read_bytes(b"\xef\xbb\xbf" + changed.encode(), "a.html"), Context(**pictured(A_POT, **more))
                    ).findings
                    if "pot.jpg" in str(finding.data)
                ]
                for more in ({"width": 1200, "height": 800}, {"width": 1200, "height": 800, **facts})
            )
            assert right == [], name
            assert len(wrong) == 1, name
            seen += 1
        assert seen >= 8


class TestReaders:
    """What only some reader's copy has."""

    def test_a_link_that_is_empty_for_somebody(self) -> None:
        """The alternative text stands in a condition that one reader does not meet; an empty field alone is told as a hole, once (decision 20)."""
        words = '{% if course == "Throwing" %}{{ course }}{% endif %}'
        html = f"<p>Pots</p><a href='https://kiln.org/c'><img src='https://kiln.org/c.png' width='300' alt='{words}'></a>"
        message = read_bytes(mail(html, None), "a.eml")
        readers = (Sample("Bo", {"course": "Throwing"}), Sample("Nobody", {"course": ""}))
        answer = run_check(registry()["access.alt-link-empty"], message, Context(readers=readers))
        (finding,) = answer.findings
        assert "Nobody" in f"{finding.message} {finding.data}"
        assert run_check(registry()["access.alt-link-empty"], message, Context(readers=readers[:1])).findings == ()

    def test_a_picture_for_each_reader(self) -> None:
        """An address with a field is that of the first reader; without readers nobody knows which picture it is."""
        message = read_bytes(mail("<img src='https://kiln.org/{{ size }}.jpg' width='300' alt='x'>", None), "a.eml")
        readers = (Sample("Bo", {"size": "large"}), Sample("Li", {"size": "small"}))
        assert [one.key for one in pictures_of(message, None, readers)] == ["https://kiln.org/large.jpg"]
        assert pictures_of(message) == []


class TestOptions:
    """Thresholds that a house sets."""

    @pytest.mark.parametrize(
        ("check_id", "option", "strict", "loose", "facts"),
        [
            ("images.oversized", "most_times", 1.5, 3.0, {"width": 1000, "height": 667}),
            ("images.first-frame", "least_share", 0.9, 0.1, {"format": "GIF", "frames": 4, "first_detail": 5.0, "most_detail": 10.0}),
            ("images.flash", "most_share", 0.1, 0.9, {"format": "GIF", "frames": 4, "flashing": 0.5}),
            ("images.total-heavy", "most_octets", 10_000, 90_000, {"octets": 50_000}),
        ],
    )
    def test_strict_and_loose(self, check_id: str, option: str, strict: float, loose: float, facts: dict[str, Any]) -> None:
        """Found under the strict one, not under the loose one."""
        message = read_bytes(mail(f"<img src='{A_POT}' width='500' height='333' alt='A pot'>", None), "a.eml")
        for value, count in ((strict, 1), (loose, 0)):
            context = Context(settings={check_id: {option: value}}, **pictured(A_POT, **facts))
            assert len(run_check(registry()[check_id], message, context).findings) == count


class TestAnswers:
    """What checks say where nobody looked."""

    def test_lost_and_counting_pictures(self) -> None:
        """One that did not come is told by another check, one that counts openings is never asked for: neither stands in the way."""
        html = f"<img src='{A_POT}' width='300' height='200' alt='x'><img src='https://kiln.org/o.gif' width='1' height='1' alt=''>"
        message = read_bytes(mail(html, None), "a.eml")
        lost = opened(pictures=(answered(A_POT, 404),))
        assert run_check(registry()["images.corrupt"], message, Context(**lost)).outcome is Outcome.CLEAR
        assert len(run_check(registry()["images.unreachable"], message, Context(**lost)).findings) == 1
        assert told(html, "images.corrupt") == []
        assert told(html, "images.corrupt", fault="damaged") == ["The picture pot.jpg is damaged and does not open."]

    def test_one_picture_is_one_finding(self) -> None:
        """Shown in three places it is told once, with all of them."""
        html = f"<img src='{A_POT}' width='300' alt='x'>" * 2 + f"<p style='background:url({A_POT})'>x</p>"
        message = read_bytes(mail(html, None), "a.eml")
        (finding,) = run_check(registry()["images.location"], message, Context(**pictured(A_POT, has_position=True))).findings
        assert len(finding.places) == 3

    def test_not_fetched(self) -> None:
        """No clearance for a picture that was not seen; what was seen is told all the same."""
        message = read_bytes(mail("<img src='https://kiln.org/far.jpg' width='300' alt='x'>"), "a.eml")
        for check_id in ("images.corrupt", "images.format", "images.location", "images.flash", "images.total-heavy", "images.oversized"):
            assert run_check(registry()[check_id], message, Context()).outcome is Outcome.CANNOT_TELL, check_id

    def test_no_pictures(self) -> None:
        """Does not apply."""
        message = read_bytes(mail("<p>Pots</p>"), "a.eml")
        outcomes = {
            check_id: run_check(registry()[check_id], message, Context()).outcome
            for check_id in registry()
            if check_id.startswith("images.")
        }
        assert outcomes.pop("images.missing") is Outcome.CLEAR
        assert outcomes.pop("images.heavy") is Outcome.CLEAR
        assert set(outcomes.values()) == {Outcome.DOES_NOT_APPLY}


#: Photographs and scans that scikit-image ships (skimage.data; their origins stand in its README).
REAL = ("camera", "coffee", "rocket", "chelsea", "immunohistochemistry", "brick", "gravel", "moon", "page", "text", "clock")
#: Those whose flat dark grounds take a step of the quantiser at some quality, which structural similarity takes for a change of light.
STEPPED = ("astronaut", "coins", "colorwheel", "retina")


def real(name: str) -> Image.Image:
    """One of them."""
    return Image.fromarray(getattr(skimage.data, name)()).convert("RGB")


class TestLikeness:
    """Structural similarity, as published."""

    @pytest.mark.parametrize("name", [*REAL, *STEPPED])
    def test_against_scikit_image(self, name: str) -> None:
        """The same to the fourth place, before and after JPEG."""
        one = real(name)
        other = Image.open(io.BytesIO(saved(one, "JPEG", quality=60)))
        grey = [np.asarray(picture.convert("L"), dtype=np.float64) for picture in (one, other)]
        theirs = structural_similarity(*grey, gaussian_weights=True, sigma=1.5, use_sample_covariance=False, data_range=255, full=True)[
            1
        ].mean()
        assert Likeness(one, averages=False).to(other) == pytest.approx(theirs, abs=1e-4)
        assert likeness(one, one) == 1

    @pytest.mark.parametrize("name", REAL)
    def test_falls_with_quality(self, name: str) -> None:
        """The stronger a picture is compressed, the less it is like itself."""
        one = real(name)
        values = [likeness(one, Image.open(io.BytesIO(saved(one, "JPEG", quality=quality)))) for quality in (95, 86, 74, 62, 50, 35, 20, 8)]
        assert values == sorted(values, reverse=True)
        assert len(set(values)) == len(values)

    def test_other_sizes(self) -> None:
        """Cannot be held against each other."""
        with pytest.raises(ValueError, match="cannot be held against"):
            likeness(plain("red"), plain("red", (10, 10)))


class TestLighter:
    """Files that are really made."""

    @pytest.mark.parametrize("name", REAL[:5])
    def test_candidates(self, name: str) -> None:
        """Lighter than the picture, of the widths of one to two times the shown one, each opening as it says, the lightest first."""
        data = saved(real(name), "JPEG", quality=97)
        found = candidates(data, 150)
        assert {one.width for one in found} == set(widths_for(facts_of(data).width, 150)) >= {150, 225, 300}
        assert [one.octets for one in found] == sorted(one.octets for one in found)
        for one in found:
            facts = facts_of(one.data)
            assert (facts.format, facts.width, facts.height, facts.fault, facts.octets) == ("JPEG", one.width, one.height, "", one.octets)
            assert one.octets < len(data)
        quick = lighter(data, 150, 0.9)
        assert quick is not None
        assert (quick.width, quick.likeness >= 0.9) == (300, True)

    def test_clear_pixels_stay(self) -> None:
        """No JPEG of them; one whose alpha is all opaque may be one."""
        clear = grain().convert("RGBA")
        clear.putalpha(Image.linear_gradient("L").resize(clear.size))
        assert {one.format for one in candidates(saved(clear, "PNG"), 150)} == {"PNG"}
        assert facts_of(candidates(saved(clear, "PNG"), 150)[0].data).is_clear
        assert "JPEG" in {one.format for one in candidates(saved(grain().convert("RGBA"), "PNG"), 150)}

    def test_only_where_it_can(self) -> None:
        """Not of drawings, broken files and bombs; newer formats where they are asked for."""
        for data, _ in _bombs().values():
            assert candidates(data, 150) == []
            assert lighter(data, 150, 0.5) is None
        data = saved(real("coffee"), "JPEG", quality=95)
        assert {one.form for one in candidates(data, 150, {"JPEG", "WEBP", "AVIF"}, (150,))} == {"JPEG", "WEBP", "AVIF"}

    def test_animations_go_on(self) -> None:
        """Frames, times and rounds stay; fewer pixels and colours weigh less; the worst frame is told."""
        frames = [real("coffee").resize((300, 200)).rotate(15 * number) for number in range(6)]
        made = io.BytesIO()
        frames[0].save(made, "GIF", save_all=True, append_images=frames[1:], duration=[100, 200, 100, 300, 100, 400], loop=2)
        data = made.getvalue()
        before = facts_of(data)
        found = candidates(data, 100)
        assert {(one.form, one.quality) for one in found} == {("GIF", 128), ("GIF", 32)}
        assert {one.width for one in found} == {100, 150, 200}
        for one in found:
            after = facts_of(one.data)
            assert (after.format, after.width, after.frames, after.took_ms, after.fault) == ("GIF", one.width, 6, before.took_ms, "")
            assert one.octets == len(one.data) < len(data)
            assert Image.open(io.BytesIO(one.data)).info["loop"] == 2
        by_colours = {one.quality: one.likeness for one in found if one.width == 200}
        assert 0.5 < by_colours[32] < by_colours[128] < 1
        best = lighter(data, 100, by_colours[32] + 0.001)
        assert best is not None
        assert (best.width, best.quality, best.words) == (200, 128, "GIF of 128 colours, 200 px wide")
        # Clear pixels would be lost: such a one stays as it is.
        clear = io.BytesIO()
        shown = [Image.new("RGBA", (80, 80), (0, 0, 0, 0)) for _ in range(3)]
        for number, frame in enumerate(shown):
            frame.paste((200, number * 60, 0, 255), (10 * number, 0, 10 * number + 30, 40))
        shown[0].save(clear, "GIF", save_all=True, append_images=shown[1:], duration=100, disposal=2)
        assert candidates(clear.getvalue(), 40) == []

    def test_animations_that_are_left_alone(self) -> None:
        """Cut off, with more frames or pixels than are looked at, in another format: nothing is made, nothing raised."""
        frames = [plain((number, 0, 0), (40, 30)) for number in range(200)]
        whole = animation(frames, 20)
        assert facts_of(whole).frames > 150
        wide = animation([plain((number, 0, 0), (2_400, 2_000)) for number in range(9)], 20)
        moving = animation([grain(), plain("red", (300, 200))], 100, "WEBP")
        for data in (whole, wide, moving, animation(frames[:4], 20)[:-40]):
            assert candidates(data, 20) == []
            assert lighter(data, 20, 0.5) is None
        # Two frames are held against two, not against five.
        assert {one.form for one in candidates(animation([grain(), grain().rotate(180)], 100), 60)} == {"GIF"}

    def test_widths(self) -> None:
        """Times the widest place, and the steps that houses keep to, as far as the picture goes."""
        assert widths_for(2000, 600) == (1200, 900, 800, 600)
        assert widths_for(1000, 300) == (800, 600, 450, 300)
        assert widths_for(500, 600) == (500,)

    def test_turned_pictures_and_their_exif(self) -> None:
        """Turned as EXIF says, which is then gone."""
        data = saved(
            real("coffee"),
            "JPEG",
            quality=97,
            exif=piexif.dump({"0th": {piexif.ImageIFD.Orientation: 6, piexif.ImageIFD.Artist: b"Odell"}}),
        )
        best = candidates(data, 100)[0]
        assert best.width < best.height
        assert facts_of(best.data).people == ()

    def test_package(self) -> None:
        """Names are safe and differ; the list says what each stands for, and no cell is a formula."""
        made = candidates(saved(real("coffee"), "JPEG", quality=97), 100)[0]
        handed = [
            Handed(name, address, 99_999, made)
            for name, address in (("a.png", ""), ("../A.JPG", "=cmd()"), ("..", "https://kiln.org/x"), ("list.csv", ""))
        ]
        packed = zipfile.ZipFile(io.BytesIO(package_of(handed)))
        assert packed.namelist() == ["a.jpg", "A-2.jpg", "picture.jpg", "list.jpg", "list.csv"]
        rows = list(csv.DictReader(io.StringIO(packed.read("list.csv").decode("utf-8-sig"))))
        assert [row["stands for"] for row in rows] == ["a.png", "'=cmd()", "https://kiln.org/x", "list.csv"]
        assert packed.read("a.jpg") == made.data
        assert package_of(handed) == package_of(handed)


class TestPlacing:
    """Lighter files put in the place of pictures, and taken in again."""

    def photograph(self, form: str = "JPEG") -> bytes:
        """A file that can be much lighter."""
        return saved(real("coffee"), form, **({"quality": 97} if form == "JPEG" else {}))

    def test_in_a_mail(self) -> None:
        """The part is another, to the octet; everything around it stays, and the reference still finds it."""
        body = "<p>Pots</p><img src='cid:pot' width='150' alt='Pot'><img src='cid:dot' width='4' alt=''>"
        raw = mail(body, "Pots.", images={"pot": self.photograph("PNG"), "dot": picture()})
        message = read_bytes(raw, "a.eml")
        one = next(found for found in pictures_of(message) if found.name == "pot.png")
        made = lighter(one.data or b"", 150, 0.9)
        assert made is not None
        data, placed = with_lighter(message, {one.key: made})
        assert placed == ["pot.png"]
        again = read_bytes(data, "a.eml")
        assert [defect.kind for defect in again.defects] == [defect.kind for defect in message.defects]
        found = {picture.uses[0].value: picture for picture in pictures_of(again)}
        assert (found["cid:pot"].data, found["cid:pot"].claims, found["cid:pot"].name) == (
            made.data,
            f"image/{made.format.lower()}",
            "pot.jpg",
        )
        assert found["cid:dot"].data == picture()
        assert again.html is not None
        assert again.html.text == getattr(message.html, "text", "")
        assert again.html.text.strip() == body
        assert (again.subject, again.text and again.text.text) == (message.subject, message.text and message.text.text)
        at = raw.index(b"Content-Type: image/png")
        assert data[: at - 200] == raw[: at - 200]
        assert data.rstrip().rpartition(b"\n")[2] == raw.rstrip().rpartition(b"\n")[2]

    def test_in_a_package(self) -> None:
        """References follow to the new ending, in attributes, styles and candidates; what stands in the HTML is replaced there."""
        png = self.photograph("PNG")
        inside = base64.b64encode(self.photograph()).decode()
        page = (
            "<style>.a { background: url(img/pot.png) }</style><img src='img/pot.png' srcset='img/pot.png 1x, img/other.png 2x' width='150' alt='Pot'>"
            f"<img src='img/other.png' width='20' alt='x'><p style=\"background:url('img/pot.png')\">x</p><img src='data:image/jpeg;base64,{inside}' width='150' alt='In'>"
        )
        message = read_bytes(package(page, img__pot_dot_png=png, img__other_dot_png=picture()), "a.zip")
        found = {one.name: one for one in pictures_of(message)}
        chosen = {one.key: made for one in found.values() if (made := lighter(one.data or b"", 150, 0.9)) is not None}
        data, placed = with_lighter(message, chosen)
        assert sorted(placed) == ["a picture inside the HTML", "img/pot.jpg"]
        again = read_bytes(data, "b.zip")
        assert again.html is not None
        assert again.html.text.count("img/pot.jpg") == 4
        assert again.html.text.count("img/other.png") == 2
        assert "pot.png" not in again.html.text
        names = {one.name: one for one in pictures_of(again)}
        assert names["img/pot.jpg"].data == chosen[found["img/pot.png"].key].data
        assert names["a picture inside the HTML"].data == chosen[found["a picture inside the HTML"].key].data
        assert names["img/other.png"].data == picture()
        assert not run_check(registry()["images.missing"], again, Context()).findings
        assert not run_check(registry()["images.corrupt"], again, Context()).findings

    def test_two_pictures_of_one_attribute(self) -> None:
        """Both get their new ending: the second is put into what came of the first."""
        one, two = self.photograph("PNG"), saved(real("chelsea"), "PNG")
        page = "<img src='pot.png' srcset='pot.png 1x, pot.png 1.5x, cat.png 2x' width='150' alt='Pot'>"
        message = read_bytes(package(page, pot_dot_png=one, cat_dot_png=two), "a.zip")
        chosen = {found.key: made for found in pictures_of(message) if (made := lighter(found.data or b"", 150, 0.9)) is not None}
        data, placed = with_lighter(message, chosen)
        assert sorted(placed) == ["cat.jpg", "pot.jpg"]
        again = read_bytes(data, "b.zip")
        assert again.html is not None
        assert "srcset='pot.jpg 1x, pot.jpg 1.5x, cat.jpg 2x'" in again.html.text
        assert ".png" not in again.html.text

    @pytest.mark.parametrize(
        "name", ['a"; x="y.png', "=?utf-8?q?a=0D=0AX-Evil=3A_1=2Epng?=", "p\u00f6t.png", "b\\.png", f"{'n' * 400}.png"]
    )
    def test_a_strangers_file_name(self, name: str) -> None:
        """No name ends its header field: the part has the fields that it had, and the name as far as it is one."""
        png = base64.encodebytes(self.photograph("PNG")).decode()
        raw = (
            "From: a@kiln.org\nSubject: x\nMIME-Version: 1.0\nContent-Type: multipart/related; boundary=b\n\n--b\nContent-Type: text/html\n\n"
            f"<img src='cid:p' width='150' alt='x'>\n--b\nContent-Type: image/png\nContent-Transfer-Encoding: base64\nContent-ID: <p>\n"
            f'Content-Disposition: inline; filename="{name}"\n\n{png}\n--b--\n'
        ).encode()
        message = read_bytes(raw, "a.eml")
        (one,) = pictures_of(message)
        made = lighter(one.data or b"", 150, 0.9)
        assert made is not None
        data, _ = with_lighter(message, {one.key: made})
        again = read_bytes(data, "a.eml")
        assert again.root is not None
        part = next(leaf for leaf in again.root.leaves if leaf.content_type == "image/jpeg")
        assert sorted(field.name.lower() for field in part.fields) == [
            "content-disposition",
            "content-id",
            "content-transfer-encoding",
            "content-type",
        ]
        assert part.data == made.data
        assert all(field.octets.isascii() for field in part.fields)
        assert pictures_of(again)[0].data == made.data

    def test_what_cannot_be_followed_stays(self) -> None:
        """A reference written with an entity, and a name that is taken."""
        png = self.photograph("PNG")
        message = read_bytes(package("<img src='p&#111;t.png' width='150' alt='x'>", pot_dot_png=png), "a.zip")
        (one,) = pictures_of(message)
        made = lighter(png, 150, 0.9)
        assert made is not None
        assert with_lighter(message, {one.key: made})[1] == []
        message = read_bytes(package("<img src='pot.png' width='150' alt='x'>", pot_dot_png=png, pot_dot_jpg=self.photograph()), "a.zip")
        assert with_lighter(message, {one.key: made})[1] == []
