"""Lighter files of a picture: each is really made, its octets are counted, its likeness is measured.

Likeness is that of the picture as a dense screen shows it: two pixels to a CSS px of the widest place where it is shown.
"""

from __future__ import annotations

import io
import warnings
from collections.abc import Iterable, Iterator, Sequence, Set
from dataclasses import dataclass, field
from functools import lru_cache
from typing import TYPE_CHECKING, Literal

from jetwind.core.images.facts import DECODING_FAILS, PictureFacts, facts_of
from jetwind.core.images.likeness import Likeness

if TYPE_CHECKING:
    from PIL import Image

Form = Literal["JPEG", "PNG", "PNG palette", "WEBP", "AVIF"]
#: Formats that every client shows.
USUAL: frozenset[Form] = frozenset({"JPEG", "PNG", "PNG palette"})
#: Pixels to a CSS px that are tried, and the qualities of each format that has any.
TIMES = (2.0, 1.5, 1.0)
QUALITIES: dict[Form, tuple[int, ...]] = {"JPEG": (86, 74, 62), "WEBP": (82, 68), "AVIF": (66, 54)}
#: Pixels of a picture that is tried at all; a larger one is a fault of its own.
_MOST = 24_000_000
#: Colours of a palette.
_COLOURS = 256


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
        made = f"{self.form} quality {self.quality}" if self.quality else "PNG of 256 colours" if self.form == "PNG palette" else self.form
        return f"{made}, {self.width} px wide"


def may_be_lighter(facts: PictureFacts) -> bool:
    """Whether lighter files can be made of a picture: one that opens, stands still, and is made of pixels."""
    return not facts.fault and not facts.is_animated and facts.format != "SVG" and 0 < facts.width * facts.height <= _MOST


def candidates(data: bytes, shown_width: float, forms: Iterable[Form] = USUAL, times: Sequence[float] = TIMES) -> list[Candidate]:
    """Every candidate that is lighter than the picture, the lightest first; none of a picture that :func:`may_be_lighter` refuses.

    ``shown_width`` is in CSS px. A picture with clear pixels keeps them; one without is tried as JPEG, too, whatever it was.
    """
    return list(_candidates(data, round(shown_width), frozenset(forms), tuple(times)))


@lru_cache(maxsize=64)
def _candidates(data: bytes, shown_width: int, forms: frozenset[Form], times: tuple[float, ...]) -> tuple[Candidate, ...]:
    facts = facts_of(data)
    if not may_be_lighter(facts) or shown_width < 1:
        return ()
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            picture = _opened(data)
            found = [one for one in _made(picture, facts, shown_width, forms, times) if one.octets < facts.octets]
    except DECODING_FAILS:
        return ()
    return tuple(sorted(found, key=lambda one: one.octets))


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
            picture = _opened(data)
            found: list[Candidate] = []
            done: set[Form] = set()
            for one in _made(picture, facts, round(shown_width), USUAL, TIMES[:1], rising=True, done=done):
                if one.likeness >= least:
                    done.add(one.form)
                    found.append(one)
    except DECODING_FAILS:
        return None
    return min((one for one in found if one.octets < facts.octets), key=lambda one: one.octets, default=None)


def before_and_after(data: bytes, candidate: Candidate, shown_width: float) -> tuple[bytes, bytes]:
    """A picture and its candidate as a dense screen shows them: two PNG files of equal size, on white, made of nothing but pixels."""
    from PIL import Image

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        picture = _opened(data)
        seen = _on_white(_at_width(picture, min(picture.width, round(2 * shown_width))))
        after = _on_white(_opened(candidate.data))
    out = []
    for one in (seen, after if after.size == seen.size else after.resize(seen.size, Image.Resampling.BICUBIC)):
        file = io.BytesIO()
        one.save(file, "PNG", compress_level=1)
        out.append(file.getvalue())
    return out[0], out[1]


def proposal(found: Sequence[Candidate], least: float) -> Candidate | None:
    """The lightest whose likeness is at least ``least``."""
    return next((one for one in found if one.likeness >= least), None)


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
    picture: Image.Image,
    facts: PictureFacts,
    shown_width: int,
    forms: frozenset[Form],
    times: tuple[float, ...],
    *,
    rising: bool = False,
    done: Set[Form] = frozenset(),
) -> Iterator[Candidate]:
    """Candidates as they are made; with ``rising`` the lightest of each format first, without those of formats that are ``done``."""
    from PIL import Image

    dense = min(picture.width, 2 * shown_width)
    seen = _at_width(picture, dense)
    measure = Likeness(_on_white(seen))
    for width in dict.fromkeys(min(picture.width, round(shown_width * many)) for many in times):
        scaled = _at_width(picture, width)
        ways = list(_ways(picture, facts, forms))
        for form, quality in sorted(ways, key=lambda way: way[1]) if rising else ways:
            if form in done:
                continue
            data = _encoded(scaled, form, quality)
            with Image.open(io.BytesIO(data)) as again:
                shown = _on_white(again.convert("RGBA" if picture.mode == "RGBA" else "RGB"))
            like = measure.to(shown if shown.size == seen.size else shown.resize(seen.size, Image.Resampling.BICUBIC))
            yield Candidate(form, quality, scaled.width, scaled.height, like, data)


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
