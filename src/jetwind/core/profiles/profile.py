"""A profile describes a simulated client on a device."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache

from jetwind.core.facts import table


@dataclass(frozen=True, slots=True)
class Profile:
    """Widths and heights in CSS px; ``pixel_ratio`` is device pixels to a CSS px.

    ``first_screen`` is the height that shows without scrolling. ``is_phone`` turns on the viewport rules of phones.
    """

    id: str
    name: str
    width: int
    first_screen: int
    pixel_ratio: int
    is_phone: bool


@lru_cache(maxsize=1)
def profiles() -> dict[str, Profile]:
    """All profiles by id, in the order in which they are shown."""
    return {profile_id: Profile(id=profile_id, **values) for profile_id, values in table("profiles").items()}
