"""Where findings and comments lie on a render."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from jetwind.apps.comments.selectors import PlacedThread, ReadThread
from jetwind.apps.review.selectors import ShownFinding
from jetwind.core.markup import Document, Element
from jetwind.core.renders.measured import Measured

#: Left, top, width and height: in CSS px on the page, or in percent on its picture.
Box = tuple[float, float, float, float]


@dataclass(frozen=True, slots=True)
class Pin:
    """A finding's place on a render, in percent of the picture's width and height; of the chosen one all further places too."""

    number: int
    address: str
    sentence: str
    level: str
    is_open: bool
    is_chosen: bool
    left: float
    top: float
    width: float
    height: float
    stack: int
    further: list[Box]


def share(part: float, whole: float) -> float:
    """Part of a whole in percent; 0 of nothing."""
    return round(100 * part / whole, 3) if whole else 0


def box_of(document: Document, layout: Measured, element: Element) -> Box | None:
    """Where an element is: its own block, else what it holds, else the nearest block around it."""
    if element.tag in ("html", "head", "body", "style"):
        return None
    blocks = layout.by_element
    if element.index in blocks:
        block = blocks[element.index]
        return block.x, block.y, block.width, block.height
    inside = [blocks[inner.index] for inner in element.elements() if inner.index in blocks]
    if inside:
        left, top = min(block.x for block in inside), min(block.y for block in inside)
        return left, top, max(block.right for block in inside) - left, max(block.bottom for block in inside) - top
    around = next((blocks[step.index] for step in element.ancestors() if step.index in blocks), None)
    return (around.x, around.y, around.width, around.height) if around is not None else None


def pins_on(findings: list[ShownFinding], document: Document, layout: Measured, profile_id: str, chosen: str, here: Any) -> list[Pin]:
    """Pins of the findings that hold in this profile and whose element can be seen on the picture."""
    placed: list[tuple[ShownFinding, Box, list[Box]]] = []
    for found in findings:
        data = found.record.data
        ids = data.get("profile_ids")
        if ids is not None and profile_id not in ids:
            continue
        wanted = data.get("elements") or found.record.elements
        known = [index for index in wanted if 0 <= index < len(document.all_elements)]
        is_chosen = chosen == found.record.fingerprint
        boxes = [box for index in known if (box := box_of(document, layout, document.all_elements[index])) and box[1] < layout.height]
        if boxes:
            placed.append((found, boxes[0], boxes[1:] if is_chosen else []))
    # Numbered as the eye goes down the picture; pins that share a place have their numbers one below the other.
    placed.sort(key=lambda pair: (pair[1][1], pair[1][0]))
    stacks: Counter[tuple[int, int]] = Counter()
    pins: list[Pin] = []
    for found, (x, y, width, height), further in placed:
        spot = (round(x / 12), round(y / 12))
        left, top, wide, tall = on_picture((x, y, width, height), layout)
        pins.append(
            Pin(
                number=len(pins) + 1,
                address=here(finding=found.record.fingerprint),
                sentence=found.record.sentence,
                level=found.record.level,
                is_open=found.is_open,
                is_chosen=chosen == found.record.fingerprint,
                left=left,
                top=top,
                width=wide,
                height=tall,
                stack=stacks[spot],
                further=[on_picture(one, layout) for one in further],
            )
        )
        stacks[spot] += 1
    return pins


def on_picture(box: Box, layout: Measured) -> Box:
    """A box in percent of the picture, kept inside it and wide enough to be seen."""
    x, y, width, height = box
    left = max(x, 0)
    return (
        share(left, layout.width),
        share(y, layout.height),
        share(max(min(width, layout.width - left), 4), layout.width),
        share(min(height, layout.height - y), layout.height),
    )


@dataclass(frozen=True, slots=True)
class PlacedComments:
    """A thread of comments on a render: the box of its element, and its point there where it has one, in percent of the picture."""

    number: int
    thread: ReadThread
    box: Box
    point: tuple[float, float] | None

    @property
    def at(self) -> tuple[float, float]:
        """Where its number stands: at the point, or at the upper left of the box."""
        return self.point or self.box[:2]


def comments_on(threads: Sequence[PlacedThread], document: Document, layout: Measured) -> list[PlacedComments]:
    """Threads with their number in the list and their place on a render."""
    shown: list[PlacedComments] = []
    for number, placed in enumerate(threads, 1):
        if placed.element is None or (box := box_of(document, layout, document.all_elements[placed.element])) is None:
            continue
        x, y, width, height = box
        left, top = placed.thread.left, placed.thread.top
        point = None
        if left is not None and top is not None:
            point = (share(x + width * left / 100, layout.width), share(y + height * top / 100, layout.height))
        at = (share(max(x, 0), layout.width), share(y, layout.height), share(width, layout.width), share(height, layout.height))
        shown.append(PlacedComments(number, placed.thread, at, point))
    return shown


def within(box: Box | None, x: float, y: float) -> tuple[float, float]:
    """Where a point lies in a box, in per cent of its width and height, kept inside it."""
    left, top, width, height = box or (x, y, 1, 1)
    return min(max(share(x - left, width), 0), 100), min(max(share(y - top, height), 0), 100)
