"""Everything that is known of a message's renders, as checks read it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from jetwind.core.profiles.profile import Profile
from jetwind.core.renders.enlarged import Loss
from jetwind.core.renders.measured import Measured
from jetwind.core.renders.showing import Shown


@dataclass(frozen=True)
class Render:
    """One profile's render as it was measured. ``blocked`` are the elements whose pictures do not show."""

    profile: Profile
    measured: Measured
    clipped: bool = False
    blocked: frozenset[int] = frozenset()


@dataclass(frozen=True)
class Renders:
    """Renders by profile in the order in which they are shown; ``failed`` says of the others why there is none.

    ``shares`` is the audience in per cent by profile; empty where nobody said. ``shown`` are the features whose loss shows, None where
    that could not be found out, for the reason in ``untold``. ``reader`` is the sample reader whose copy was rendered, empty where fields
    were left as they are written; elements are those of the unmerged message either way. ``enlarged`` is what is lost with text at 200 %
    in a desktop profile, None where that was not found out.
    """

    renders: Mapping[str, Render]
    failed: Mapping[str, str] = field(default_factory=dict)
    shares: Mapping[str, float] = field(default_factory=dict)
    shown: tuple[Shown, ...] | None = None
    untold: str = ""
    reader: str = ""
    enlarged: tuple[Loss, ...] | None = None

    def where(self, **wanted: object) -> list[Render]:
        """Renders whose profile has these values."""
        return [render for render in self.renders.values() if all(getattr(render.profile, name) == value for name, value in wanted.items())]

    def names(self, ids: Iterable[str]) -> str:
        """Profiles by name, for a sentence."""
        return ", ".join(self.renders[profile_id].profile.name for profile_id in ids if profile_id in self.renders)

    def share(self, ids: Iterable[str]) -> float | None:
        """Per cent of the audience that these profiles stand for, or None where nobody said."""
        return round(sum(self.shares.get(profile_id, 0.0) for profile_id in set(ids)), 1) if self.shares else None
