"""The link map: the message's outline with its links at their true heights, threads to the pages at right, hops as knots."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

from django.utils.safestring import SafeString

from jetwind.apps.links.standing import Standing
from jetwind.apps.previews.models import Render
from jetwind.apps.ui.many import many
from jetwind.core.links.listing import Destination, Listing
from jetwind.core.renders.measured import Block

#: Px of the drawing: how wide it is, the outline and where the pages begin; the room of a page, and the least of the outline.
WIDTH, OUTLINE, THREAD_END, PAGES = 744, 190, 372, 388
ROOM, LEAST_HEIGHT = 36, 120
#: Pages that are drawn; the table and the files hold the others.
MOST_DRAWN = 250
#: An outline taller than this is drawn smaller than its width asks for, so that the map stays a map.
_TALLEST = 1_600
_MOST_KNOTS = 5


@dataclass(frozen=True, slots=True)
class Place:
    """A link on the outline, in px of the drawing."""

    x: float
    y: float
    width: float
    height: float
    is_chosen: bool = False


@dataclass(frozen=True, slots=True)
class Thread:
    """One page with its threads: the paths from each place, knots, where its words stand."""

    destination: Destination
    number: int
    standing: Standing
    y: float
    path: str
    knots: list[float]
    more_knots: int
    name: str
    shown: str
    address: str
    is_chosen: bool

    @property
    def classes(self) -> str:
        """The classes that its look depends on."""
        return f"is-{self.standing.state}{' chosen' if self.is_chosen else ''}"


@dataclass(slots=True)
class Drawing:
    """The whole map."""

    height: int
    outline_height: float
    picture: int | None
    places: list[Place] = field(default_factory=list)
    threads: list[Thread] = field(default_factory=list)
    left_out: int = 0

    @property
    def drawn(self) -> SafeString:
        """Threads with their knots, the places on the outline, and the pages at the ends of the threads, as SVG."""
        return many("links/map.svg", drawing=self)


def draw(
    listing: Listing,
    standings: Sequence[Standing],
    hops: Sequence[int],
    addresses: Sequence[str],
    chosen: int | None,
    render: Render | None,
) -> Drawing:
    """The map of a listing; ``standings``, ``hops`` and ``addresses`` of this page are those of its destinations, in order."""
    blocks, scale, height = _outline(render)
    at = {number: _place(blocks, row.element, scale) for number, row in enumerate(listing.rows)}
    # What stands in no render (headers, plain text, what one client alone reads) leaves from the foot of the outline.
    heights = [
        min((place.y + place.height / 2 for row in one.rows if (place := at[row]) is not None), default=height)
        for one in listing.destinations[:MOST_DRAWN]
    ]
    drawing = Drawing(0, round(height, 1), render.pk if render is not None and render.blob_sha256 else None)
    order = sorted(range(len(heights)), key=lambda number: (heights[number], number))
    for number, y in zip(order, _spread([heights[number] for number in order]), strict=True):
        one = listing.destinations[number]
        first = listing.rows[one.rows[0]]
        starts = list(
            dict.fromkeys(
                (round(place.x + place.width, 1), round(place.y + place.height / 2, 1)) if (place := at[row]) else (float(OUTLINE), height)
                for row in one.rows
            )
        )
        drawing.threads.append(
            Thread(
                destination=one,
                number=number,
                standing=standings[number],
                y=round(y, 1),
                path=" ".join(_path(x, start, y) for x, start in starts[:12]),
                knots=[THREAD_END - 64 + 13 * knot for knot in range(min(hops[number], _MOST_KNOTS))],
                more_knots=max(0, hops[number] - _MOST_KNOTS),
                name=shortened(first.name or first.header or one.role, 34),
                shown=_short(one.address),
                address=addresses[number],
                is_chosen=number == chosen,
            )
        )
    drawing.left_out = max(0, len(listing.destinations) - MOST_DRAWN)
    chosen_rows = set(listing.destinations[chosen].rows) if chosen is not None else set()
    drawing.places = [
        Place(place.x, place.y, place.width, place.height, number in chosen_rows) for number, place in at.items() if place is not None
    ]
    drawing.height = math.ceil(max([height + 12, *(thread.y + ROOM / 2 + 8 for thread in drawing.threads)]))
    return drawing


def _outline(render: Render | None) -> tuple[dict[int, Block], float, float]:
    """Where each element stands, how much smaller the outline is than the render, and how tall it is."""
    if render is None:
        return {}, 1.0, float(LEAST_HEIGHT)
    layout = render.layout
    scale = min(OUTLINE / max(layout.width, 1), _TALLEST / max(layout.height, 1))
    blocks: dict[int, Block] = {}
    for block in layout.blocks:
        if block.kind == "link" or block.element not in blocks:
            blocks[block.element] = block
    return blocks, scale, max(layout.height * scale, LEAST_HEIGHT)


def _place(blocks: dict[int, Block], element: int | None, scale: float) -> Place | None:
    block = blocks.get(element) if element is not None else None
    if block is None:
        return None
    x, width = max(0.0, block.x * scale), max(3.0, block.width * scale)
    return Place(round(x, 1), round(block.y * scale, 1), round(min(width, OUTLINE - x), 1), round(max(2.0, block.height * scale), 1))


def _spread(wanted: Sequence[float]) -> list[float]:
    """Heights in rising order, each near where it is wanted, none nearer to another than a page's room."""
    found: list[float] = []
    for height in wanted:
        found.append(max(height, found[-1] + ROOM if found else ROOM / 2))
    # What was pushed down beyond the last that is wanted is moved up again, as far as there is room.
    bottom = max(wanted[-1], len(found) * ROOM) if found else 0.0
    for number in range(len(found) - 1, -1, -1):
        found[number] = min(found[number], bottom - (len(found) - 1 - number) * ROOM)
        if number and found[number] - found[number - 1] >= ROOM:
            break
    return found


def _path(x: float, start: float, end: float) -> str:
    bend = OUTLINE + 16
    return (
        f"M{x:.1f} {start:.1f} H{bend:.1f} C{bend + 50:.1f} {start:.1f} {bend + 40:.1f} {end:.1f} {bend + 88:.1f} {end:.1f} H{THREAD_END}"
    )


def shortened(text: str, most: int) -> str:
    """A text that fits."""
    return text if len(text) <= most else f"{text[: most - 1]}…"


def _short(address: str) -> str:
    """An address as it fits beside its thread: without scheme, its middle left out."""
    bare = address.partition("://")[2].removesuffix("/")
    return bare if len(bare) <= 46 else f"{bare[:26]} … {bare[-16:]}"
