"""The facts of a picture file: size, colours, frames, what its EXIF tells of people; measured from its head first, and bounded.

Nothing is unpacked of a picture that is larger than may be opened. Of an animation the first :data:`MOST_LOOKED_AT` frames are looked at,
as far as they fit into :data:`MOST_MOTION` pixels.
"""

from __future__ import annotations

import hashlib
import io
import re
import warnings
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import asdict, dataclass, replace
from functools import lru_cache
from typing import TYPE_CHECKING, Literal

from jetwind.core.images.bounded import is_plain_drawing, pixel_size
from jetwind.core.images.flashes import Sight, flashing_share, sight_of
from jetwind.core.images.measure import DECODING_FAILS, MOST_PIXELS
from jetwind.core.source.plain import read

if TYPE_CHECKING:
    from PIL import Image

Colours = Literal["", "grey", "palette", "rgb", "cmyk", "16-bit"]
Fault = Literal["", "unknown", "too-large", "cut-off", "damaged"]

#: Frames that are counted; frames, and pixels, that are unpacked to see them move.
MOST_FRAMES, MOST_LOOKED_AT, MOST_MOTION = 1_000, 150, 40_000_000
_MODES: Mapping[str, Colours] = {
    **dict.fromkeys(("1", "L", "LA", "La"), "grey"),
    **dict.fromkeys(("P", "PA"), "palette"),
    "CMYK": "cmyk",
    "I": "16-bit",
    "F": "16-bit",
}
#: Tags of EXIF that hold a person's name (Exif 2.32 §4.6; XP tags are Windows').
_NAMES = {0x013B: "Artist", 0x9C9D: "XPAuthor", 0xA430: "CameraOwnerName"}
_GPS, _LATITUDE, _LONGITUDE = 0x8825, 2, 4


@dataclass(frozen=True, slots=True)
class PictureFacts:
    """A picture as its file is. ``digest`` is the SHA-256 of its octets; ``width`` and ``height`` in px, ``octets`` of the file, ``took_ms`` of one round of an animation in ms.

    ``fault`` says why it cannot be shown; the size is that of its head all the same, 0 where it has none. ``frames`` counts up to
    :data:`MOST_FRAMES`. ``flashing`` is the share of its area (0 to 1) that flashes more than three times within a second.
    ``first_detail`` and ``most_detail`` say how much can be seen in the first frame, and in the one with most.
    ``has_position`` and ``people`` are what EXIF tells.
    """

    octets: int
    format: str = ""
    digest: str = ""
    width: int = 0
    height: int = 0
    colours: Colours = ""
    is_clear: bool = False
    frames: int = 1
    took_ms: int = 0
    fault: Fault = ""
    has_position: bool = False
    people: tuple[str, ...] = ()
    flashing: float = 0.0
    first_detail: float = 0.0
    most_detail: float = 0.0

    @property
    def is_animated(self) -> bool:
        """Whether it has more than one frame."""
        return self.frames > 1

    def as_json(self) -> dict[str, object]:
        """The facts as plain values."""
        return asdict(self)

    @classmethod
    def from_json(cls, value: Mapping[str, object]) -> PictureFacts:
        """The facts that :meth:`as_json` gave."""
        return read(value, cls)


@lru_cache(maxsize=256)
def facts_of(data: bytes) -> PictureFacts:
    """Everything about a picture file. Never raises, whatever the octets are."""
    return replace(_facts_of(data), digest=hashlib.sha256(data).hexdigest())


def _facts_of(data: bytes) -> PictureFacts:
    octets = len(data)
    if is_drawing(data):
        width, height = _drawing_size(data)
        return PictureFacts(octets, "SVG", width=width, height=height, fault="" if is_plain_drawing(data) else "damaged")
    size = pixel_size(data)
    if size is None:
        return PictureFacts(octets, fault="unknown")
    if size[0] * size[1] > MOST_PIXELS:
        return PictureFacts(octets, _format_of(data), width=size[0], height=size[1], fault="too-large")
    try:
        with _opened(data) as picture:
            told = PictureFacts(octets, picture.format or "", width=picture.width, height=picture.height)
            # Pillow reduces 16 bits of a colour to 8 when it opens a PNG; the head says what it was (PNG §11.2.2: octet 24).
            colours: Colours = "16-bit" if picture.format == "PNG" and data[24:25] == b"\x10" else _colours(picture)
            is_clear = picture.mode in ("RGBA", "LA", "PA", "La", "RGBa") or "transparency" in picture.info
            # Pillow asks each frame of an animation only when it is sought.
            frames = min(int(getattr(picture, "n_frames", 1)), MOST_FRAMES)
            told = replace(told, colours=colours, is_clear=is_clear, frames=frames, fault=_fault(picture))
            # After it: to find the EXIF of a PNG Pillow unpacks the picture, and what fails then would not fail again.
            has_position, people = _people(picture)
            told = replace(told, has_position=has_position, people=people)
    except DECODING_FAILS:
        return PictureFacts(octets, _format_of(data), width=size[0], height=size[1], fault="damaged")
    return _with_motion(told, data) if told.frames > 1 and not told.fault else told


def is_drawing(data: bytes) -> bool:
    """Whether a file is a drawing (SVG)."""
    return b"<svg" in data[:1000].lower()


_SVG_SIZE = re.compile(
    rb"<svg\b[^>]{0,2000}?\bviewBox\s*=\s*[\"']\s*[-\d.]+[\s,]+[-\d.]+[\s,]+(\d{1,5})(?:\.\d*)?[\s,]+(\d{1,5})", re.IGNORECASE
)


def _drawing_size(data: bytes) -> tuple[int, int]:
    """The size of a drawing by its view box; 300 × 150 px where it has none, as browsers take it (CSS 2.2 §10.3.2)."""
    found = _SVG_SIZE.search(data[:10_000])
    return (max(1, int(found[1])), max(1, int(found[2]))) if found is not None else (300, 150)


@contextmanager
def _opened(data: bytes) -> Iterator[Image.Image]:
    from PIL import Image, UnidentifiedImageError

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            with Image.open(io.BytesIO(data)) as picture:
                yield picture
        except (Image.DecompressionBombError, UnidentifiedImageError) as failure:
            raise OSError(str(failure)) from failure


def _format_of(data: bytes) -> str:
    try:
        with _opened(data) as picture:
            return picture.format or ""
    except DECODING_FAILS:
        return ""


def _colours(picture: Image.Image) -> Colours:
    if picture.mode.startswith("I;16"):
        return "16-bit"
    return _MODES.get(picture.mode, "rgb")


def _people(picture: Image.Image) -> tuple[bool, tuple[str, ...]]:
    """Whether EXIF holds a position, and the names in it; what cannot be read holds nothing."""
    try:
        exif = picture.getexif()
        position = exif.get_ifd(_GPS)
        names = [_text(value) for tag in _NAMES if (value := exif.get(tag) or exif.get_ifd(0x8769).get(tag))]
    except (*DECODING_FAILS, AttributeError):
        return False, ()
    return _LATITUDE in position and _LONGITUDE in position, tuple(dict.fromkeys(name for name in names if name))


def _text(value: object) -> str:
    if isinstance(value, bytes):
        # XP tags are UTF-16, little-endian.
        value = value.decode("utf-16-le", "replace") if b"\0" in value else value.decode("utf-8", "replace")
    return " ".join(str(value).replace("\0", " ").split())[:120]


def _fault(picture: Image.Image) -> Fault:
    """Whether the first frame can be unpacked to its end. A JPEG is unpacked at an eighth of its size, which reads all of it."""
    try:
        if picture.format == "JPEG":
            picture.draft("RGB", (max(1, picture.width // 8), max(1, picture.height // 8)))
        picture.load()
    except OSError as failure:
        return "cut-off" if "truncated" in str(failure) or "not processed" in str(failure) else "damaged"
    except DECODING_FAILS:
        return "damaged"
    return ""


def _with_motion(told: PictureFacts, data: bytes) -> PictureFacts:
    sights: list[Sight] = []
    took = 0
    try:
        with _opened(data) as picture:
            left = MOST_MOTION
            for number in range(min(told.frames, MOST_LOOKED_AT)):
                left -= picture.width * picture.height
                if left < 0:
                    break
                picture.seek(number)
                wait = _wait(picture)
                sights.append(sight_of(picture, took))
                took += wait
    except DECODING_FAILS:
        # A later frame is damaged: readers see those before it.
        pass
    if not sights:
        return told
    return replace(
        told,
        took_ms=took,
        flashing=flashing_share(sights, took),
        first_detail=sights[0].detail,
        most_detail=max(sight.detail for sight in sights),
    )


def _wait(picture: Image.Image) -> int:
    """How long a frame is shown, in ms. Browsers show what asks for 10 ms or less for 100 (from memory)."""
    wait = int(picture.info.get("duration") or 0)
    return 100 if wait <= 10 else min(wait, 60_000)
