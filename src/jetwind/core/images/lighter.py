"""Lighter files of a picture: each is really made, its octets are counted, its likeness is measured.

Likeness is that of the picture as a dense screen shows it: two pixels to a CSS px of the widest place where it is shown.
"""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterable, Iterator, Sequence, Set
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

from jetwind.core.images.facts import MOST_LOOKED_AT, MOST_MOTION, PictureFacts, facts_of
from jetwind.core.images.likeness import Likeness
from jetwind.core.images.measure import DECODING_FAILS

if TYPE_CHECKING:
    from PIL import Image

Form = Literal["JPEG", "PNG", "PNG palette", "GIF", "WEBP", "AVIF"]
#: Formats that every client shows.
USUAL: frozenset[Form] = frozenset({"JPEG", "PNG", "PNG palette", "GIF"})
#: Pixels to a CSS px that are tried, and the qualities of each format that has any; those of a GIF are its colours.
TIMES = (2.0, 1.5, 1.0)
QUALITIES: dict[Form, tuple[int, ...]] = {"JPEG": (86, 74, 62), "WEBP": (82, 68), "AVIF": (66, 54), "GIF": (128, 32)}
#: Widths in px that houses keep to, whatever the place: offered beside those (common practice, no published source).
STEPS = (1200, 800, 600)
#: Pixels of a picture that is tried at all; a larger one is a fault of its own.
_MOST = 24_000_000
#: Colours of a palette.
_COLOURS = 256
#: Of an animation: frames that are held against those of the picture, and those that its colours are taken from.
_HELD, _SAMPLED = 5, 8


@dataclass(frozen=True, slots=True)
class Candidate:
    """A file that may stand for a picture. ``quality`` is that of its encoder, 0 where it has none; sizes in px; ``likeness`` up to 1."""

    form: Form
    quality: int
    width: int
    height: int
    likeness: float
    data: bytes = field(repr=False)

    @property
    def octets(self) -> int:
        """Its weight."""
        return len(self.data)

    @property
    def format(self) -> str:
        """The format of the file."""
        return self.form.partition(" ")[0]

    @property
    def words(self) -> str:
        """How it was made, for people."""
        return f"{way_in_words(self.form, self.quality)}, {self.width} px wide"


def way_in_words(form: str, quality: int) -> str:
    """A format with its quality, for people."""
    if form == "PNG palette":
        return f"PNG of {_COLOURS} colours"
    if form == "GIF":
        return f"GIF of {quality} colours"
    return f"{form} quality {quality}" if quality else form


def may_be_lighter(facts: PictureFacts) -> bool:
    """Whether lighter files can be made of a picture: one that opens, made of pixels; of animations, a GIF without clear pixels."""
    if facts.fault or facts.format == "SVG" or not 0 < facts.width * facts.height <= _MOST:
        return False
    if not facts.is_animated:
        return True
    is_small = facts.frames <= MOST_LOOKED_AT and facts.width * facts.height * facts.frames <= MOST_MOTION
    return facts.format == "GIF" and not facts.is_clear and is_small


def widths_for(picture_width: int, shown_width: float) -> tuple[int, ...]:
    """Widths in px to choose from, the widest first: times the widest place and the steps, as far as the picture goes; else its own."""
    wanted = {min(picture_width, round(shown_width * many)) for many in TIMES} | {step for step in STEPS if step <= picture_width}
    return tuple(sorted((width for width in wanted if width >= 1), reverse=True))


def candidates(data: bytes, shown_width: float, forms: Iterable[Form] = USUAL, widths: Sequence[int] = ()) -> list[Candidate]:
    """Every candidate that is lighter than the picture, the lightest first; none of a picture that :func:`may_be_lighter` refuses.

    ``shown_width`` is in CSS px, ``widths`` in px, by default those of :func:`widths_for`. A picture with clear pixels keeps them; one
    without is tried as JPEG, too, whatever it was.
    """
    facts = facts_of(data)
    shown = round(shown_width)
    if not may_be_lighter(facts) or shown < 1:
        return []
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            make = _made_moving if facts.is_animated else _made
            wanted = tuple(widths) or widths_for(facts.width if facts.is_animated else _opened(data).width, shown_width)
            found = [one for one in make(data, facts, shown, frozenset(forms), wanted) if one.octets < facts.octets]
    except DECODING_FAILS:
        return []
    return sorted(found, key=lambda one: one.octets)


def lighter(data: bytes, shown_width: float, least: float) -> Candidate | None:
    """The lightest file in a usual format and at twice the shown width that is at least so much like the picture; None where there is none.

    Looks at no more candidates than it has to: the strongest compression first.
    """
    facts = facts_of(data)
    if not may_be_lighter(facts) or shown_width < 1:
        return None
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            make = _made_moving if facts.is_animated else _made
            found: list[Candidate] = []
            done: set[Form] = set()
            for one in make(data, facts, round(shown_width), USUAL, (2 * round(shown_width),), rising=True, done=done):
                if one.likeness >= least:
                    done.add(one.form)
                    found.append(one)
    except DECODING_FAILS:
        return None
    return min((one for one in found if one.octets < facts.octets), key=lambda one: one.octets, default=None)


def before_and_after(data: bytes, made: bytes, shown_width: float) -> tuple[bytes, bytes]:
    """A picture and a file that may stand for it as a dense screen shows them: two PNG files of equal size, on white, made of nothing but pixels."""
    from PIL import Image

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        picture = _opened(data)
        seen = _on_white(_at_width(picture, min(picture.width, round(2 * shown_width))))
        after = _on_white(_opened(made))
    out = []
    for one in (seen, after if after.size == seen.size else after.resize(seen.size, Image.Resampling.BICUBIC)):
        file = io.BytesIO()
        one.save(file, "PNG", compress_level=1)
        out.append(file.getvalue())
    return out[0], out[1]


def _opened(data: bytes) -> Image.Image:
    """The pixels as they are shown: turned as EXIF says, in RGB, with alpha where any pixel is clear."""
    from PIL import Image, ImageOps

    with Image.open(io.BytesIO(data)) as opened:
        turned = ImageOps.exif_transpose(opened)
    has_alpha = turned.mode in ("RGBA", "LA", "PA", "La", "RGBa") or "transparency" in turned.info
    if not has_alpha:
        return turned.convert("RGB")
    picture = turned.convert("RGBA")
    lowest, _ = picture.getchannel("A").getextrema()
    return picture if isinstance(lowest, int) and lowest < 255 else picture.convert("RGB")


def _made(
    data: bytes,
    facts: PictureFacts,
    shown_width: int,
    forms: frozenset[Form],
    widths: tuple[int, ...],
    *,
    rising: bool = False,
    done: Set[Form] = frozenset(),
) -> Iterator[Candidate]:
    """Candidates as they are made; with ``rising`` the lightest of each format first, without those of formats that are ``done``."""
    from PIL import Image

    picture = _opened(data)
    seen = _at_width(picture, min(picture.width, 2 * shown_width))
    measure = Likeness(_on_white(seen))
    for width in widths:
        scaled = _at_width(picture, width)
        ways = list(_ways(picture, facts, forms))
        for form, quality in sorted(ways, key=lambda way: way[1]) if rising else ways:
            if form in done:
                continue
            made = _encoded(scaled, form, quality)
            with Image.open(io.BytesIO(made)) as again:
                shown = _on_white(again.convert("RGBA" if picture.mode == "RGBA" else "RGB"))
            like = measure.to(shown if shown.size == seen.size else shown.resize(seen.size, Image.Resampling.BICUBIC))
            yield Candidate(form, quality, width=scaled.width, height=scaled.height, likeness=like, data=made)


def _made_moving(
    data: bytes,
    facts: PictureFacts,
    shown_width: int,
    forms: frozenset[Form],
    widths: tuple[int, ...],
    *,
    rising: bool = False,
    done: Set[Form] = frozenset(),
) -> Iterator[Candidate]:
    """The same of an animation, which keeps its frames and their times. Its likeness is that of the frame that came out worst."""
    from PIL import Image, ImageSequence

    if "GIF" not in forms:
        return
    with Image.open(io.BytesIO(data)) as opened:
        times = [int(frame.info.get("duration", 0)) for frame in ImageSequence.Iterator(opened)]
        shades = [frame.convert("RGBA") for frame in ImageSequence.Iterator(opened)]
        rounds = opened.info.get("loop")
    if any(frame.getchannel("A").getextrema() != (255, 255) for frame in shades):
        return
    frames = [frame.convert("RGB") for frame in shades]
    held = _spread(len(frames), _HELD)
    seen = {number: _at_width(frames[number], min(facts.width, 2 * shown_width)) for number in held}
    measures = {number: Likeness(one) for number, one in seen.items()}
    for width in widths:
        scaled = [_at_width(frame, width) for frame in frames]
        for colours in sorted(QUALITIES["GIF"], reverse=not rising):
            if "GIF" in done:
                continue
            palette = _together([scaled[number] for number in _spread(len(scaled), _SAMPLED)]).quantize(colours)
            few = [frame.quantize(palette=palette, dither=Image.Dither.NONE) for frame in scaled]
            out = io.BytesIO()
            more = {} if rounds is None else {"loop": rounds}
            few[0].save(out, "GIF", save_all=True, append_images=few[1:], duration=times, **more)
            alike = []
            for number in held:
                shown = few[number].convert("RGB")
                size = seen[number].size
                alike.append(measures[number].to(shown if shown.size == size else shown.resize(size, Image.Resampling.BICUBIC)))
            yield Candidate("GIF", colours, width=scaled[0].width, height=scaled[0].height, likeness=min(alike), data=out.getvalue())


def _spread(count: int, most: int) -> list[int]:
    """So many numbers below ``count``, evenly spread, the first and the last among them."""
    return sorted({round(step * (count - 1) / max(1, min(count, most) - 1)) for step in range(min(count, most))})


def _together(pictures: Sequence[Image.Image]) -> Image.Image:
    """Pictures of one size below each other, small: the colours of all of them."""
    from PIL import Image

    width, height = (max(1, side // 2) for side in pictures[0].size)
    sheet = Image.new("RGB", (width, height * len(pictures)))
    for number, one in enumerate(pictures):
        sheet.paste(one.resize((width, height), Image.Resampling.NEAREST), (0, height * number))
    return sheet


def _ways(picture: Image.Image, facts: PictureFacts, forms: frozenset[Form]) -> Iterator[tuple[Form, int]]:
    """Formats and qualities that are worth trying: no photograph as PNG, no clear pixels as JPEG."""
    for form in ("JPEG", "WEBP", "AVIF"):
        if form in forms and not (form == "JPEG" and picture.mode == "RGBA"):
            for quality in QUALITIES[form]:
                yield form, quality
    if facts.format not in ("JPEG", "MPO", "WEBP", "AVIF") or picture.mode == "RGBA":
        for form in ("PNG", "PNG palette"):
            if form in forms:
                yield form, 0


def _at_width(picture: Image.Image, width: int) -> Image.Image:
    from PIL import Image

    if width >= picture.width:
        return picture
    return picture.resize((width, max(1, round(picture.height * width / picture.width))), Image.Resampling.LANCZOS, reducing_gap=3.0)


def _on_white(picture: Image.Image) -> Image.Image:
    from PIL import Image

    if picture.mode != "RGBA":
        return picture
    ground = Image.new("RGBA", picture.size, "white")
    ground.alpha_composite(picture)
    return ground.convert("RGB")


def _encoded(picture: Image.Image, form: Form, quality: int) -> bytes:
    from PIL import Image

    out = io.BytesIO()
    if form == "JPEG":
        picture.save(out, "JPEG", quality=quality, optimize=True)
    elif form == "PNG":
        picture.save(out, "PNG", compress_level=9)
    elif form == "PNG palette":
        picture.quantize(_COLOURS, method=Image.Quantize.FASTOCTREE).save(out, "PNG", compress_level=9)
    elif form == "WEBP":
        picture.save(out, "WEBP", quality=quality, method=4)
    else:
        picture.save(out, "AVIF", quality=quality, speed=8)
    return out.getvalue()
