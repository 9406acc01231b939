"""Pictures as they may be given to a browser: none so large, and no drawing so busy, that showing it takes the machine down."""

from __future__ import annotations

import io
import re
import warnings
from functools import lru_cache

from jetwind.core.images.measure import DECODING_FAILS

#: Pixels of a picture that is shown as it is; beyond, a smaller copy is. A photograph for a screen has two million.
MOST_SHOWN = 12_000_000
#: Pixels of all pictures of a message together; beyond, large ones are shown as smaller copies. Measured, Chromium keeps 550 MB of decoded
#: pictures of 4 million pixels, and 140 MB of as many of 2 million, which it decodes at the size that they are shown in.
MOST_TOGETHER = 30_000_000
#: Beyond this not even a copy is made: its pixels alone would take 160 MB.
MOST_OPENED = 40_000_000
#: Pixels of a smaller copy.
COPY_PIXELS = 2_000_000
#: A drawing (SVG) is shown where it is small and draws plainly: no copies of copies, no filters, nothing from elsewhere, no motion.
_LARGEST_DRAWING = 60_000
_MOST_SHAPES = 1_000
_BUSY = re.compile(
    rb"<!ENTITY|<(?:[a-z]+:)?(?:use|filter|image|foreignObject|pattern|mask|animate\w*|set|script|style|feImage|tref|iframe|marker)\b|url\((?!\s*[\"']?#)|\bstyle\s*=\s*[\"'][^\"']*filter",
    re.IGNORECASE,
)


def pixel_size(data: bytes) -> tuple[int, int] | None:
    """Width and height of a picture in px by its own head, however large; None where it has none that can be read."""
    from PIL import Image

    # Only the head is read. Pillow's own limit refuses to say how large a picture is, and belongs to the whole process; so its
    # formats are asked one by one, as Image.open does it.
    Image.init()
    for form in Image.ID:
        factory, accept = Image.OPEN[form]
        try:
            if accept is not None and not _takes(accept(data[:16])):
                continue
            with factory(io.BytesIO(data), "") as picture:
                return picture.size
        except DECODING_FAILS:
            continue
    return None


def _takes(said: object) -> bool:
    """Whether a format takes a picture by its first octets; a text is what it lacks to do so."""
    return bool(said) and not isinstance(said, str)


def is_plain_drawing(data: bytes) -> bool:
    """Whether an SVG picture may be drawn; others are told as not shown."""
    return len(data) <= _LARGEST_DRAWING and data.count(b"<") <= _MOST_SHAPES and _BUSY.search(data) is None


@lru_cache(maxsize=32)
def smaller_copy(data: bytes) -> tuple[str, bytes] | None:
    """A copy of few pixels and the same proportions: its content type and octets; None where none can be made."""
    from PIL import Image

    size = pixel_size(data)
    if size is None or size[0] * size[1] > MOST_OPENED:
        return None
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(data)) as picture:
                factor = max(2, int((size[0] * size[1] / COPY_PIXELS) ** 0.5 + 0.999))
                has_alpha = picture.mode in ("RGBA", "LA", "PA") or "transparency" in picture.info
                picture.draft("RGB", (size[0] // factor, size[1] // factor))
                opened = picture.convert("RGBA" if has_alpha else "RGB")
                opened.thumbnail((max(1, size[0] // factor), max(1, size[1] // factor)))
                out = io.BytesIO()
                opened.save(out, "PNG" if has_alpha else "JPEG")
                return f"image/{'png' if has_alpha else 'jpeg'}", out.getvalue()
    except DECODING_FAILS:
        return None


#: The longer side of a photo that is made anew, in px.
_LONGEST_PHOTO = 1_600


def photo_anew(data: bytes) -> tuple[bytes, int, int] | None:
    """A photo made anew from its pixels as JPEG, with its width and height; None where it does not open, or has too many pixels.

    Nothing but pixels is carried over: no place, no name, no date (Exif), no colour profile, no thumbnail, and nothing behind the picture.
    """
    from PIL import Image, ImageOps

    size = pixel_size(data)
    if size is None or not 0 < size[0] * size[1] <= MOST_OPENED:
        return None
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(data)) as opened:
                opened.draft("RGB", (_LONGEST_PHOTO, _LONGEST_PHOTO))
                turned = ImageOps.exif_transpose(opened).convert("RGBA")
            turned.thumbnail((_LONGEST_PHOTO, _LONGEST_PHOTO))
            ground = Image.new("RGB", turned.size, "white")
            ground.paste(turned, mask=turned.getchannel("A"))
            out = io.BytesIO()
            ground.save(out, "JPEG", quality=85)
            return out.getvalue(), ground.width, ground.height
    except DECODING_FAILS:
        return None


#: The longer side of a copy that is read, in px, and the side up to which small letters are made larger.
_LONGEST_READ, _SMALL = 2_400, 700


def grey_copy(data: bytes) -> bytes | None:
    """A grey PNG of a picture as a program can read its words: clear pixels on white, small ones twice as large; None where it does not open."""
    from PIL import Image, ImageOps

    size = pixel_size(data)
    if size is None or not 0 < size[0] * size[1] <= MOST_OPENED:
        return None
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(data)) as opened:
                opened.draft("RGB", (_LONGEST_READ, _LONGEST_READ))
                turned = ImageOps.exif_transpose(opened).convert("RGBA")
            ground = Image.new("RGBA", turned.size, "white")
            ground.alpha_composite(turned)
            grey = ground.convert("L")
            factor = 2.0 if max(grey.size) <= _SMALL else min(1.0, _LONGEST_READ / max(grey.size))
            if factor != 1:
                grey = grey.resize((max(1, round(grey.width * factor)), max(1, round(grey.height * factor))), Image.Resampling.LANCZOS)
            out = io.BytesIO()
            grey.save(out, "PNG", compress_level=1)
            return out.getvalue()
    except DECODING_FAILS:
        return None
