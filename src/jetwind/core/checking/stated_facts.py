"""The facts of a message with the copy that states them."""

from __future__ import annotations

from jetwind.core.checking.copy import Copy, all_copy
from jetwind.core.message import Message, Shared
from jetwind.core.prose.language import languages_of
from jetwind.core.prose.stated import Stated, stated

_FACTS: Shared[list[tuple[Copy, Stated]]] = Shared("facts")


def facts_of(message: Message) -> list[tuple[Copy, Stated]]:
    """Every fact that the message states, with the piece of copy that states it."""
    return message.shared(_FACTS, lambda: _facts(message))


def _facts(message: Message) -> list[tuple[Copy, Stated]]:
    languages = languages_of(message)
    return [(copy, fact) for copy in all_copy(message) for fact in stated(copy.text, languages)]
