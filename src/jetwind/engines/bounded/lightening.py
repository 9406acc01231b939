"""Lighter files and copies of pictures, made in a helper: what decodes a stranger's picture may need any amount of time and memory."""

from __future__ import annotations

from collections.abc import Sequence

from jetwind.core.images.bounded import grey_copy, photo_anew
from jetwind.core.images.lighter import Candidate, Form, before_and_after, candidates, lighter
from jetwind.engines.bounded.helper import Budget, Helper, Start

#: A photograph of 1,200 × 800 px takes a tenth of a second.
_LIGHTENING = Budget(answer_seconds=10.0, all_seconds=40.0, memory=600_000_000)


#: Thirty files of a photograph of 1,200 × 800 px take two seconds, with the slow formats ten.
_ALL = Budget(answer_seconds=45.0, all_seconds=45.0, memory=800_000_000)


def lighter_bounded(pictures: Sequence[tuple[bytes, float]], least: float, *, start: Start) -> list[Candidate | None]:
    """For each picture, given with the CSS px that it is shown with, the lightest file that is at least so much like it.

    Raises:
        PastBudget: it takes more than it may.
    """
    with Helper((tuple(pictures), least), _LIGHTENING, start) as helper:
        return [helper.ask(_lighter, number) for number in range(len(pictures))]


def before_and_after_bounded(data: bytes, shown: float, least: float, *, start: Start) -> tuple[bytes, bytes] | None:
    """A picture and its lighter file as two PNG to be looked at, each as a dense screen shows it; None where there is no lighter one.

    Raises:
        PastBudget: it takes more than it may.
    """
    with Helper((((data, shown),), least), _LIGHTENING, start) as helper:
        return helper.ask(_before_and_after)


def candidates_bounded(data: bytes, shown: float, forms: frozenset[Form], *, start: Start) -> list[Candidate]:
    """Every file that may stand for a picture and is lighter, as :func:`candidates` makes them.

    Raises:
        PastBudget: it takes more than it may.
    """
    with Helper((data, shown, forms), _ALL, start) as helper:
        return helper.ask(_candidates)


def photo_bounded(data: bytes, *, start: Start) -> tuple[bytes, int, int] | None:
    """A photo made anew from its pixels, as :func:`photo_anew` makes it.

    Raises:
        PastBudget: it takes more than it may.
    """
    with Helper(data, _LIGHTENING, start) as helper:
        return helper.ask(photo_anew)


def _candidates(given: tuple[bytes, float, frozenset[Form]]) -> list[Candidate]:
    return candidates(*given)


def laid_over_bounded(data: bytes, made: bytes, shown: float, *, start: Start) -> tuple[bytes, bytes]:
    """A picture and a file that may stand for it as two PNG, each as a dense screen shows it.

    Raises:
        PastBudget: it takes more than it may.
    """
    with Helper((data, made, shown), _LIGHTENING, start) as helper:
        return helper.ask(_laid_over)


def _laid_over(given: tuple[bytes, bytes, float]) -> tuple[bytes, bytes]:
    return before_and_after(*given)


def _before_and_after(given: tuple[tuple[tuple[bytes, float], ...], float]) -> tuple[bytes, bytes] | None:
    candidate = _lighter(given, 0)
    data, shown = given[0][0]
    return before_and_after(data, candidate.data, shown) if candidate is not None else None


def _lighter(given: tuple[tuple[tuple[bytes, float], ...], float], number: int) -> Candidate | None:
    pictures, least = given
    data, shown = pictures[number]
    return lighter(data, shown, least)


#: Making a copy of forty million pixels takes two seconds.
_COPYING = Budget(answer_seconds=6.0, all_seconds=6.0, memory=600_000_000)


def grey_copy_bounded(data: bytes, *, start: Start) -> bytes | None:
    """A grey PNG of a picture whose words are to be read; None where it does not open.

    Raises:
        PastBudget: it takes more than it may.
    """
    with Helper(data, _COPYING, start) as helper:
        return helper.ask(grey_copy)
