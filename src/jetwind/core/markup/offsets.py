"""From characters of resolved text back to characters of the source."""

from __future__ import annotations

import html
import re
from functools import lru_cache

from jetwind.core.source import Span

#: What the HTML standard may resolve to other characters: a reference (§13.2.5.72) or a newline pair (§13.2.3.5).
_CHANGES = re.compile(r"\r\n|&(?:#[xX][0-9a-fA-F]+;?|#\d+;?|[A-Za-z][A-Za-z0-9]{1,31};?)")


def source_span(raw: str, run: Span, start: int, end: int) -> Span:
    """The source span of characters ``start`` to ``end`` of the resolved text of ``run``, whose source is ``raw``."""
    if "&" not in raw and "\r" not in raw:
        return Span(run.start + min(start, len(raw)), run.start + min(end, len(raw)))
    places = _places(raw)
    first = places[min(start, len(places) - 1)]
    last = places[min(end, len(places) - 1)]
    return Span(run.start + first, run.start + max(first, last))


@lru_cache(maxsize=32)
def _places(raw: str) -> list[int]:
    """For each character of the resolved text, where it stands in the source; at the end, the length. Asked often for one text."""
    places: list[int] = []
    at = 0
    for match in _CHANGES.finditer(raw):
        places.extend(range(at, match.start()))
        resolved = "\n" if match[0] == "\r\n" else html.unescape(match[0])
        if resolved == match[0]:
            places.extend(range(match.start(), match.end()))
        else:
            places.extend([match.start()] * len(resolved))
        at = match.end()
    places.extend(range(at, len(raw) + 1))
    return places
