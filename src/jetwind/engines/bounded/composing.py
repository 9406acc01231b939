"""A message written for one reader in a helper process."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from jetwind.core.message import Message
from jetwind.core.prose.composing import compose
from jetwind.engines.bounded.helper import Budget, Holder

#: One copy of a large newsletter takes a tenth of a second; a test send has up to fifty.
COMPOSING = Budget(answer_seconds=5.0, all_seconds=60.0, memory=600_000_000)


class BoundedComposer:
    """Writes copies of the message that a helper holds."""

    def __init__(self, helper: Holder) -> None:
        self._helper = helper

    def __call__(
        self, *, values: Mapping[str, str], to: str, sender_address: str, subject_mark: str, message_id: str, date: datetime
    ) -> bytes:
        """The octets of a copy; see :func:`jetwind.core.message.compose`.

        Raises:
            PastBudget: it takes too long or needs too much memory.
        """
        return self._helper.ask(
            _compose, dict(values), to=to, sender_address=sender_address, subject_mark=subject_mark, message_id=message_id, date=date
        )


def _compose(
    message: Message, values: dict[str, str], *, to: str, sender_address: str, subject_mark: str, message_id: str, date: datetime
) -> bytes:
    return compose(
        message, values=values, to=to, sender_address=sender_address, subject_mark=subject_mark, message_id=message_id, date=date
    )
