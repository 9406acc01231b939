"""The lines above a large render: its measures, and all that a reader of the render should know."""

from __future__ import annotations

from collections.abc import Iterator

from jetwind.apps.previews.models import Render
from jetwind.core.profiles import Profile
from jetwind.core.renders.measured import Measured


def caption(profile: Profile, shot: Render | None, layout: Measured | None) -> str:
    """One line; the parts stand from the ordinary to the remarkable."""
    return " · ".join(_parts(profile, shot, layout))


def _parts(profile: Profile, shot: Render | None, layout: Measured | None) -> Iterator[str]:
    yield f"{profile.content_width} px" + (f" at {profile.pixel_ratio}×" if profile.pixel_ratio > 1 else "")
    if layout is None or shot is None:
        return
    yield f"{layout.height} px tall"
    if layout.scale < 1:
        yield f"{layout.width} px wide, shown at {layout.scale:.0%} to fit".replace("%", " %")
    if layout.without_font:
        yield f"no font on this machine for {', '.join(layout.without_font)}, whose letters are boxes"
    if unsized := layout.facts.get("unsized"):
        yield f"heights are not to be trusted: {_counted(unsized, 'picture', 'pictures')} not loaded and without a height, drawn half as high as wide"
    if layout.content_width > layout.width:
        yield f"content {layout.content_width} px wide"
    if layout.cut:
        yield f"the page is {layout.facts.get('whole_height')} px tall and shown to here"
    if shot.clipped:
        yield "the client cuts it off"
    if shot.departure:
        yield f"departs {shot.departure:.1f} %".replace(".0 %", " %")
    if shot.lacking:
        names = ", ".join(address.rpartition("/")[2][:40] or address[:40] for address in shot.lacking[:3])
        more = " …" if len(shot.lacking) > 3 else ""
        yield f"without {_counted(len(shot.lacking), 'picture that lies', 'pictures that lie')} elsewhere: {names}{more}"


def _counted(number: int, one: str, many: str) -> str:
    return f"{number} {one if number == 1 else many}"
