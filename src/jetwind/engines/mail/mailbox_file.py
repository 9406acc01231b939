"""The mails of a mailbox file (mbox, RFC 4155)."""

from __future__ import annotations

import mailbox
import re
import tempfile
from collections.abc import Iterator
from pathlib import Path

#: A line of a mail that begins as a separator does is written with a mark before it, and each mark with one more.
_MARKED = re.compile(rb"(?m)^>(>*From )")


def mails_of(content: bytes) -> Iterator[bytes]:
    """Each mail of a mailbox file, as octets, in order."""
    with tempfile.TemporaryDirectory(prefix="jetwind-") as folder:
        path = Path(folder) / "saved.mbox"
        path.write_bytes(content)
        box = mailbox.mbox(path, create=False)
        try:
            for key in box.keys():  # noqa: SIM118  the mailbox itself iterates over parsed mails
                yield _MARKED.sub(rb"\1", box.get_bytes(key))
        finally:
            box.close()
