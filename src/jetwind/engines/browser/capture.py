"""The requests to a browser, and its answers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from jetwind.core.errors import JetwindError
from jetwind.core.profiles import Profile, Rewritten
from jetwind.core.renders.measured import Measured

#: Seconds that all pictures of one message may take; nineteen of a large newsletter take ten.
ALL_SECONDS = 60.0
#: Characters and tags of a page, and pixels of its pictures together, beyond which it is heavy; a large newsletter has 150,000, 4,000 and
#: ten million.
HEAVY_CHARACTERS, HEAVY_TAGS, HEAVY_PIXELS = 500_000, 20_000, 60_000_000


def is_heavy(html: str) -> bool:
    """Whether the browser takes hundreds of megabytes for a page even without pictures."""
    return len(html) > HEAVY_CHARACTERS or html.count("<") > HEAVY_TAGS


@dataclass(frozen=True, slots=True)
class CaptureRequest:
    """A page to lay out in a window of ``width`` by ``first_screen`` CSS px, ``room`` px of it for the message.

    ``parts`` are the pictures it may load, by path: (content type, bytes); ``own`` are addresses on servers, with the part that each gets,
    and ``fetched`` is one value for all of the message's; ``pixels`` are those of all its pictures together.
    ``picture`` says what is wanted: a picture to look at (JPEG), one to compare (PNG, lossless), or none, only what is measured; ``paint`` measures the look of boxes too. ``shrinks``:
    a page wider than the room is shown smaller instead of cut off.
    """

    html: str
    parts: Mapping[str, tuple[str, bytes]]
    width: int
    first_screen: int
    pixel_ratio: int = 1
    dark: bool = False
    room: int = 0
    picture: Literal["look", "compare", "none"] = "look"
    paint: bool = False
    shrinks: bool = False
    own: Mapping[str, str] = field(default_factory=dict)
    fetched: str = ""
    pixels: int = 0

    @property
    def is_heavy(self) -> bool:
        """Whether the browser takes hundreds of megabytes for it: such pages are laid out one at a time, and thrown away."""
        return self.pixels > HEAVY_PIXELS or is_heavy(self.html)

    @classmethod
    def of(
        cls, page: Rewritten, profile: Profile, picture: Literal["look", "compare", "none"] = "look", *, paint: bool = False
    ) -> CaptureRequest:
        """The request for a rewritten message in its profile. Without a picture, the device's pixels do not matter."""
        width, height = profile.viewport
        return cls(
            page.html,
            {digest: (part.content_type, part.data) for digest, part in page.parts.items()},
            width=width,
            first_screen=height,
            pixel_ratio=1 if picture == "none" else profile.pixel_ratio,
            # Whether the message may ask for it is the support table's affair: the rewrite has taken out what it may not.
            dark=profile.is_night,
            room=profile.content_width,
            picture=picture,
            paint=paint,
            shrinks=profile.fit == "shrink",
            own=page.own,
            fetched=page.fetched,
            pixels=page.pixels,
        )


@dataclass(frozen=True, slots=True)
class Capture:
    """A picture of the page (empty where none was asked for) and what was measured on it. The picture is larger by the pixel ratio."""

    image: bytes
    content_type: str
    measured: Measured

    @property
    def width(self) -> int:
        """Width of the picture in CSS px, as it is shown."""
        return round(self.measured.width * self.measured.scale)

    @property
    def height(self) -> int:
        """Height of the picture in CSS px, as it is shown."""
        return max(1, round(self.measured.height * self.measured.scale))


class CaptureFailed(JetwindError):
    """The browser could not lay the page out in the time allowed, or died; the text says which.

    ``for_time`` says that it was the time that was lacking: on a machine with less to do it may come out.
    """

    def __init__(self, text: str, *, for_time: bool = False) -> None:
        super().__init__(text)
        self.for_time = for_time
