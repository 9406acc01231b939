"""Measurements of a render: values that checks and comparisons read. The browser's engine fills them in."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import MISSING, dataclass, field, fields, replace
from functools import cached_property, lru_cache
from typing import Literal

from jetwind.core.source.plain import as_table, read
from jetwind.core.styles.contrast import Rgba, contrast, needed_contrast


@dataclass(frozen=True, slots=True)
class Block:
    """An element that shows letters, a link or a picture, in CSS px from the top left of the page.

    ``element`` is its index in the message's tree. ``characters`` counts its own letters that can be seen, of a blocked picture those of
    its alternative text. ``size`` is its type size in px; ``ground`` what stands behind the letters, None where that is a picture or
    cannot be told. ``in_text`` says that it is a link among other words of the same paragraph; ``other_colour`` is then theirs.
    ``marked`` says that more than colour tells the link from them. ``lines`` are the boxes of a link that is broken over several
    lines (x, y, width, height); empty where it has one box.
    """

    element: int
    kind: Literal["text", "link", "image"]
    x: float
    y: float
    width: float
    height: float
    characters: int = 0
    size: float = 0
    weight: int = 400
    colour: Rgba | None = None
    ground: Rgba | None = None
    in_text: bool = False
    marked: bool = True
    other_colour: Rgba | None = None
    is_broken: bool = False
    lines: tuple[tuple[float, float, float, float], ...] = ()

    @property
    def boxes(self) -> tuple[tuple[float, float, float, float], ...]:
        """The boxes where it stands: one for each line, or its one box."""
        return self.lines or ((self.x, self.y, self.width, self.height),)

    @property
    def bottom(self) -> float:
        """The lower edge."""
        return self.y + self.height

    @property
    def right(self) -> float:
        """The right edge."""
        return self.x + self.width

    @property
    def contrast(self) -> float | None:
        """The contrast of its letters on what stands behind them; None where a picture does, or nothing can be told."""
        return None if self.colour is None or self.ground is None else contrast(self.colour, self.ground)

    @property
    def needed_contrast(self) -> float:
        """The least contrast of its letters (WCAG 2.2 SC 1.4.3)."""
        return needed_contrast(self.size, self.weight)

    def as_row(self) -> list[object]:
        """The values in order, for keeping."""
        return [getattr(self, name) for name in _ROW]

    @classmethod
    def from_rows(cls, rows: object) -> tuple[Block, ...]:
        """The blocks of kept values. Equal colours of many blocks are one value: a heavy message has hundreds of thousands of blocks.

        Raises:
            Unfit: something else was kept.
        """
        # Rows kept before a value was added are shorter; what they lack is empty.
        whole = [[*row[: len(_ROW)], *_EMPTY[len(row) :]] for row in read(rows, list[list[object]])]
        return tuple(
            cls(
                element,
                kind,
                x=x,
                y=y,
                width=width,
                height=height,
                characters=characters,
                size=size,
                weight=weight,
                colour=one_of_equal(colour),
                ground=one_of_equal(ground),
                in_text=in_text,
                marked=marked,
                other_colour=one_of_equal(other),
                is_broken=is_broken,
                lines=lines,
            )
            for element, kind, x, y, width, height, characters, size, weight, colour, ground, in_text, marked, other, is_broken, lines in read(
                whole, list[_Row]
            )
        )


@lru_cache(maxsize=4_096)
def one_of_equal(colour: Rgba | None) -> Rgba | None:
    """A colour that is the very same value for all that are equal."""
    return colour


_ROW = tuple(Block.__slots__)
_EMPTY = tuple(None if one.default is MISSING else one.default for one in fields(Block))
_Boxes = tuple[tuple[float, float, float, float], ...]
#: The types of the fields of a block, in order.
_Row = tuple[
    int, Literal["text", "link", "image"], float, float, float, float, int, float, int,
    Rgba | None, Rgba | None, bool, bool, Rgba | None, bool, _Boxes,
]  # fmt: skip


@dataclass(frozen=True)
class Measured:
    """One page as it was laid out. ``width`` is the room for the message, ``content_width`` what it takes; sizes in CSS px.

    ``scale`` is how much smaller it is shown: below 1 where a phone shrinks a wide message to fit, whose width is then its own.
    ``without_font`` are scripts that the machine has no font for, so that their letters and widths are not to be trusted.
    ``left`` is where the message's room begins on the page: not at its left edge in a message that is read from the right.
    ``cut`` says that the page is taller than what is measured as a picture. ``painted`` are boxes with a look of their own (ground,
    border, shadow), each as x, y, width, height and the look as text; empty unless asked for.
    """

    width: int
    height: int
    content_width: int
    first_screen: int
    blocks: tuple[Block, ...] = ()
    cut: bool = False
    facts: Mapping[str, int] = field(default_factory=dict)
    painted: tuple[tuple[float, float, float, float, str], ...] = ()
    scale: float = 1.0
    left: float = 0.0
    without_font: tuple[str, ...] = ()

    @cached_property
    def by_element(self) -> dict[int, Block]:
        """Blocks by element; of a link with letters of its own, the link."""
        found: dict[int, Block] = {}
        for block in self.blocks:
            if block.element not in found or block.kind != "text":
                found[block.element] = block
        return found

    @cached_property
    def text_by_element(self) -> dict[int, Block]:
        """The letters that an element shows itself, by element."""
        return {block.element: block for block in self.of("text")}

    def of(self, *kinds: str) -> Iterable[Block]:
        """Blocks of these kinds, in the order of the source."""
        return (block for block in self.blocks if block.kind in kinds)

    @cached_property
    def characters(self) -> int:
        """Letters that can be seen, alternative texts of blocked pictures counted in."""
        return sum(block.characters for block in self.blocks if block.kind != "link")

    def as_json(self) -> dict[str, object]:
        """For keeping: blocks as rows; ``painted`` and ``left`` serve the picture alone."""
        return as_table({name: getattr(self, name) for name in _KEPT}) | {"blocks": [block.as_row() for block in self.blocks]}

    @classmethod
    def from_json(cls, kept: Mapping[str, object]) -> Measured:
        """The page that was kept."""
        values = read({name: kept[name] for name in _KEPT if name in kept}, cls)
        return replace(values, blocks=Block.from_rows(kept["blocks"]))


_KEPT = ("width", "height", "content_width", "first_screen", "cut", "scale", "without_font", "facts")
