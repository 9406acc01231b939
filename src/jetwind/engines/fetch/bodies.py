"""Reading the body of an answer within limits: a body that unpacks to too much is cut at the limit."""

from __future__ import annotations

import re
import zlib
from collections.abc import AsyncIterator
from dataclasses import dataclass

_CHARSET = re.compile(r"charset\s*=\s*[\"']?([\w.:-]{1,40})", re.IGNORECASE)


@dataclass(frozen=True, slots=True)
class Body:
    """The octets of a body, unpacked, and whether the server had more of them."""

    data: bytes
    is_cut: bool = False


def charset_of(content_type: str) -> str | None:
    """The charset that a Content-Type names."""
    found = _CHARSET.search(content_type)
    return found[1] if found else None


async def read(chunks: AsyncIterator[bytes], coding: str, most: int) -> Body:
    """Read a body up to ``most`` octets, counted both as sent and as unpacked (RFC 9110 §8.4: gzip and deflate; bodies in other codings are not unpacked).

    Raises:
        zlib.error: the body is not in the coding that its header names.
    """
    made = bytearray()
    sent = 0
    unpacking = None
    if coding.strip().lower() in ("gzip", "x-gzip"):
        unpacking = zlib.decompressobj(zlib.MAX_WBITS | 16)
    elif coding.strip().lower() == "deflate":
        unpacking = zlib.decompressobj()
    async for chunk in chunks:
        sent += len(chunk)
        if unpacking is None:
            made += chunk
        elif not unpacking.eof:
            made += unpacking.decompress(unpacking.unconsumed_tail + chunk, most + 1 - len(made))
        if len(made) > most or sent > most:
            return Body(bytes(made[:most]), True)
    return Body(bytes(made), unpacking is not None and not unpacking.eof and sent > 0)
