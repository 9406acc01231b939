"""How far a colour stands out from another, and how far letters have to (WCAG 2.2, SC 1.4.3 and its definitions)."""

from __future__ import annotations

import colorsys

#: Red, green, blue from 0 to 255, and how opaque, from 0 to 1.
Rgba = tuple[float, float, float, float]


def contrast(one: Rgba, other: Rgba) -> float:
    """The contrast ratio of a colour on an opaque one, from 1 to 21 (WCAG 2.2, relative luminance; never rounded)."""
    seen = over(one, other)
    lighter, darker = sorted((relative_luminance(seen), relative_luminance(other)), reverse=True)
    return (lighter + 0.05) / (darker + 0.05)


def over(top: Rgba, bottom: Rgba) -> Rgba:
    """A colour laid over an opaque one (CSS Compositing 1 §5.1, source-over)."""
    alpha = top[3]
    red, green, blue = (top[part] * alpha + bottom[part] * (1 - alpha) for part in range(3))
    return red, green, blue, 1.0


def relative_luminance(colour: Rgba) -> float:
    """The relative luminance of a colour, from 0 (black) to 1 (white); how opaque it is does not count (WCAG 2.2, relative luminance)."""
    red, green, blue = (
        part / 255 / 12.92 if part / 255 <= 0.04045 else float(((part / 255 + 0.055) / 1.055) ** 2.4) for part in colour[:3]
    )
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def needed_contrast(size: float, weight: int) -> float:
    """The least contrast of letters of a size in px: 3 where they are large, which is from 24 px, or from 18.66 px where bold, else 4.5.

    WCAG 2.2 SC 1.4.3; large scale is 18 point, or 14 point bold.
    """
    return 3.0 if size >= 24 or (size >= 18.66 and weight >= 700) else 4.5


def ratio(value: float) -> str:
    """A contrast ratio in words, never rounded up: 4.478 is 4.47."""
    return f"{int(value * 100) / 100:.2f}"


def as_hex(colour: Rgba) -> str:
    """A colour as six hexadecimal digits."""
    return "#" + "".join(f"{round(part):02x}" for part in colour[:3])


#: Steps of lightness that are tried, from black to white.
_STEPS = 512


def with_contrast(colour: Rgba, ground: Rgba, least: float) -> Rgba | None:
    """The colour moved the least distance in lightness until it has a contrast of ``least`` on an opaque ground; None where none has.

    Hue and saturation stay (HSL, CSS Color 4 §7); the colour found has whole numbers from 0 to 255, as it is written, and is opaque.
    """
    hue, lightness, saturation = colorsys.rgb_to_hls(*(part / 255 for part in colour[:3]))
    tried = sorted((step / _STEPS for step in range(_STEPS + 1)), key=lambda one: abs(one - lightness))
    for one in tried:
        red, green, blue = (round(255 * part) for part in colorsys.hls_to_rgb(hue, one, saturation))
        if contrast((red, green, blue, 1.0), ground) >= least:
            return red, green, blue, 1.0
    return None
