"""Two contents of one file as a patch in the unified form, which ``git apply`` and ``patch`` take."""

from __future__ import annotations

from collections.abc import Mapping
from difflib import unified_diff


def as_patch(before: bytes, after: bytes, name: str) -> bytes:
    """The patch that turns ``before`` into ``after``; empty where they are the same. Lines end at LF alone, as those programs have it."""
    if before == after:
        return b""
    old, new = _lines(before), _lines(after)
    lines = list(unified_diff(old, new, f"a/{name}", f"b/{name}"))
    return b"".join(_octets(line) for line in lines)


def as_patches(before: Mapping[str, bytes], after: Mapping[str, bytes]) -> bytes:
    """The patch that turns files into others of the same names; for a zip, to be applied where it is unpacked."""
    return b"".join(as_patch(octets, after.get(name, octets), name) for name, octets in before.items())


def _lines(octets: bytes) -> list[str]:
    """Lines with their ends, one character an octet: no octet is lost, whatever the charset."""
    lines = octets.decode("latin-1").split("\n")
    return [f"{line}\n" for line in lines[:-1]] + ([lines[-1]] if lines[-1] else [])


def _octets(line: str) -> bytes:
    """One line of the patch; a last line without an end is marked, as both programs expect."""
    octets = line.encode("latin-1") if not line.startswith(("--- ", "+++ ")) else line.encode("utf-8", "surrogateescape")
    return octets if octets.endswith(b"\n") else octets + b"\n\\ No newline at end of file\n"
