"""What is asked of a browser, and what it answers."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class CaptureRequest:
    """A page to lay out at ``width`` CSS px. ``parts`` are the pictures it may load, by path: (content type, bytes).

    ``lossless`` asks for PNG, for pictures that are compared; otherwise JPEG, for pictures that are looked at.
    """

    html: str
    parts: Mapping[str, tuple[str, bytes]]
    width: int
    first_screen: int
    pixel_ratio: int
    dark: bool = False
    lossless: bool = False


@dataclass(frozen=True, slots=True)
class Box:
    """Where a marked element is shown, in CSS px from the top left of the page."""

    element: int
    kind: str
    x: float
    y: float
    width: float
    height: float


@dataclass(frozen=True, slots=True)
class Capture:
    """A picture of the page and what was measured on it. Sizes in CSS px; the picture is larger by the pixel ratio.

    ``content_width`` beyond ``width`` means that the reader scrolls sideways; ``cut`` that the page was too tall to be taken whole.
    """

    image: bytes
    content_type: str
    width: int
    height: int
    content_width: int
    cut: bool
    boxes: tuple[Box, ...]
    facts: Mapping[str, int] = field(default_factory=dict)


class CaptureFailed(Exception):
    """The browser could not lay the page out in the time allowed, or died; the text says which."""
