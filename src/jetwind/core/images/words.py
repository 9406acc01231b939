"""Words that stand in pictures: read by a program, or entered by a person."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Protocol

from jetwind.core.images.collecting import Picture
from jetwind.core.images.facts import PictureFacts, is_drawing
from jetwind.core.images.measure import ImageFacts, measure

#: Characters that are kept of one picture: more is a page, and no picture's words.
MOST_CHARACTERS = 2_000
#: A picture that is smaller one way, in px, holds no word that anybody reads.
_LEAST_WIDTH, _LEAST_HEIGHT = 40, 12


@dataclass(frozen=True, slots=True)
class Words:
    """The words in one picture. ``reader`` is the program that read it, empty where a person entered it."""

    text: str
    reader: str = ""


class PictureReader(Protocol):
    """A program that reads words in pictures."""

    @property
    def name(self) -> str:
        """Its name, version and languages: other words may come of another."""

    def read(self, data: bytes) -> str | None:
        """The words in a picture's file, a line for each line of it; None where they cannot be read, or not in time."""


@dataclass(frozen=True)
class PictureWords:
    """The words of a message's pictures by their digests. ``reader`` is the program that reads others, empty where there is none."""

    by_picture: Mapping[str, Words] = field(default_factory=dict)
    reader: str = ""

    @property
    def key(self) -> str:
        """One value, equal for equal words."""
        return key_of(self.by_picture, self.reader)


def key_of(by_picture: Mapping[str, Words], reader: str) -> str:
    """A digest of all words and of the program that reads."""
    rows = sorted((key, words.text, words.reader) for key, words in by_picture.items())
    return hashlib.sha256(json.dumps([rows, reader]).encode("utf-8", "surrogatepass")).hexdigest()


def may_hold_words(picture: Picture) -> bool:
    """Whether a picture shown by an ``img`` may hold words: not what counts openings, does not come, or is too small for a letter."""
    if not picture.images or picture.is_tracking or picture.is_lost:
        return False
    facts = _head(picture)
    return facts is None or not facts.width or (facts.width >= _LEAST_WIDTH and facts.height >= _LEAST_HEIGHT)


def can_be_read(picture: Picture) -> bool:
    """Whether a program may be asked to read a picture: its file is at hand, and is made of pixels."""
    facts = _head(picture)
    return picture.data is not None and facts is not None and facts.width > 0 and not is_drawing(picture.data)


def _head(picture: Picture) -> ImageFacts | PictureFacts | None:
    """The facts in the file's head: no page waits until a stranger's picture has been opened."""
    return measure(picture.data) if picture.data is not None else picture.known
