"""The links of a message, listed in a helper."""

from __future__ import annotations

from collections.abc import Sequence

from jetwind.core.images.elsewhere import remote_pictures
from jetwind.core.links.listing import Listing, listing_of
from jetwind.core.message import Message, Sample
from jetwind.engines.bounded.helper import Budget, Helper, Start

#: A newsletter with two hundred links takes a twentieth of a second.
_LISTING = Budget(answer_seconds=8.0, all_seconds=10.0, memory=600_000_000)


def listing_bounded(message: Message, readers: Sequence[Sample], *, start: Start) -> Listing:
    """The answer of ``listing_of``.

    Raises:
        PastBudget: it takes more than it may.
    """
    with Helper((message, tuple(readers)), _LISTING, start) as helper:
        return helper.ask(_listing)


def shown_elsewhere_bounded(message: Message, readers: Sequence[Sample], *, start: Start) -> list[str]:
    """The addresses of the pictures of a message that lie elsewhere and show something.

    Raises:
        PastBudget: it takes more than it may.
    """
    with Helper((message, tuple(readers)), _LISTING, start) as helper:
        return helper.ask(_shown_elsewhere)


def _shown_elsewhere(given: tuple[Message, tuple[Sample, ...]]) -> list[str]:
    return [one.address for one in remote_pictures(*given) if not one.is_tracking]


def _listing(given: tuple[Message, tuple[Sample, ...]]) -> Listing:
    return listing_of(*given)
