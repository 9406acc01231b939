"""The balance of text and picture, drawn on the outline of the message: where pictures stand, where text does, and what the check allows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from jetwind.apps.review.selectors import Walk
from jetwind.apps.workspace.selectors import options_of
from jetwind.core.checks.images.balance import BalanceOptions, covered, judged
from jetwind.core.renders.measured import Block

#: Px of the drawing: how wide the outline is, and how tall it is at most.
_WIDE, _TALLEST = 160, 360
#: Boxes that are drawn.
_MOST = 600
#: Px of a box that has room for a number.
_LEAST_NUMBERED = 9


@dataclass(frozen=True, slots=True)
class Balance:
    """``boxes`` are kind, x, y, width, height and a number or nothing, in px of the drawing; ``share`` and ``most`` in per cent."""

    profile: str
    width: float
    height: float
    boxes: list[tuple[str, float, float, float, float, str]]
    share: int
    most: int
    pictures: int
    texts: int

    @property
    def is_over(self) -> bool:
        """Whether pictures cover more than the check allows."""
        return self.share > self.most


def balance_of(walk: Walk, numbers: Mapping[int, int] | None = None) -> Balance | None:
    """The balance as the check judges it; None without a render, or where nothing is shown. ``numbers`` are those of pictures, by element."""
    render = judged(walk.context.renders)
    share = covered(render)
    if render is None or share is None:
        return None
    options = options_of(walk.revision.mailing.workspace, "images.text-ratio")
    assert isinstance(options, BalanceOptions)
    measured = render.measured
    scale = min(_WIDE / max(measured.width, 1), _TALLEST / max(measured.height, 1))
    shown = [block for block in measured.of("text", "image") if block.width > 0 and block.height > 0 and not block.is_broken]
    return Balance(
        render.profile.name,
        round(measured.width * scale, 1),
        height=round(measured.height * scale, 1),
        boxes=[_box(block, scale, (numbers or {}).get(block.element)) for block in shown[:_MOST]],
        share=round(100 * share),
        most=round(100 * options.most_share),
        pictures=sum(block.kind == "image" for block in shown),
        texts=sum(block.kind == "text" for block in shown),
    )


def _box(block: Block, scale: float, number: int | None) -> tuple[str, float, float, float, float, str]:
    x, y, width, height = (round(value * scale, 1) for value in (block.x, block.y, block.width, block.height))
    label = str(number) if number is not None and min(width, height) >= _LEAST_NUMBERED else ""
    return "picture" if block.kind == "image" else "words", x, y, max(width, 0.5), max(height, 0.5), label
