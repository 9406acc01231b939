"""The stations of the walk, under which findings are shown: on screens, and in every report."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Station:
    """One stop of the walk: its slug, its name, and the check groups whose findings belong to it."""

    slug: str
    name: str
    groups: tuple[str, ...]


STATIONS = (
    Station("envelope", "Envelope", ("envelope",)),
    Station("appearance", "Appearance", ("appearance",)),
    Station("wording", "Wording", ("wording",)),
    Station("fields", "Fields", ("fields",)),
    Station("links", "Links", ("links",)),
    Station("images", "Images", ("images",)),
    Station("access", "Access", ("access",)),
    Station("spam-risk", "Spam risk", ("spam",)),
    Station("footer", "Footer", ("footer",)),
    Station("plain-text", "Plain text", ("text",)),
    Station("test-sends", "Test sends", ("sending",)),
    Station("sign-off", "Sign-off", ()),
)

_STATION_OF = {group: station for station in STATIONS for group in station.groups}


def station_of(check_id: str) -> Station:
    """The station at which a check's findings are shown.

    Raises:
        KeyError: no station takes the group of this id.
    """
    return _STATION_OF[check_id.split(".", 1)[0]]
