"""How much of an animation flashes, and how much can be seen in a frame.

A flash is a pair of opposing changes in relative luminance of 10 % or more, where the darker of the two is below 0.80; or a pair of
opposing changes to or from a saturated red (WCAG 2.2, “general flash and red flash thresholds”). A picture is looked at in blocks, so
that a fine pattern that flickers evenly is none, as the definition says.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING

from jetwind.core.styles.contrast import relative_luminance

if TYPE_CHECKING:
    from PIL import Image

#: Blocks along each side of a picture: so few that one of a picture large enough to harm holds many rows of a fine pattern.
SIDE = 12
#: The least change of relative luminance, the most luminance of the darker side, and the flashes a second that are let pass.
CHANGE, DARK, MOST_A_SECOND = 0.1, 0.8, 3
#: A red is saturated where it makes up so much of a colour, and the change counts from so many of its 320 steps.
_RED_SHARE, _RED_STEPS, _RED_CHANGE = 0.8, 320, 20


@dataclass(frozen=True, slots=True)
class Sight:
    """A frame as an eye takes it: when it appears (ms), the luminance of each block, its redness, and how much detail it has."""

    at_ms: int
    luminance: tuple[float, ...]
    redness: tuple[float | None, ...]
    detail: float


def sight_of(frame: Image.Image, at_ms: int) -> Sight:
    """A frame in blocks; where it is clear it stands on white."""
    from PIL import Image, ImageFilter, ImageStat

    seen = frame.convert("RGBA")
    ground = Image.new("RGBA", seen.size, "white")
    ground.alpha_composite(seen)
    plain = ground.convert("RGB")
    blocks = plain.resize((SIDE, SIDE), Image.Resampling.BOX)
    luminance, redness = [], []
    octets = blocks.tobytes()
    for at in range(0, len(octets), 3):
        red, green, blue = (channel / 255 for channel in octets[at : at + 3])
        luminance.append(relative_luminance((octets[at], octets[at + 1], octets[at + 2], 1)))
        total = red + green + blue
        redness.append((red - green - blue) * _RED_STEPS if total and red / total >= _RED_SHARE else None)
    small = plain.convert("L")
    small.thumbnail((128, 128), Image.Resampling.BOX)
    edges = small.filter(ImageFilter.FIND_EDGES)
    # The filter leaves the outermost pixels as they were.
    inner = edges.crop((1, 1, max(2, edges.width - 1), max(2, edges.height - 1)))
    return Sight(at_ms, tuple(luminance), tuple(redness), round(float(ImageStat.Stat(inner).mean[0]), 3))


def flashing_share(sights: Sequence[Sight], round_ms: int) -> float:
    """The share of the area (0 to 1) that flashes more than three times within one second.

    An animation that is shorter is taken to begin anew, as most do.
    """
    rounds = min(8, -(-2_000 // max(round_ms, 1))) if round_ms < 2_000 else 1
    times = [sight.at_ms + number * round_ms for number in range(rounds) for sight in sights]
    flashing = 0
    for block in range(SIDE * SIDE):
        by_light = [sight.luminance[block] for sight in sights] * rounds
        by_red = [sight.redness[block] for sight in sights] * rounds
        flashing += _is_flashing(_turns(by_light, times)) or _is_flashing(_red_turns(by_red, times))
    return flashing / (SIDE * SIDE)


def _is_flashing(turns: list[int]) -> bool:
    """Whether more than three pairs of opposing changes lie within a second; ``turns`` are the times of the changes, in ms."""
    most = 2 * (MOST_A_SECOND + 1)
    return any(later - earlier <= 1_000 for earlier, later in zip(turns, turns[most - 1 :], strict=False))


def _turns(values: Sequence[float], times: Sequence[int]) -> list[int]:
    """When the luminance has changed by 10 % against the way it went before."""
    found: list[int] = []
    low = high = values[0]
    way = 0
    for value, at in zip(values, times, strict=True):
        low, high = min(low, value), max(high, value)
        if way <= 0 and value - low >= CHANGE and low < DARK:
            way = 1
        elif way >= 0 and high - value >= CHANGE and value < DARK:
            way = -1
        else:
            continue
        found.append(at)
        low = high = value
    return found


def _red_turns(values: Sequence[float | None], times: Sequence[int]) -> list[int]:
    """When a saturated red comes or goes."""
    return [
        at
        for (before, now), at in zip(pairwise(values), times[1:], strict=False)
        if (before is not None or now is not None) and abs((now or 0) - (before or 0)) > _RED_CHANGE
    ]
