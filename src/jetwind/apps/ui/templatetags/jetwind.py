"""Small drawings and words that every screen shares."""

from __future__ import annotations

import math
from datetime import datetime
from functools import lru_cache
from urllib.parse import urlencode
from uuid import uuid4

from django import template
from django.template.loader import render_to_string
from django.utils import timezone
from django.utils.safestring import SafeString

register = template.Library()

_BARS = {"stop": 3, "fix": 2, "note": 1}


@register.simple_tag
def weight(level: str, *, hollow: object = False) -> SafeString:
    """A level as three short bars: all filled for stop, two for fix, one for note; hollow where there is an excuse."""
    return _weight(level, bool(hollow))


@lru_cache(maxsize=16)
def _weight(level: str, hollow: bool) -> SafeString:
    """Drawn once for each level."""
    filled = 0 if hollow else _BARS.get(level, 0)
    bars = [(1 + 5 * number, "filled" if number < filled else "outline") for number in range(3)]
    return render_to_string("ui/weight.svg", {"level": level, "bars": bars})


@register.simple_tag
@lru_cache(maxsize=8)
def dot(mark: str) -> SafeString:
    """The mark of a station: empty, half or full."""
    return render_to_string("ui/dot.svg", {"mark": mark})


@register.simple_tag
@lru_cache(maxsize=32)
def windsock(stripes: int, *, cleared: bool = False, small: bool = False) -> SafeString:
    """The windsock: limp with nothing clear, lifting stripe by stripe, straight when cleared. Drawn once for each way that it hangs.

    Each of five stripes is a segment that hangs 70° down until it is lifted; lifted ones rise towards the horizontal.
    """
    lifted = 5 if cleared else max(0, min(stripes, 5))
    x, y = 7.0, 10.0
    half = 7.5
    segments = []
    for number in range(5):
        angle = 0.0 if cleared else (12.0 + 6 * number if number < lifted else 70.0)
        radians = math.radians(angle)
        end_x, end_y = x + 9.0 * math.cos(radians), y + 9.0 * math.sin(radians)
        end_half = half - 1.0
        normal = (-math.sin(radians), math.cos(radians))
        points = [
            (x + normal[0] * half, y + normal[1] * half),
            (x - normal[0] * half, y - normal[1] * half),
            (end_x - normal[0] * end_half, end_y - normal[1] * end_half),
            (end_x + normal[0] * end_half, end_y + normal[1] * end_half),
        ]
        segments.append(" ".join(f"{px:.1f},{py:.1f}" for px, py in points))
        x, y, half = end_x, end_y, end_half
    words = "cleared: the windsock stands straight" if cleared else f"windsock: {lifted} of 5 stripes lifted"
    return render_to_string("ui/windsock.svg", {"segments": segments, "words": words, "size": 42 if small else 56})


@register.simple_tag
def placed(left: float, top: float, width: float, height: float) -> str:
    """Where a box stands on a picture, in per cent of the picture, as declarations of a style."""
    return f"left: {left:.3f}%; top: {top:.3f}%; width: {width:.3f}%; height: {height:.3f}%"


@register.simple_tag
def querystring_of(**named: object) -> str:
    """The values that are not empty, as the query of an address."""
    return urlencode({name: value for name, value in named.items() if value not in ("", None)})


@register.inclusion_tag("ui/_intent.html")
def intent() -> dict[str, object]:
    """The key that makes one press of one form one act (see ``once``)."""
    return {"key": uuid4()}


@register.filter
def in_zone(moment: datetime | None) -> str:
    """A time in the viewer's zone with the zone named: Tue 9 Mar 2027 09:00 CET."""
    if moment is None:
        return "no time set"
    local = timezone.localtime(moment)
    return f"{local:%a} {local.day} {local:%b %Y %H:%M} {local.tzname()}"


@register.filter
def kilobytes(octets: int | None) -> str:
    """Octets as KB of 1,024 octets."""
    return f"{(octets or 0) / 1024:,.1f} KB"


@register.filter
def short(digest: str) -> str:
    """The first twelve digits of a digest."""
    return digest[:12]


@register.filter
def counted(number: int, words: str) -> str:
    """A number with its noun: ``{{ 2|counted:"stop,stops" }}``."""
    one, many = words.split(",")
    return f"{number} {one if number == 1 else many}"


@register.filter
def words(text: str) -> list[str]:
    """The words of a text, to loop over."""
    return text.split()
