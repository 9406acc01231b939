"""A reader for tests: it knows the words of each file."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping


class FakeReader:
    """Words by the digest of a file; ``asked`` are the digests it was asked for."""

    name = "fake reader 1"

    def __init__(self, words: Mapping[str, str | None]) -> None:
        self._words = words
        self.asked: list[str] = []

    def read(self, data: bytes) -> str | None:
        """The words that a test gave."""
        digest = hashlib.sha256(data).hexdigest()
        self.asked.append(digest)
        return self._words.get(digest, "")
