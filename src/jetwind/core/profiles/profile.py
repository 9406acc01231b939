"""A profile describes a simulated client on a device."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Literal

from jetwind.core.facts import table
from jetwind.core.facts.tables import ClientFonts, ProfileRow
from jetwind.core.profiles.support import Account, Loss, losses, unsimulated

#: The profile whose renders others are held against: an engine that drops next to nothing.
REFERENCE = "desktop-pane"


@dataclass(frozen=True, slots=True)
class Profile:
    """Widths and heights in CSS px; ``pixel_ratio`` is device pixels to a CSS px; ``clip`` and ``style_limit`` in octets, 0 for none.

    ``width`` is the viewport, of which ``chrome`` px are the client's own; ``first_screen`` is the height that shows without
    scrolling. ``night`` is what the client does with a message at night, ``alternative`` how it shows the text of a blocked picture.
    ``images`` may be a stand-in of the declared size for what lies elsewhere: for trials alone. ``is_rare`` keeps it out of the set that is taken where nobody chose. ``fit``
    says what becomes of a message wider than the window: it is scrolled to, or laid out at its own width and shown smaller.
    ``modelled_on`` names the client in the support table whose losses it has.
    """

    id: str
    name: str
    width: int
    first_screen: int
    modelled_on: str
    engine: Literal["standards", "word-processor"] = "standards"
    device: Literal["desktop", "tablet", "phone"] = "desktop"
    pixel_ratio: int = 1
    chrome: int = 0
    is_turned: bool = False
    images: Literal["on", "blocked", "stand-in"] = "on"
    alternative: Literal["styled", "plain", "none"] = "styled"
    night: Literal["asks", "partial", "full"] = "asks"
    is_night: bool = False
    clip: int = 0
    style_limit: int = 0
    prefix: str = ""
    fonts: Literal["desktop", "phone"] = "desktop"
    account: Account = "own"
    is_rare: bool = False
    fit: Literal["scroll", "shrink"] = "scroll"

    @property
    def is_phone(self) -> bool:
        """Whether it is held in one hand: small screen, used by touch."""
        return self.device == "phone"

    @property
    def losses(self) -> tuple[Loss, ...]:
        """The features that it takes out of a message, as the support table says."""
        return losses(self.modelled_on, self.account)

    @property
    def unsimulated(self) -> list[tuple[str, str]]:
        """Title and note of what the table says it supports partly, in a way that the rewrite does not carry out."""
        return unsimulated(self.modelled_on, self.account)

    @property
    def families(self) -> frozenset[str]:
        """The font families that it finds, and the generic ones, lower case."""
        fonts = table("client_fonts", ClientFonts)
        return frozenset(fonts[self.fonts]) | frozenset(fonts["generic"])

    @property
    def viewport(self) -> tuple[int, int]:
        """Width and height of the window in CSS px, as the device is held."""
        return (self.first_screen, self.width) if self.is_turned else (self.width, self.first_screen)

    @property
    def content_width(self) -> int:
        """The px that are left for the message."""
        return self.viewport[0] - self.chrome

    @property
    def can_turn(self) -> bool:
        """Whether the device can be held the other way."""
        return self.device != "desktop"

    def shown(self, *, images: str | None = None, night: bool | None = None, turned: bool | None = None) -> Profile:
        """The same client with pictures blocked or shown, by day or night, upright or turned; None leaves it as it is."""
        changed = self
        if images is not None:
            changed = replace(changed, images="on" if images == "on" else "blocked")
        if night is not None:
            changed = replace(changed, is_night=night)
        if turned is not None and self.can_turn:
            changed = replace(changed, is_turned=turned)
        return changed


def usual() -> tuple[str, ...]:
    """The profiles that are taken where nobody chose."""
    return tuple(profile.id for profile in profiles().values() if not profile.is_rare)


@lru_cache(maxsize=1)
def profiles() -> dict[str, Profile]:
    """All profiles by id, in the order in which they are shown."""
    return {profile_id: Profile(id=profile_id, **values) for profile_id, values in table("profiles", dict[str, ProfileRow]).items()}
