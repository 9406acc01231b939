from collections.abc import Iterator
from typing import Literal

from tinycss2.ast import Node

class Color:
    space: str
    coordinates: tuple[float | None, ...]
    alpha: float
    def __init__(self, space: str, coordinates: tuple[float | None, ...], alpha: float) -> None: ...
    def __iter__(self) -> Iterator[float | None]: ...
    def to(self, space: str) -> Color: ...

def parse_color(input: str | Node) -> Color | Literal["currentcolor"] | None: ...
