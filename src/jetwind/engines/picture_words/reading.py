"""Reading the words of a message's pictures, each once, within limits."""

from __future__ import annotations

import time
from collections.abc import Container, Iterator, Sequence

from jetwind.core.images import measure
from jetwind.core.images.collecting import Picture
from jetwind.core.images.words import PictureReader, Words, can_be_read, may_hold_words

#: Pictures of one message that are read, and seconds for all of them; the largest come first.
MOST_READ, ALL_SECONDS = 60, 90.0


def to_read(pictures: Sequence[Picture], known: Container[str]) -> dict[str, Picture]:
    """The pictures whose words are to be read, by digest; without those that are ``known``."""
    wanted = {picture.digest: picture for picture in pictures if may_hold_words(picture) and can_be_read(picture)}
    waiting = sorted((key for key in wanted if key not in known), key=lambda key: -_pixels(wanted[key]))
    return {key: wanted[key] for key in waiting[:MOST_READ]}


def _pixels(picture: Picture) -> int:
    facts = measure(picture.data) if picture.data is not None else None
    return facts.width * facts.height if facts is not None else 0


def read_each(pictures: dict[str, Picture], reader: PictureReader, seconds: float = ALL_SECONDS) -> Iterator[tuple[str, Words]]:
    """The words of each picture as they are read; one that cannot be read has none. Ends where the time is up."""
    deadline = time.monotonic() + seconds
    for key, picture in pictures.items():
        if time.monotonic() > deadline:
            return
        assert picture.data is not None
        yield key, Words(reader.read(picture.data) or "", reader.name)
