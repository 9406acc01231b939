"""Things that look like a merge field in any syntax: a name between paired or mirrored symbols.

Only the shape is known here, never a product's own syntax. The rules are tight on purpose: ``50%``, ``[image]``, ``(*terms*)``,
Markdown emphasis and percent-encoded octets in an address are ordinary text.
Source: common practice, no published source.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from jetwind.core.source import Span

_MIRROR = str.maketrans("[{<(", "]}>)")

#: An identifier that is at least two characters long and starts with a letter.
_NAME = r"[A-Za-z][A-Za-z0-9]*(?:[_.:-][A-Za-z0-9]+)*"

#: Two or three symbols, a name (perhaps with a default after a bar or colon), then the mirrored symbols.
_DOUBLED = re.compile(
    rf"(?P<open>[\[{{<(%$#*|~^@]{{2,3}})\s*(?P<name>{_NAME})(?P<rest>\s*[|:,][^\[\]{{}}<>\r\n]{{0,60}}?)?\s*(?P<close>[\]}})>%$#*|~^@]{{2,3}})"
)
_BRACE = re.compile(rf"(?<![{{$#%])\$?\{{\s*(?P<name>{_NAME})\s*\}}(?!\}})")
_PERCENT = re.compile(rf"(?<![\w%])%(?P<name>{_NAME})%(?![\w%])")
_SQUARE = re.compile(r"(?<!\[)\[(?P<name>[A-Za-z]+(?:_[A-Za-z]+)+)\](?!\])")
_OPEN_LEFT = re.compile(r"\{\{(?![^{}]*\}\})[^{}<>\r\n]{0,40}")

#: Doubled symbols that are emphasis or drawing in ordinary plain text,.
_ORDINARY_OPENINGS = frozenset({"**", "***", "~~", "~~~", "##", "###", "||", "|||", "^^", "^^^", "$$$", "@@@"})


def token_shapes(text: str, *, in_address: bool = False) -> Iterator[Span]:
    """Spans of everything token-shaped in ``text``, in order and without overlap.

    ``in_address`` reads ``text`` as a URL, where ``%`` before two hexadecimal digits is an octet (RFC 3986 §2.1).
    """
    found: list[Span] = []
    for match in _DOUBLED.finditer(text):
        opening, closing = match["open"], match["close"]
        if opening in _ORDINARY_OPENINGS or "(" in opening or closing != opening.translate(_MIRROR)[::-1]:
            continue
        found.append(Span(match.start(), match.end()))
    for pattern in (_BRACE, _SQUARE):
        found.extend(Span(match.start(), match.end()) for match in pattern.finditer(text))
    for match in _PERCENT.finditer(text):
        octet = in_address and re.match(r"[0-9A-Fa-f]{2}", match["name"])
        if len(match["name"]) >= 3 and not octet:
            found.append(Span(match.start(), match.end()))
    found.extend(Span(match.start(), match.end()) for match in _OPEN_LEFT.finditer(text))
    end = -1
    for span in sorted(found, key=lambda item: (item.start, -item.end)):
        if span.start >= end:
            yield span
            end = span.end
