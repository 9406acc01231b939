"""How much memory a browser's processes take, told from outside."""

from __future__ import annotations

import os
from pathlib import Path

_PAGE = os.sysconf("SC_PAGE_SIZE")


def memory_of(group: int) -> dict[int, int]:
    """Octets of memory that each process of a group has for itself alone, by its number (proc(5), statm: resident less shared)."""
    found: dict[int, int] = {}
    for folder in Path("/proc").iterdir():
        if not folder.name.isdigit():
            continue
        try:
            fields = (folder / "stat").read_text().rpartition(")")[2].split()
            if int(fields[2]) != group:
                continue
            _, resident, shared, *_ = (folder / "statm").read_text().split()
        except (OSError, ValueError):
            continue  # it ended meanwhile
        found[int(folder.name)] = (int(resident) - int(shared)) * _PAGE
    return found
