"""A file of readers, read in a helper: what reads a stranger's file may need any amount of time and memory."""

from __future__ import annotations

from collections.abc import Sequence

from jetwind.core.message import Sample
from jetwind.core.readers import ReadersFile, fewest, read_readers
from jetwind.engines.bounded.helper import Budget, Helper, Start

#: A file of two megabytes takes two seconds, and as many to choose among its readers.
_READING = Budget(answer_seconds=10.0, all_seconds=20.0, memory=500_000_000)


def read_readers_bounded(data: bytes, *, start: Start) -> ReadersFile:
    """The readers of a file, as ``read_readers`` reads them.

    Raises:
        UnusableReaders: it is too large, of no form that is known, or broken.
        PastBudget: it takes more than it may.
    """
    with Helper(data, _READING, start) as helper:
        return helper.ask(read_readers)


def fewest_bounded(readers: Sequence[Sample], most: int, *, start: Start) -> list[Sample]:
    """Up to ``most`` of many readers that show everything, as ``fewest`` chooses them.

    Raises:
        PastBudget: it takes more than it may.
    """
    with Helper(tuple(readers), _READING, start) as helper:
        return [readers[number] for number in helper.ask(_fewest, most)]


def _fewest(readers: tuple[Sample, ...], most: int) -> list[int]:
    return list(fewest(readers, most))
