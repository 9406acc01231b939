"""A message written for one reader in a helper process."""

from __future__ import annotations

from typing import Any

from jetwind.core.arrivals.composing import compose
from jetwind.core.message import Message
from jetwind.engines.bounded.helper import Budget, Holder
from jetwind.engines.names import signed

#: One copy of a large newsletter takes a tenth of a second; a test send has up to fifty.
COMPOSING = Budget(answer_seconds=5.0, all_seconds=60.0, memory=600_000_000)


class BoundedComposer:
    """Writes copies of the message that a helper holds."""

    def __init__(self, helper: Holder) -> None:
        self._helper = helper

    def __call__(self, **how: Any) -> bytes:
        """The octets of a copy, signed where the practice field's house is its sender.

        The arguments are those of :func:`jetwind.core.arrivals.composing.compose`.

        Raises:
            PastBudget: it takes too long or needs too much memory.
        """
        return self._helper.ask(_compose, how)


def _compose(message: Message, how: dict[str, Any]) -> bytes:
    return signed(compose(message, **how), how["sender_address"])
