"""The answer of enlarge.js about a page whose text is set twice as large, as values."""

from __future__ import annotations

import json
from functools import lru_cache
from importlib.resources import files

from jetwind.core.renders.enlarged import Loss


@lru_cache(maxsize=1)
def script() -> str:
    """The function that runs in the page."""
    return files(__package__).joinpath("enlarge.js").read_text("utf-8")


def call(mark: str) -> str:
    """The expression that enlarges a page whose elements carry their number in the attribute ``mark``."""
    return f"({script().rstrip().removesuffix(';')})({json.dumps(mark)})"


def read(answer: str) -> tuple[Loss, ...]:
    """The losses; a text once for each box that cuts it off and each text that it covers."""
    return tuple(dict.fromkeys(Loss.from_row(row) for row in json.loads(answer)))
