"""Small files that a person names: read within a limit, and only where they have an end."""

from __future__ import annotations

import os
import stat
from pathlib import Path

#: Octets of a file that describes something: a brief, a syntax, a rulebook.
MOST_OCTETS = 1_000_000


def read_file(path: Path, most: int = MOST_OCTETS) -> bytes:
    """The octets of a file.

    Raises:
        OSError: it cannot be read, has more than ``most`` octets, or is a folder, a device or a pipe, which have no end that can be known.
    """
    # A pipe that nobody writes to would be waited for while it is opened.
    descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    with os.fdopen(descriptor, "rb") as file:
        if not stat.S_ISREG(os.fstat(descriptor).st_mode):
            raise OSError("it is no file but a folder, a device or a pipe")
        data = file.read(most + 1)
    if len(data) > most:
        raise OSError(f"it has more than {most:,} octets")
    return data


def read_text(path: Path, most: int = MOST_OCTETS) -> str:
    """The text of a file in UTF-8.

    Raises:
        OSError: as :func:`read_file`, or it is no text in UTF-8.
    """
    try:
        return read_file(path, most).decode("utf-8-sig")
    except UnicodeDecodeError as wrong:
        raise OSError(f"it is no text in UTF-8: {wrong.reason} at octet {wrong.start:,}") from wrong


def why(failure: OSError) -> str:
    """The reason why a file could not be read, in words."""
    return failure.strerror or str(failure)
