"""The values that a sample may give besides its text, by name: each is a field of the class that it is named after."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from typing import TYPE_CHECKING, TypedDict

if TYPE_CHECKING:
    from jetwind.core.arrivals.differences import Arrivals
    from jetwind.core.checking.brief import Brief
    from jetwind.core.checking.rulebooks import Rulebook
    from jetwind.core.checking.samples import Layout
    from jetwind.core.images.facts import Colours, Fault
    from jetwind.core.images.words import PictureWords
    from jetwind.core.links.answers import Answers, Landed, Problem
    from jetwind.core.message import Envelope, Sample
    from jetwind.core.papers import Papers
    from jetwind.core.styles.contrast import Rgba


class Given(TypedDict, total=False):
    """Circumstances (``context.Context``)."""

    planned: datetime | None
    now: datetime | None
    local_time: bool
    working_title: str
    taken_titles: frozenset[str]
    brief: Brief
    word_list: frozenset[str]
    practice_domains: frozenset[str]
    rulebooks: frozenset[str]
    house: tuple[Rulebook, ...]
    answers: Answers | None
    seen_by_hand: frozenset[str]
    picture_words: PictureWords | None
    papers: Papers | None
    arrivals: Arrivals | None
    settings: Mapping[str, Mapping[str, object]]


class SampleValues(TypedDict, total=False):
    """The values that go with the text of a sample (``samples.CheckSample``)."""

    kind: str
    readers: tuple[Sample, ...]
    known_fields: frozenset[str] | None
    files: Mapping[str, bytes]
    envelope: Envelope | None
    encoding: str
    given: Given
    previous: str | None
    renders: Layout | None


class BlockValues(TypedDict, total=False):
    """The measurements of a block (``renders.measured.Block``)."""

    characters: int
    size: float
    weight: int
    colour: Rgba | None
    ground: Rgba | None
    in_text: bool
    marked: bool
    other_colour: Rgba | None
    is_broken: bool
    lines: tuple[tuple[float, float, float, float], ...]


class MeasuredValues(TypedDict, total=False):
    """The measurements of a page (``renders.measured.Measured``)."""

    width: int
    height: int
    content_width: int
    first_screen: int
    cut: bool
    facts: Mapping[str, int]
    scale: float
    left: float
    without_font: tuple[str, ...]


class AnswerValues(TypedDict, total=False):
    """The answer of an address (``links.answers.Answer``)."""

    problem: Problem
    why: str
    content_type: str
    octets: int
    is_cut: bool
    took_ms: int
    landed: Landed | None
    format: str
    size: tuple[int, int]
    facts: Mapping[str, object] | None
    fresh_until: str


class PictureValues(TypedDict, total=False):
    """The facts of a picture's file (``images.facts.PictureFacts``)."""

    format: str
    digest: str
    colours: Colours
    is_clear: bool
    frames: int
    took_ms: int
    fault: Fault
    has_position: bool
    people: tuple[str, ...]
    flashing: float
    first_detail: float
    most_detail: float
