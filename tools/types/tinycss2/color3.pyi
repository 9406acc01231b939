from typing import Literal, NamedTuple

from tinycss2.ast import Node

class RGBA(NamedTuple):
    red: float
    green: float
    blue: float
    alpha: float

def parse_color(input: str | Node) -> RGBA | Literal["currentColor"] | None: ...
