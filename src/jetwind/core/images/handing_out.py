"""Lighter pictures as a package: the files under the names of those that they stand for, and a list."""

from __future__ import annotations

import io
import posixpath
import re
import zipfile
from collections.abc import Sequence
from dataclasses import dataclass

from jetwind.core.images.lighter import Candidate
from jetwind.core.source.cells import as_csv

LIST = "list.csv"
#: The ending of a file by the format of a candidate.
ENDINGS = {"JPEG": ".jpg", "PNG": ".png", "GIF": ".gif", "WEBP": ".webp", "AVIF": ".avif"}
#: What is left out of a file name: it may come from a stranger's message.
_UNSAFE = re.compile(r"[^\w.\- ]+")


_COLUMNS = ("file", "stands for", "octets now", "octets then", "saved", "width in px", "height in px", "format", "quality", "likeness")


@dataclass(frozen=True, slots=True)
class Handed:
    """A picture and the file that may stand for it. ``address`` is where it is found now, ``octets`` what it weighs now."""

    name: str
    address: str
    octets: int
    candidate: Candidate


def package_of(handed: Sequence[Handed]) -> bytes:
    """A zip of the files and a list of them, the same for the same pictures."""
    names = _names(handed)
    rows: list[tuple[object, ...]] = []
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as packed:
        for name, one in zip(names, handed, strict=True):
            made = one.candidate
            # Pictures are compressed already.
            packed.writestr(zipfile.ZipInfo(name), made.data, zipfile.ZIP_STORED)
            sizes = (one.octets, made.octets, one.octets - made.octets, made.width, made.height)
            rows.append((name, one.address or one.name, *sizes, made.format, made.quality or "", f"{made.likeness:.4f}"))
        packed.writestr(zipfile.ZipInfo(LIST), as_csv(_COLUMNS, rows).encode("utf-8-sig", "replace"), zipfile.ZIP_DEFLATED)
    return out.getvalue()


def _names(handed: Sequence[Handed]) -> list[str]:
    """A name for each file, with the ending of its format; no two are the same, whatever their capitals."""
    found: dict[str, str] = {}
    for one in handed:
        stem = _UNSAFE.sub("-", posixpath.splitext(posixpath.basename(one.name.replace("\\", "/")))[0]).strip(". -")[:80] or "picture"
        ending = ENDINGS[one.candidate.format]
        name, number = f"{stem}{ending}", 2
        while name.lower() in found or name.lower() == LIST:
            name, number = f"{stem}-{number}{ending}", number + 1
        found[name.lower()] = name
    return list(found.values())
